-- Instants are microseconds since 1970 UTC; ids of runs are UUIDs (version 7), so they sort by time.

CREATE TABLE revision (
    kind     VARCHAR(20)  NOT NULL,
    name     VARCHAR(60)  NOT NULL,
    number   INT UNSIGNED NOT NULL,
    path     VARCHAR(500) NOT NULL,
    source   MEDIUMTEXT   NOT NULL,
    -- The text of the file the document names: a service's OpenAPI document.
    file     MEDIUMTEXT   NULL,
    digest   CHAR(64)     NOT NULL,
    created  BIGINT       NOT NULL,
    PRIMARY KEY (kind, name, number)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE live (
    kind     VARCHAR(20)  NOT NULL,
    name     VARCHAR(60)  NOT NULL,
    number   INT UNSIGNED NOT NULL,
    since    BIGINT       NOT NULL,
    PRIMARY KEY (kind, name)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One row. Every deploy counts it up first, so deploys come one after another.
CREATE TABLE generation (
    id       TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    number   BIGINT UNSIGNED  NOT NULL
) ENGINE = InnoDB;
INSERT INTO generation (id, number) VALUES (1, 0);

CREATE TABLE run (
    id         BINARY(16)        NOT NULL PRIMARY KEY,
    workflow   VARCHAR(60)       NOT NULL,
    revision   INT UNSIGNED      NOT NULL,
    state      VARCHAR(12)       NOT NULL,
    entry      VARCHAR(600)      NOT NULL,
    status     SMALLINT UNSIGNED NULL,
    started    BIGINT            NOT NULL,
    took       BIGINT            NOT NULL,
    request_id VARCHAR(100)      NOT NULL,
    trace_id   CHAR(32)          NOT NULL,
    caller     VARCHAR(60)       NULL,
    input      MEDIUMTEXT        NOT NULL,
    reply      MEDIUMTEXT        NULL,
    failure    MEDIUMTEXT        NULL,
    INDEX run_by_time (started),
    INDEX run_by_workflow (workflow, started),
    INDEX run_by_state (state, started)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE step (
    run        BINARY(16)   NOT NULL,
    seq        INT UNSIGNED NOT NULL,
    paragraph  INT UNSIGNED NOT NULL,
    state      VARCHAR(12)  NOT NULL,
    started    BIGINT       NOT NULL,
    took       BIGINT       NOT NULL,
    attempts   INT UNSIGNED NOT NULL,
    sent       MEDIUMTEXT   NULL,
    outcome    MEDIUMTEXT   NULL,
    failure    MEDIUMTEXT   NULL,
    PRIMARY KEY (run, seq)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Counts per workflow and minute. Every run is counted, also one whose details were let go.
CREATE TABLE tally (
    workflow   VARCHAR(60)     NOT NULL,
    minute     BIGINT          NOT NULL,
    runs       BIGINT UNSIGNED NOT NULL,
    failed     BIGINT UNSIGNED NOT NULL,
    let_go     BIGINT UNSIGNED NOT NULL,
    took       BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (workflow, minute)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE operator_token (
    hash       CHAR(64)    NOT NULL PRIMARY KEY,
    prefix     VARCHAR(12) NOT NULL,
    created    BIGINT      NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE session (
    hash       CHAR(64) NOT NULL PRIMARY KEY,
    created    BIGINT   NOT NULL,
    expires    BIGINT   NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
