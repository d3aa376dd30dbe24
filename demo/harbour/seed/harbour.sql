-- The harbour office's own records, for the `sql` steps of the demo.
CREATE TABLE IF NOT EXISTS bill (
    id       INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    harbour  CHAR(3)       NOT NULL,
    imo      CHAR(7)       NOT NULL,
    vessel   VARCHAR(60)   NOT NULL,
    nights   INT           NOT NULL,
    dues_eur DECIMAL(10,2) NOT NULL,
    made     DATE          NOT NULL,
    paid     BOOLEAN       NOT NULL DEFAULT FALSE
);
CREATE TABLE IF NOT EXISTS report (
    id       INT UNSIGNED NOT NULL PRIMARY KEY,
    harbour  CHAR(3)      NOT NULL,
    at       VARCHAR(30)  NOT NULL,
    kind     VARCHAR(12)  NOT NULL,
    text     VARCHAR(300) NOT NULL
);
INSERT IGNORE INTO bill (id, harbour, imo, vessel, nights, dues_eur, made, paid) VALUES
    (1, 'LIN', '9074720', 'Havbris',      2, 844.80, '2027-02-03', TRUE),
    (2, 'LIN', '9305478', 'Kvikk',        5, 390.40, '2027-02-11', TRUE),
    (3, 'LIN', '9417350', 'Oljegard',     1, 879.36, '2027-02-19', FALSE),
    (4, 'NES', '9210219', 'Nesholm Ferge', 1, 204.80, '2027-02-20', TRUE),
    (5, 'NES', '9748694', 'Morild',       3, 946.56, '2027-02-27', FALSE);
CREATE TABLE IF NOT EXISTS hold (
    id       INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    harbour  CHAR(3)     NOT NULL,
    imo      CHAR(7)     NOT NULL,
    berth    VARCHAR(10) NOT NULL,
    state    VARCHAR(10) NOT NULL DEFAULT 'held',
    reminded INT         NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS arrival (
    id       INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    harbour  CHAR(3)     NOT NULL,
    imo      CHAR(7)     NOT NULL,
    arrives  VARCHAR(30) NOT NULL,
    vessel   VARCHAR(60) NULL,
    pilot    VARCHAR(60) NULL
);
CREATE TABLE IF NOT EXISTS clearance (
    reference VARCHAR(40) NOT NULL PRIMARY KEY,
    imo       CHAR(7)     NOT NULL,
    cargo     VARCHAR(60) NOT NULL,
    decision  VARCHAR(10) NOT NULL,
    decided   VARCHAR(30) NOT NULL
);
CREATE TABLE IF NOT EXISTS reminder (
    bill     INT UNSIGNED NOT NULL,
    at       VARCHAR(30)  NOT NULL,
    text     VARCHAR(300) NOT NULL,
    PRIMARY KEY (bill, at)
);
CREATE TABLE IF NOT EXISTS cargo (
    manifest  VARCHAR(60)  NOT NULL,
    line      INT          NOT NULL,
    imo       CHAR(7)      NOT NULL,
    consignee VARCHAR(60)  NOT NULL,
    goods     VARCHAR(120) NOT NULL,
    weight_kg INT          NOT NULL,
    un_number CHAR(4)      NULL,
    PRIMARY KEY (manifest, line),
    KEY (imo)
);
CREATE TABLE IF NOT EXISTS watch (
    at       VARCHAR(30)  NOT NULL PRIMARY KEY,
    arrivals INT          NOT NULL,
    holds    INT          NOT NULL
);
