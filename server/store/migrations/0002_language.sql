-- Steps of invoked workflows stand below the number of the step that invokes them and belong to no
-- paragraph of the run's own sheet; `items` are the positions in the loops around.
ALTER TABLE step
    ADD COLUMN number   VARCHAR(100) NULL,
    ADD COLUMN kind     VARCHAR(20)  NULL,
    ADD COLUMN title    VARCHAR(300) NULL,
    ADD COLUMN items    VARCHAR(100) NULL;

-- What a workflow remembers between runs: one JSON object, replaced only by who knows its version.
CREATE TABLE kept (
    workflow VARCHAR(60)     NOT NULL PRIMARY KEY,
    version  BIGINT UNSIGNED NOT NULL,
    value    MEDIUMTEXT      NOT NULL,
    changed  BIGINT          NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- XChaCha20-Poly1305; the name is authenticated with it, so no value can be moved to another name.
CREATE TABLE secret (
    name     VARCHAR(60)    NOT NULL PRIMARY KEY,
    nonce    BINARY(24)     NOT NULL,
    sealed   VARBINARY(9000) NOT NULL,
    created  BIGINT         NOT NULL,
    changed  BIGINT         NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
