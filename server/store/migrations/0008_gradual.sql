-- Gradual deploys, the last one of each workflow: a revision that serves a share of what comes, beside the live one. Which revision
-- it was at a generation stands in `deployed`, as kind `gradual`.
CREATE TABLE gradual (
    workflow VARCHAR(60)  NOT NULL PRIMARY KEY,
    number   INT UNSIGNED NOT NULL,
    since    BIGINT       NOT NULL,
    operator VARCHAR(60)  NOT NULL,
    -- A JSON object: the share, conditions and margins.
    rules    MEDIUMTEXT   NOT NULL,
    -- When it was made the live revision, taken back, or replaced by a deploy, by whom and why.
    ended    BIGINT       NULL,
    outcome  ENUM('finished', 'taken-back', 'replaced') NULL,
    ended_by VARCHAR(60)  NULL,
    reason   VARCHAR(500) NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
