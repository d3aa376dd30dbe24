use super::{Described, Tables, described};
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::{self, Document};

fn harbour() -> Tables {
    let text = "database: harbour\ntables:\n  bill: {id: INT UNSIGNED, vessel: VARCHAR, dues_eur: DECIMAL, made: DATE, paid: BOOLEAN, note: VARCHAR NULL}\n  hold: {id: INT UNSIGNED, berth: VARCHAR NOT NULL, bill: INT UNSIGNED NULL}\n";
    let mut report = Report::new("d.yaml", text);
    let document = document::read_into(&mut report, &|_| None);
    assert!(report.finish().is_empty());
    let Some(Document::Database(found)) = document else { panic!("no description") };
    found.tables.clone()
}

fn shown(described: &Described) -> String {
    let columns = match &described.columns {
        None => "?".to_owned(),
        Some(columns) => {
            let one = |c: &super::Column| {
                let of = if c.type_name.is_empty() { "?" } else { &c.type_name };
                format!("{} {of}{}", c.name, if c.nullable { "?" } else { "" })
            };
            columns.iter().map(one).collect::<Vec<_>>().join(", ")
        }
    };
    let faults: Vec<String> = described
        .faults
        .iter()
        .map(|f| {
            let near = f.near.as_deref().map(|near| format!(" ({near}?)")).unwrap_or_default();
            format!("{}{}{near}", f.column_of.as_deref().map(|of| format!("{of}.")).unwrap_or_default(), f.name)
        })
        .collect();
    if faults.is_empty() { columns } else { format!("{columns}; {}", faults.join(" ")) }
}

#[test]
fn statements_are_described_by_their_tables() {
    let tables = harbour();
    for (text, wanted) in [
        ("SELECT vessel, paid, note FROM bill WHERE id = ?", "vessel VARCHAR, paid BOOLEAN, note VARCHAR?"),
        ("SELECT * FROM hold", "id INT UNSIGNED, berth VARCHAR, bill INT UNSIGNED?"),
        (
            "SELECT h.berth AS place, b.* FROM hold h LEFT JOIN bill AS b ON b.id = h.bill",
            "place VARCHAR, id INT UNSIGNED?, vessel VARCHAR?, dues_eur DECIMAL?, made DATE?, paid BOOLEAN?, note VARCHAR?",
        ),
        (
            "SELECT COUNT(*) AS n, SUM(dues_eur) AS total, MAX(made) AS last, MIN(paid) AS any_paid FROM bill",
            "n BIGINT, total DOUBLE?, last DATE?, any_paid ??",
        ),
        ("SELECT COUNT(*), id + 1, id / 2 FROM bill", "COUNT(*) BIGINT, id + 1 DOUBLE, id / 2 DOUBLE?"),
        ("SELECT count( * ) FROM bill", "?"),
        (
            "SELECT COALESCE(note, vessel) AS a, IF(paid, 1, 2) AS b, CASE WHEN paid THEN vessel END AS c, NOT paid AS d FROM bill",
            "a VARCHAR, b BIGINT, c VARCHAR?, d INT",
        ),
        (
            "SELECT (SELECT COUNT(*) FROM hold WHERE hold.bill = bill.id) AS holds, ST_X(id) AS x FROM bill",
            "holds BIGINT?, x ??",
        ),
        ("WITH open (x) AS (SELECT 1) SELECT anything FROM open", "anything ??"),
        ("WITH due AS (SELECT id, made FROM bill) SELECT made, di FROM due", "made DATE, di ??; due.di (id?)"),
        ("SELECT t.n FROM (SELECT COUNT(*) AS n FROM bill) t ORDER BY n", "n BIGINT"),
        (
            "SELECT vessel AS v, COUNT(*) AS c FROM bill GROUP BY v WITH ROLLUP HAVING c > 1 ORDER BY c",
            "v VARCHAR?, c BIGINT?",
        ),
        ("SELECT id FROM bill UNION ALL SELECT id FROM hold", "id INT UNSIGNED"),
        ("SELECT id, vessel FROM bill UNION SELECT bill, id FROM hold", "id INT UNSIGNED?, vessel ?"),
        ("SELECT id FROM bill JOIN hold USING (id)", "id ??"),
        ("SELECT id FROM other.bills", "id ??"),
        ("SELECT vesel FROM bil", "vesel ??; bil (bill?)"),
        ("SELECT vesel FROM bill ORDER BY maed", "vesel ??; bill.vesel (vessel?) bill.maed (made?)"),
        ("SELECT b.berth FROM bill b", "berth ??; b.berth"),
        (
            "SELECT 1 FROM bill WHERE EXISTS (SELECT 1 FROM hold WHERE bill = bil.id AND brth = vessel)",
            "1 BIGINT; hold.brth (berth?)",
        ),
        ("INSERT INTO bill (vessel, mode) VALUES (?, DEFAULT)", "; bill.mode (made?)"),
        (
            "INSERT INTO bill (vessel) VALUES (?) ON DUPLICATE KEY UPDATE note = VALUES(vesel) RETURNING id",
            "id INT UNSIGNED; bill.vesel (vessel?)",
        ),
        ("INSERT INTO hold (id, berth) SELECT id, vesel FROM bill", "; bill.vesel (vessel?)"),
        ("UPDATE bill SET payd = TRUE WHERE id = ? AND note IS NULL", "; bill.payd (paid?)"),
        ("DELETE FROM hold WHERE brth = ?", "; hold.brth (berth?)"),
        ("CALL settle(?)", "?"),
    ] {
        assert_eq!(shown(&described(text, &tables)), wanted, "{text}");
    }
}
