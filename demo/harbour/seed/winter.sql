-- Bills of the winter that are still open: what a round of reminders goes over in the live demo. Cases and
-- tests begin without them.
INSERT IGNORE INTO bill (id, harbour, imo, vessel, nights, dues_eur, made, paid)
    SELECT 100 + n.seq, IF(n.seq % 4 = 3, 'NES', 'LIN'),
           ELT(1 + n.seq % 5, '9074720', '9305478', '9417350', '9210219', '9748694'),
           ELT(1 + n.seq % 5, 'Havbris', 'Kvikk', 'Oljegard', 'Nesholm Ferge', 'Morild'),
           1 + n.seq % 6, 78.08 + 41.6 * (n.seq % 17), DATE_ADD('2026-12-01', INTERVAL n.seq DAY), FALSE
    FROM seq_1_to_60 n;
