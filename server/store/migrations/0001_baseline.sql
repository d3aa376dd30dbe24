-- Instants are microseconds since 1970 UTC; ids of runs are UUIDs (version 7), so they sort by time.

CREATE TABLE revision (
    kind    VARCHAR(20)  NOT NULL,
    name    VARCHAR(60)  NOT NULL,
    number  INT UNSIGNED NOT NULL,
    path    VARCHAR(500) NOT NULL,
    source  MEDIUMTEXT   NOT NULL,
    -- The text of the file the document names: a service's OpenAPI document.
    file    MEDIUMTEXT   NULL,
    digest  CHAR(64)     NOT NULL,
    created BIGINT       NOT NULL,
    -- Whose token deployed it.
    operator VARCHAR(60) NOT NULL,
    PRIMARY KEY (kind, name, number)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One draft at most of each document: what an author is working on, beside what is live.
CREATE TABLE draft (
    kind     VARCHAR(20)     NOT NULL,
    name     VARCHAR(60)     NOT NULL,
    -- Counts up with each change; who saves names the one he has read.
    version  BIGINT UNSIGNED NOT NULL,
    -- The revision it began from; none for a document that is new.
    base     INT UNSIGNED    NULL,
    path     VARCHAR(500)    NOT NULL,
    source   MEDIUMTEXT      NOT NULL,
    file     MEDIUMTEXT      NULL,
    changed  BIGINT          NOT NULL,
    operator VARCHAR(60)     NOT NULL,
    PRIMARY KEY (kind, name)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE live (
    kind   VARCHAR(20)  NOT NULL,
    name   VARCHAR(60)  NOT NULL,
    number INT UNSIGNED NOT NULL,
    since  BIGINT       NOT NULL,
    PRIMARY KEY (kind, name)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Names that workflows had: records made under one before an instant belong to the workflow that has the other name now.
CREATE TABLE former_name (
    workflow VARCHAR(60) NOT NULL,
    former   VARCHAR(60) NOT NULL,
    until    BIGINT      NOT NULL,
    PRIMARY KEY (former, until)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One row. Every deploy counts it up first, so deploys come one after another.
CREATE TABLE generation (
    id     TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    number BIGINT UNSIGNED  NOT NULL
) ENGINE = InnoDB;
INSERT INTO generation (id, number) VALUES (1, 0);

-- Names of workflows and entries in the journal, by number.
CREATE TABLE journal_name (
    number INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name   VARCHAR(600) NOT NULL UNIQUE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What runs have in common, for the compression of segments.
CREATE TABLE dictionary (
    id   INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    made BIGINT       NOT NULL,
    data MEDIUMBLOB   NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Runs with their steps, many together: MessagePack, compressed (RFC 8878).
CREATE TABLE segment (
    id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    -- Whether its runs succeeded; others are kept longer.
    succeeded  BOOLEAN         NOT NULL,
    -- When the first and the last of them began.
    first      BIGINT          NOT NULL,
    last       BIGINT          NOT NULL,
    runs       INT UNSIGNED    NOT NULL,
    bytes      INT UNSIGNED    NOT NULL,
    dictionary INT UNSIGNED    NULL,
    data       LONGBLOB        NOT NULL,
    INDEX segment_by_age (succeeded, last, runs, bytes)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The index of the journal. What few runs have stands in tables of its own: each index of this one costs as much as a run.
CREATE TABLE run (
    id         BINARY(16)        NOT NULL PRIMARY KEY,
    -- Numbers of names.
    workflow   INT UNSIGNED      NOT NULL,
    revision   INT UNSIGNED      NOT NULL,
    state      ENUM('succeeded', 'rejected', 'failed', 'cancelled') NOT NULL,
    entry      INT UNSIGNED      NOT NULL,
    status     SMALLINT UNSIGNED NULL,
    started    BIGINT            NOT NULL,
    duration   BIGINT            NOT NULL,
    caller     VARCHAR(255)      NULL,
    -- The paragraph of the step that failed, the kind of the failure, and the beginning of what happened.
    failed_at  INT UNSIGNED      NULL,
    kind       VARCHAR(20)       NULL,
    detail     VARCHAR(300)      NULL,
    segment    BIGINT UNSIGNED   NOT NULL,
    place      SMALLINT UNSIGNED NOT NULL,
    -- Lists go by id, which sorts by time.
    INDEX run_by_workflow (workflow, id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Runs that did not succeed.
CREATE TABLE run_trouble (
    state    ENUM('succeeded', 'rejected', 'failed', 'cancelled') NOT NULL,
    id       BINARY(16)   NOT NULL,
    workflow INT UNSIGNED NOT NULL,
    PRIMARY KEY (state, id),
    INDEX run_trouble_by_workflow (workflow, state, id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Runs whose request brought an id of its own.
CREATE TABLE run_request (
    request_id VARCHAR(100) NOT NULL,
    id         BINARY(16)   NOT NULL,
    PRIMARY KEY (request_id, id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Counts per workflow and minute. Every run is counted, also one whose details were dropped.
CREATE TABLE tally (
    workflow VARCHAR(60)     NOT NULL,
    minute   BIGINT          NOT NULL,
    runs     BIGINT UNSIGNED NOT NULL,
    rejected BIGINT UNSIGNED NOT NULL DEFAULT 0,
    failed   BIGINT UNSIGNED NOT NULL,
    dropped  BIGINT UNSIGNED NOT NULL,
    duration BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (workflow, minute)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What the steps of a workflow did in a minute, as one process has counted it so far: a list of number, runs,
-- failures, and how many took how long.
CREATE TABLE step_count (
    workflow VARCHAR(60)     NOT NULL,
    minute   BIGINT          NOT NULL,
    revision INT UNSIGNED    NOT NULL,
    -- A start of a process.
    source   BIGINT UNSIGNED NOT NULL,
    steps    MEDIUMTEXT      NOT NULL,
    PRIMARY KEY (workflow, minute, revision, source),
    INDEX step_count_by_time (minute)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE operator_token (
    hash    CHAR(64)    NOT NULL PRIMARY KEY,
    name    VARCHAR(60) NOT NULL UNIQUE,
    prefix  VARCHAR(12) NOT NULL,
    created BIGINT      NOT NULL,
    expires BIGINT      NULL,
    used    BIGINT      NULL,
    -- viewer, author or operator.
    role    VARCHAR(10) NOT NULL DEFAULT 'operator'
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Who changed what, and who looked at runs with confidential values.
CREATE TABLE audit (
    id      BINARY(16)        NOT NULL PRIMARY KEY,
    at      BIGINT            NOT NULL,
    who     VARCHAR(200)      NOT NULL,
    role    VARCHAR(10)       NOT NULL,
    -- token or session.
    via     VARCHAR(10)       NOT NULL,
    address VARCHAR(60)       NULL,
    what    VARCHAR(600)      NOT NULL,
    subject VARCHAR(300)      NOT NULL,
    status  SMALLINT UNSIGNED NOT NULL,
    was     MEDIUMTEXT        NULL,
    now     MEDIUMTEXT        NULL,
    INDEX audit_who (who, id),
    INDEX audit_at (at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Keys of callers. Only hashes are kept.
CREATE TABLE access_key (
    name         VARCHAR(60)  NOT NULL PRIMARY KEY,
    hash         CHAR(64)     NOT NULL UNIQUE,
    -- The one before it, valid beside it until an instant.
    former_hash  CHAR(64)     NULL,
    former_until BIGINT       NULL,
    prefix       VARCHAR(12)  NOT NULL,
    owner        VARCHAR(200) NOT NULL,
    note         VARCHAR(500) NOT NULL,
    -- Names of the workflows it is for: JSON; an empty list for all.
    workflows    TEXT         NOT NULL,
    -- Tags of workflows it is for too: JSON.
    tags         TEXT         NOT NULL,
    -- How much it may ask for; without one, as the entry says.
    allowance    VARCHAR(60)  NULL,
    created      BIGINT       NOT NULL,
    expires      BIGINT       NULL,
    used         BIGINT       NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE session (
    hash    CHAR(64) NOT NULL PRIMARY KEY,
    -- The token it was begun with; it ends with it. Null for somebody whom a provider of identities signed in.
    token   CHAR(64)     NULL,
    name    VARCHAR(200) NOT NULL,
    role    VARCHAR(10)  NOT NULL,
    address VARCHAR(60)  NULL,
    agent   VARCHAR(200) NOT NULL,
    created BIGINT       NOT NULL,
    expires BIGINT       NOT NULL,
    INDEX session_name (name)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What a workflow remembers between runs: one JSON object, replaced only by who knows its version.
CREATE TABLE kept (
    workflow VARCHAR(60)     NOT NULL PRIMARY KEY,
    version  BIGINT UNSIGNED NOT NULL,
    value    MEDIUMTEXT      NOT NULL,
    changed  BIGINT          NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- XChaCha20-Poly1305; name and purposes are authenticated with it, so no value can be moved to another name or purpose.
CREATE TABLE secret (
    name    VARCHAR(60)     NOT NULL PRIMARY KEY,
    nonce   BINARY(24)      NOT NULL,
    sealed  VARBINARY(18000) NOT NULL,
    -- What it may be used for, separated by spaces.
    purposes VARCHAR(4000)  NOT NULL,
    created BIGINT          NOT NULL,
    changed BIGINT          NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What was live when: every deploy and retirement counts the generation up, and names what it changed.
-- A number that is null took the document off.
CREATE TABLE deployed (
    kind       VARCHAR(20)     NOT NULL,
    name       VARCHAR(60)     NOT NULL,
    generation BIGINT UNSIGNED NOT NULL,
    number     INT UNSIGNED    NULL,
    PRIMARY KEY (kind, name, generation)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One row. From its bytes come ids and addresses that nobody can guess.
CREATE TABLE installation (
    id     TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    secret BINARY(32)       NOT NULL,
    -- Of the key of the secrets, so that another one is noticed.
    key_print BINARY(32)    NULL
) ENGINE = InnoDB;
INSERT INTO installation (id, secret) VALUES (1, RANDOM_BYTES(32));

-- Phases: 1 ready at `ready_at` (scheduled, queued or waiting), 2 running (`ready_at` is when it was claimed),
-- 3 blocked by another of its ordering key, 11 succeeded, 12 failed, 13 cancelled, 14 rejected (`ready_at` is
-- when it ended).
-- One index serves claiming, counting by lane, and finding what ended long ago.
CREATE TABLE job (
    id           BINARY(16)        NOT NULL PRIMARY KEY,
    phase        TINYINT UNSIGNED  NOT NULL,
    lane         VARCHAR(60)       NOT NULL,
    -- 0 for a job that has started, otherwise its priority, 1 to 9.
    claim_rank   TINYINT UNSIGNED  NOT NULL,
    ready_at     BIGINT            NOT NULL,
    workflow     VARCHAR(60)       NOT NULL,
    revision     INT UNSIGNED      NOT NULL,
    generation   BIGINT UNSIGNED   NOT NULL,
    -- How many jobs stand between it and what began the chain.
    depth        INT UNSIGNED      NOT NULL DEFAULT 0,
    priority     TINYINT UNSIGNED  NOT NULL,
    -- A JSON list; each stands in `job_tag`.
    tags         TEXT              NULL,
    batch        BINARY(16)        NULL,
    ordering_key VARCHAR(300)      NULL,
    entry        VARCHAR(300)      NOT NULL,
    caller       VARCHAR(255)      NULL,
    -- JSON: its key, owner and claims, where the workflow reads them.
    caller_facts TEXT              NULL,
    request_id   VARCHAR(100)      NOT NULL,
    trace_id     CHAR(32)          NOT NULL,
    accepted     BIGINT            NOT NULL,
    due          BIGINT            NOT NULL,
    started      BIGINT            NULL,
    ended        BIGINT            NULL,
    worker       BINARY(16)        NULL,
    -- Incremented each time it is claimed or reclaimed; a write with an older one is refused.
    fence        INT UNSIGNED      NOT NULL DEFAULT 0,
    -- A stop before its next step was requested.
    stop         TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    -- A callback arrived while it was running.
    signalled    TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    -- What it waits for: pause, callback, retry.
    waits_for    VARCHAR(12)       NULL,
    -- How often it was started from its first step, and how often it was retried by policy since.
    attempt      INT UNSIGNED      NOT NULL DEFAULT 1,
    retries      INT UNSIGNED      NOT NULL DEFAULT 0,
    -- Number of outcomes recorded in this attempt.
    outcomes     INT UNSIGNED      NOT NULL DEFAULT 0,
    changes      BIGINT UNSIGNED   NOT NULL DEFAULT 1,
    progress     DOUBLE            NULL,
    notes        TEXT              NULL,
    status       SMALLINT UNSIGNED NULL,
    reply        MEDIUMTEXT        NULL,
    failure      MEDIUMTEXT        NULL,
    input        MEDIUMTEXT        NOT NULL,
    -- Whether input, reply and outcomes are sealed with the key of the secrets.
    sealed       TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    history      MEDIUMTEXT        NULL,
    -- How long after its end the result can be had, and until when.
    kept_for     BIGINT            NOT NULL,
    -- Nobody sent it: a timetable queued it.
    unattended   TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    expires      BIGINT            NULL,
    INDEX job_work (phase, lane, claim_rank, ready_at),
    INDEX job_workflow (workflow, id),
    INDEX job_batch (batch),
    INDEX job_ordering_key (ordering_key, phase, claim_rank, ready_at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Jobs by their tags.
CREATE TABLE job_tag (
    tag VARCHAR(200) NOT NULL,
    job BINARY(16)   NOT NULL,
    PRIMARY KEY (tag, job),
    INDEX job_tag_job (job)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Jobs by the id of their request, where the id of the job does not follow from it.
CREATE TABLE job_request (
    job        BINARY(16)   NOT NULL PRIMARY KEY,
    request_id VARCHAR(100) NOT NULL,
    INDEX job_request_id (request_id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What came of the effects of a job, in the order it was fed to its run. A void one was taken back: the
-- step was retried.
CREATE TABLE outcome (
    job     BINARY(16)       NOT NULL,
    attempt INT UNSIGNED     NOT NULL,
    seq     INT UNSIGNED     NOT NULL,
    effect  BIGINT UNSIGNED  NOT NULL,
    at      BIGINT           NOT NULL,
    data    LONGTEXT         NOT NULL,
    sealed  TINYINT UNSIGNED NOT NULL DEFAULT 0,
    void    TINYINT UNSIGNED NOT NULL DEFAULT 0,
    -- Whether it came behind the failure of the run, to the steps that handle it.
    closing TINYINT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (job, attempt, seq)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The one job of each ordering key that may run.
CREATE TABLE ordering_holder (
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

-- Processes that run jobs. Others reclaim the jobs of one whose lease has expired.
CREATE TABLE worker (
    id        BINARY(16)      NOT NULL PRIMARY KEY,
    name      VARCHAR(200)    NOT NULL,
    started   BIGINT          NOT NULL,
    heartbeat BIGINT UNSIGNED NOT NULL,
    expires   BIGINT          NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What lanes keep to over all processes.
CREATE TABLE lane_state (
    name    VARCHAR(60)      NOT NULL PRIMARY KEY,
    held    TINYINT UNSIGNED NOT NULL DEFAULT 0,
    -- When the next job may begin, for lanes with a pace.
    next    BIGINT           NOT NULL DEFAULT 0,
    version BIGINT UNSIGNED  NOT NULL DEFAULT 0
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Ten seconds of a lane: how much waited at their end, what was done in them and with which delay it began.
CREATE TABLE lane_sample (
    lane      VARCHAR(60)     NOT NULL,
    at        BIGINT          NOT NULL,
    waiting   BIGINT UNSIGNED NOT NULL DEFAULT 0,
    begun     BIGINT UNSIGNED NOT NULL DEFAULT 0,
    succeeded BIGINT UNSIGNED NOT NULL DEFAULT 0,
    rejected  BIGINT UNSIGNED NOT NULL DEFAULT 0,
    failed    BIGINT UNSIGNED NOT NULL DEFAULT 0,
    delay     BIGINT UNSIGNED NOT NULL DEFAULT 0,
    max_delay BIGINT UNSIGNED NOT NULL DEFAULT 0,
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
    -- JSON Schema of what it accepts.
    accepts TEXT            NULL,
    -- The workflow and the hash of the key by which it waits too.
    workflow VARCHAR(60)    NULL,
    by_key  CHAR(64)        NULL,
    INDEX callback_job (job),
    INDEX callback_key (workflow, by_key)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Values that `wake` steps pass on, each once; `taken` is the job that got it.
CREATE TABLE waking (
    run      BINARY(16)      NOT NULL,
    effect   BIGINT UNSIGNED NOT NULL,
    workflow VARCHAR(60)     NOT NULL,
    by_key   CHAR(64)        NOT NULL,
    at       BIGINT          NOT NULL,
    until    BIGINT          NOT NULL,
    body     MEDIUMBLOB      NOT NULL,
    taken    BINARY(16)      NULL,
    PRIMARY KEY (run, effect),
    INDEX waking_key (workflow, by_key, taken),
    -- Counts those that nobody waits for yet.
    INDEX waking_taken (taken),
    INDEX waking_until (until)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE timetable (
    workflow      VARCHAR(60)       NOT NULL,
    entry         SMALLINT UNSIGNED NOT NULL,
    -- Its pattern and zone when it was last read; a changed one starts anew.
    definition    VARCHAR(500)      NOT NULL,
    -- Due instants up to this one are dealt with.
    handled_until BIGINT            NOT NULL,
    paused        TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    PRIMARY KEY (workflow, entry)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One row for each due instant, whatever number of processes looks at it.
CREATE TABLE firing (
    workflow VARCHAR(60)       NOT NULL,
    entry    SMALLINT UNSIGNED NOT NULL,
    due      BIGINT            NOT NULL,
    -- queued, missed, skipped, by-hand
    result   VARCHAR(10)       NOT NULL,
    job      BINARY(16)        NULL,
    at       BIGINT            NOT NULL,
    PRIMARY KEY (workflow, entry, due)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Trials: apart from the journal of live runs.
CREATE TABLE trial (
    id       BINARY(16)        NOT NULL PRIMARY KEY,
    workflow VARCHAR(60)       NOT NULL,
    entry    VARCHAR(600)      NOT NULL,
    state    VARCHAR(12)       NOT NULL,
    status   SMALLINT UNSIGNED NULL,
    started  BIGINT            NOT NULL,
    expires  BIGINT            NOT NULL,
    operator VARCHAR(60)       NOT NULL,
    -- What it did, and the same as a case: JSON, masked and cut as it is shown.
    shown    MEDIUMTEXT        NOT NULL,
    recorded MEDIUMTEXT        NOT NULL,
    INDEX trial_expires (expires)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Addresses at which drafts can be called. The secret part follows from the id and the key of the installation.
CREATE TABLE preview (
    id       BINARY(16)  NOT NULL PRIMARY KEY,
    hash     CHAR(64)    NOT NULL UNIQUE,
    about    MEDIUMTEXT  NOT NULL,
    operator VARCHAR(60) NOT NULL,
    created  BIGINT      NOT NULL,
    expires  BIGINT      NOT NULL
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

-- Addresses that are notified when a job ends.
CREATE TABLE notice (
    job       BINARY(16)        NOT NULL PRIMARY KEY,
    url       VARCHAR(2000)     NOT NULL,
    secret    VARCHAR(60)       NOT NULL,
    private   TINYINT UNSIGNED  NOT NULL,
    body      MEDIUMTEXT        NOT NULL,
    created   BIGINT            NOT NULL,
    -- When it is tried next; null once it was delivered or given up.
    next      BIGINT            NULL,
    attempts  INT UNSIGNED      NOT NULL DEFAULT 0,
    status    SMALLINT UNSIGNED NULL,
    detail    VARCHAR(500)      NULL,
    delivered BIGINT            NULL,
    INDEX notice_next (next)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Requests that were turned away before a run began.
CREATE TABLE refusal (
    id         BINARY(16)        NOT NULL PRIMARY KEY,
    at         BIGINT            NOT NULL,
    entry      VARCHAR(600)      NULL,
    workflow   VARCHAR(60)       NULL,
    request_id VARCHAR(100)      NOT NULL,
    caller     VARCHAR(255)      NULL,
    status     SMALLINT UNSIGNED NOT NULL,
    problem    TEXT              NOT NULL,
    -- Media type, size and SHA-256 of the body; its text only where nothing confidential can be in it.
    media      VARCHAR(200)      NULL,
    size       BIGINT UNSIGNED   NULL,
    digest     CHAR(64)          NULL,
    body       MEDIUMTEXT        NULL,
    INDEX refusal_time (at),
    INDEX refusal_request (request_id),
    INDEX refusal_workflow (workflow, id),
    INDEX refusal_status (status, id),
    INDEX refusal_both (workflow, status, id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Messages of senders as they arrived. Written in the transaction that queues their jobs, before they are acknowledged.
CREATE TABLE delivery (
    id         BINARY(16)        NOT NULL PRIMARY KEY,
    workflow   VARCHAR(60)       NOT NULL,
    entry      VARCHAR(300)      NOT NULL,
    received   BIGINT            NOT NULL,
    -- 1 accepted, 2 repeated, 3 unfit, 4 captured by a draft.
    state      TINYINT UNSIGNED  NOT NULL,
    -- What tells it apart, as the sender wrote it.
    sender_key VARCHAR(200)      NULL,
    caller     VARCHAR(255)      NULL,
    request_id VARCHAR(100)      NOT NULL,
    -- How it was proven, and with which secret.
    proof      VARCHAR(200)      NOT NULL,
    method     VARCHAR(10)       NOT NULL,
    query      TEXT              NOT NULL,
    -- JSON: names and values; no credentials.
    headers    MEDIUMTEXT        NOT NULL,
    media      VARCHAR(200)      NOT NULL,
    size       BIGINT UNSIGNED   NOT NULL,
    digest     CHAR(64)          NOT NULL,
    body       MEDIUMBLOB        NOT NULL,
    -- Whether query, headers and body are sealed with the key of the secrets.
    sealed     TINYINT UNSIGNED  NOT NULL,
    revision   INT UNSIGNED      NOT NULL,
    generation BIGINT UNSIGNED   NOT NULL,
    -- The run or job that came of it last, and how often it was processed.
    run        BINARY(16)        NULL,
    as_job     TINYINT UNSIGNED  NOT NULL DEFAULT 0,
    processed  INT UNSIGNED      NOT NULL DEFAULT 0,
    -- Of a repetition: the first one.
    first      BINARY(16)        NULL,
    -- Why it is unfit: JSON (RFC 9457).
    problem    TEXT              NULL,
    INDEX delivery_workflow (workflow, id),
    INDEX delivery_state (state, id),
    INDEX delivery_key (sender_key, id),
    INDEX delivery_run (run),
    -- Covers what retention sums up.
    INDEX delivery_size (received, size)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What tells messages apart, hashed with its entry, and the first that had it.
CREATE TABLE delivery_key (
    hash     CHAR(64)   NOT NULL PRIMARY KEY,
    delivery BINARY(16) NOT NULL,
    until    BIGINT     NOT NULL,
    INDEX delivery_key_until (until)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Files that callers sent for a later request; their bytes are in the work place.
CREATE TABLE upload (
    id      BINARY(16)      NOT NULL PRIMARY KEY,
    owner   VARCHAR(300)    NOT NULL,
    name    VARCHAR(255)    NULL,
    media   VARCHAR(120)    NOT NULL,
    size    BIGINT UNSIGNED NOT NULL,
    digest  CHAR(64)        NOT NULL,
    expires BIGINT          NOT NULL,
    -- Covers what a caller's bound sums up.
    INDEX upload_owner (owner, expires, size),
    INDEX upload_expires (expires)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Who reads the changed rows of a database, and what it accepted last.
CREATE TABLE change_reader (
    name     VARCHAR(60)      NOT NULL PRIMARY KEY,
    -- Counts its readers: one that a later one has replaced accepts nothing more.
    turn     BIGINT UNSIGNED  NOT NULL,
    -- The changes accepted last, which may not be removed yet: 16 bytes each, number and instant.
    accepted MEDIUMBLOB       NOT NULL
) ENGINE = InnoDB;

-- How watched tables stand.
CREATE TABLE watched (
    name     VARCHAR(60)     NOT NULL,
    tab      VARCHAR(64)     NOT NULL,
    accepted BIGINT UNSIGNED NOT NULL,
    jobs     BIGINT UNSIGNED NOT NULL,
    unfit    BIGINT UNSIGNED NOT NULL,
    last     BIGINT          NOT NULL,
    process  VARCHAR(200)    NOT NULL,
    PRIMARY KEY (name, tab)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What callers have used of their allowances, over all processes. Each takes portions by compare-and-set on the version.
CREATE TABLE meter (
    allowance VARCHAR(60)     NOT NULL,
    -- A key by its name, or an address.
    subject   VARCHAR(200)    NOT NULL,
    -- What is in the bucket, in millionths of a request, and when.
    bucket    BIGINT          NOT NULL,
    at        BIGINT          NOT NULL,
    -- When the period began that is counted, and requests in it.
    period    BIGINT          NOT NULL,
    used      BIGINT UNSIGNED NOT NULL,
    version   BIGINT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (allowance, subject),
    INDEX meter_at (at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Requests of keys by hour, written behind the answers.
CREATE TABLE key_usage (
    name     VARCHAR(60)     NOT NULL,
    workflow VARCHAR(60)     NOT NULL,
    hour     BIGINT          NOT NULL,
    requests BIGINT UNSIGNED NOT NULL,
    -- Of these: refused for its allowance.
    refused  BIGINT UNSIGNED NOT NULL,
    -- Of these: answered with 500 to 599.
    failed   BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (name, workflow, hour),
    INDEX key_usage_hour (hour)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Paces of services over all processes: when the next turn that nobody has claimed begins.
CREATE TABLE pace (
    name VARCHAR(200) NOT NULL PRIMARY KEY,
    next BIGINT       NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Places of endpoints whose runs may not overlap, and of services that bound their calls. One that has expired is free.
CREATE TABLE place (
    name   VARCHAR(200) NOT NULL,
    slot   INT UNSIGNED NOT NULL,
    holder BINARY(16)   NOT NULL,
    until  BIGINT       NOT NULL,
    PRIMARY KEY (name, slot),
    INDEX place_holder (holder)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
