-- Waits of a job that were moved by hand: a JSON object of effects and instants in microseconds.
ALTER TABLE job ADD COLUMN moved TEXT NULL;

-- Workflows that an operator holds: none of their jobs begins.
CREATE TABLE workflow_hold (
    workflow VARCHAR(60)  NOT NULL PRIMARY KEY,
    since    BIGINT       NOT NULL,
    who      VARCHAR(200) NOT NULL,
    reason   VARCHAR(500) NOT NULL,
    -- Counted up by who puts a job of it aside.
    version  BIGINT UNSIGNED NOT NULL DEFAULT 0
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Jobs that were retried by hand, as they stood before, so that a retry can be undone while its job has not begun again.
CREATE TABLE retried (
    job         BINARY(16)       NOT NULL PRIMARY KEY,
    -- The change that retried it, and when.
    operation   BINARY(16)       NOT NULL,
    at          BIGINT           NOT NULL,
    -- The fence of the job since then.
    fence       INT UNSIGNED     NOT NULL,
    -- Columns of `job`.
    phase       TINYINT UNSIGNED NOT NULL,
    claim_rank  TINYINT UNSIGNED NOT NULL,
    ready_at    BIGINT           NOT NULL,
    due         BIGINT           NOT NULL,
    workflow    VARCHAR(60)      NOT NULL,
    revision    INT UNSIGNED     NOT NULL,
    generation  BIGINT UNSIGNED  NOT NULL,
    started     BIGINT           NULL,
    ended       BIGINT           NULL,
    stop        TINYINT UNSIGNED NOT NULL,
    attempt     INT UNSIGNED     NOT NULL,
    retries     INT UNSIGNED     NOT NULL,
    outcomes    INT UNSIGNED     NOT NULL,
    progress    DOUBLE           NULL,
    status      SMALLINT UNSIGNED NULL,
    reply       MEDIUMTEXT       NULL,
    failure     MEDIUMTEXT       NULL,
    input       MEDIUMTEXT       NOT NULL,
    sealed      TINYINT UNSIGNED NOT NULL,
    expires     BIGINT           NULL,
    -- Columns of `run`, where the journal had it.
    run_workflow INT UNSIGNED     NULL,
    run_revision INT UNSIGNED     NULL,
    run_state   VARCHAR(10)       NULL,
    run_entry   INT UNSIGNED      NULL,
    run_status  SMALLINT UNSIGNED NULL,
    run_started BIGINT            NULL,
    run_duration BIGINT           NULL,
    run_caller  VARCHAR(255)      NULL,
    run_failed_at INT UNSIGNED    NULL,
    run_kind    VARCHAR(20)       NULL,
    run_detail  VARCHAR(300)      NULL,
    run_segment BIGINT UNSIGNED   NULL,
    run_place   SMALLINT UNSIGNED NULL,
    INDEX retried_by_operation (operation),
    INDEX retried_by_age (at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
