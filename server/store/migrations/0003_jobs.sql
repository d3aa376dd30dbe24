-- What was live when: every deploy and retirement counts the generation up, and names what it changed.
-- A number that is null took the document off.
CREATE TABLE deployed (
    kind       VARCHAR(20)     NOT NULL,
    name       VARCHAR(60)     NOT NULL,
    generation BIGINT UNSIGNED NOT NULL,
    number     INT UNSIGNED    NULL,
    PRIMARY KEY (kind, name, generation)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
INSERT INTO deployed (kind, name, generation, number) SELECT kind, name, (SELECT number FROM generation), number FROM live;

-- One row. From its bytes come ids and addresses that nobody can guess.
CREATE TABLE installation (
    id     TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    secret BINARY(32)       NOT NULL
) ENGINE = InnoDB;
INSERT INTO installation (id, secret) VALUES (1, RANDOM_BYTES(32));

-- Phases: 1 ready at `wake` (scheduled, queued or waiting), 2 running (`wake` is when it was taken),
-- 3 behind another of its turn, 11 succeeded, 12 failed, 13 cancelled (`wake` is when it ended).
-- One index serves claiming, counting by lane, and finding what ended long ago.
CREATE TABLE job (
    id          BINARY(16)        NOT NULL PRIMARY KEY,
    phase       TINYINT UNSIGNED  NOT NULL,
    lane        VARCHAR(60)       NOT NULL,
    -- 0 for what goes on, 1 to 9 for what is to begin.
    place       TINYINT UNSIGNED  NOT NULL,
    wake        BIGINT            NOT NULL,
    workflow    VARCHAR(60)       NOT NULL,
    revision    INT UNSIGNED      NOT NULL,
    generation  BIGINT UNSIGNED   NOT NULL,
    priority    TINYINT UNSIGNED  NOT NULL,
    tag         VARCHAR(200)      NULL,
    batch       BINARY(16)        NULL,
    turn        VARCHAR(300)      NULL,
    entry       VARCHAR(300)      NOT NULL,
    caller      VARCHAR(100)      NULL,
    request_id  VARCHAR(100)      NOT NULL,
    trace_id    CHAR(32)          NOT NULL,
    accepted    BIGINT            NOT NULL,
    due         BIGINT            NOT NULL,
    started     BIGINT            NULL,
    ended       BIGINT            NULL,
    worker      BINARY(16)        NULL,
    -- Counted up each time it is taken or taken away; who writes with an old one is refused.
    fence       INT UNSIGNED      NOT NULL DEFAULT 0,
    -- Somebody wants it to stop before its next step.
    stop        TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    -- Something came for it while it was running.
    poked       TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    -- What it waits for: pause, callback, again.
    waits       VARCHAR(12)       NULL,
    -- How often it began from the start, and how often it was taken up again by policy.
    attempt     INT UNSIGNED      NOT NULL DEFAULT 1,
    tries       INT UNSIGNED      NOT NULL DEFAULT 0,
    -- Outcomes written down in this attempt.
    outcomes    INT UNSIGNED      NOT NULL DEFAULT 0,
    changes     BIGINT UNSIGNED   NOT NULL DEFAULT 1,
    progress    DOUBLE            NULL,
    notes       TEXT              NULL,
    status      SMALLINT UNSIGNED NULL,
    reply       MEDIUMTEXT        NULL,
    failure     MEDIUMTEXT        NULL,
    input       MEDIUMTEXT        NOT NULL,
    -- Whether input, reply and outcomes are sealed with the key of the secrets.
    sealed      TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    past        MEDIUMTEXT        NULL,
    -- How long after its end the result can be had, and until when.
    kept_for    BIGINT            NOT NULL,
    expires     BIGINT            NULL,
    INDEX job_work (phase, lane, place, wake),
    INDEX job_workflow (workflow, id),
    INDEX job_tag (tag),
    INDEX job_batch (batch),
    INDEX job_turn (turn, phase, place, wake)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What came of the effects of a job, in the order it was fed to its run. A void one was taken back: the
-- step was taken up again.
CREATE TABLE outcome (
    job      BINARY(16)       NOT NULL,
    attempt  INT UNSIGNED     NOT NULL,
    seq      INT UNSIGNED     NOT NULL,
    effect   BIGINT UNSIGNED  NOT NULL,
    at       BIGINT           NOT NULL,
    data     LONGTEXT         NOT NULL,
    sealed   TINYINT UNSIGNED NOT NULL DEFAULT 0,
    void     TINYINT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (job, attempt, seq)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The one job of each turn that may run.
CREATE TABLE turn (
    name VARCHAR(300) NOT NULL PRIMARY KEY,
    job  BINARY(16)   NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE batch (
    id       BINARY(16)   NOT NULL PRIMARY KEY,
    workflow VARCHAR(60)  NOT NULL,
    run      VARCHAR(60)  NOT NULL,
    total    INT UNSIGNED NOT NULL,
    created  BIGINT       NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Processes that take jobs. One whose time has passed is dead, and what it had is taken up by others.
CREATE TABLE worker (
    id      BINARY(16)      NOT NULL PRIMARY KEY,
    name    VARCHAR(200)    NOT NULL,
    began   BIGINT          NOT NULL,
    beat    BIGINT UNSIGNED NOT NULL,
    expires BIGINT          NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What lanes keep to over all processes.
CREATE TABLE lane_state (
    name    VARCHAR(60)      NOT NULL PRIMARY KEY,
    held    TINYINT UNSIGNED NOT NULL DEFAULT 0,
    -- When the next job may begin, for lanes with a pace.
    next    BIGINT           NOT NULL DEFAULT 0,
    version BIGINT UNSIGNED  NOT NULL DEFAULT 0
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Ten seconds of a lane: how much waited at their end, what was done in them and how late it began.
CREATE TABLE lane_sample (
    lane    VARCHAR(60)     NOT NULL,
    at      BIGINT          NOT NULL,
    waiting BIGINT UNSIGNED NOT NULL DEFAULT 0,
    begun   BIGINT UNSIGNED NOT NULL DEFAULT 0,
    done    BIGINT UNSIGNED NOT NULL DEFAULT 0,
    failed  BIGINT UNSIGNED NOT NULL DEFAULT 0,
    late    BIGINT UNSIGNED NOT NULL DEFAULT 0,
    latest  BIGINT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (lane, at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE callback (
    hash    CHAR(64)        NOT NULL PRIMARY KEY,
    job     BINARY(16)      NOT NULL,
    effect  BIGINT UNSIGNED NOT NULL,
    opened  BIGINT          NOT NULL,
    arrived BIGINT          NULL,
    media   VARCHAR(200)    NULL,
    body    MEDIUMBLOB      NULL,
    INDEX callback_job (job)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE timetable (
    workflow VARCHAR(60)       NOT NULL,
    entry    SMALLINT UNSIGNED NOT NULL,
    -- As it was written when it was last looked at; another one begins anew.
    written  VARCHAR(500)      NOT NULL,
    -- Due instants up to this one are dealt with.
    upto     BIGINT            NOT NULL,
    paused   TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    PRIMARY KEY (workflow, entry)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One row for each due instant, whatever number of processes looks at it.
CREATE TABLE firing (
    workflow VARCHAR(60)       NOT NULL,
    entry    SMALLINT UNSIGNED NOT NULL,
    due      BIGINT            NOT NULL,
    -- queued, missed, skipped, by-hand
    became   VARCHAR(10)       NOT NULL,
    job      BINARY(16)        NULL,
    at       BIGINT            NOT NULL,
    PRIMARY KEY (workflow, entry, due)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Requests with an Idempotency-Key, and what they were answered.
CREATE TABLE idempotency (
    hash        CHAR(64)          NOT NULL PRIMARY KEY,
    fingerprint CHAR(64)          NOT NULL,
    run         BINARY(16)        NOT NULL,
    -- While it is in flight: when it is given up. Afterwards: until when it is kept.
    until       BIGINT            NOT NULL,
    status      SMALLINT UNSIGNED NULL,
    headers     TEXT              NULL,
    body        MEDIUMBLOB        NULL,
    INDEX idempotency_until (until)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Addresses that are told of the end of a job.
CREATE TABLE notice (
    job     BINARY(16)        NOT NULL PRIMARY KEY,
    url     VARCHAR(2000)     NOT NULL,
    secret  VARCHAR(60)       NOT NULL,
    private TINYINT UNSIGNED  NOT NULL,
    body    MEDIUMTEXT        NOT NULL,
    created BIGINT            NOT NULL,
    -- When it is tried next; nothing when it was told or given up.
    next    BIGINT            NULL,
    tries   INT UNSIGNED      NOT NULL DEFAULT 0,
    status  SMALLINT UNSIGNED NULL,
    detail  VARCHAR(500)      NULL,
    told    BIGINT            NULL,
    INDEX notice_next (next)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
