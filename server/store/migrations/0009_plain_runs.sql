-- Most runs succeed soon after they began. They need no row of their own in the index: their segment has what lists show of them.
ALTER TABLE segment
    -- The first and the last id of its runs without a row; nothing where each has one.
    ADD COLUMN low     BINARY(16)   NULL,
    ADD COLUMN high    BINARY(16)   NULL,
    -- What lists show of these runs, packed.
    ADD COLUMN listed  MEDIUMBLOB   NULL,
    -- Runs with a row here or in `run_request`; unknown for segments of former versions.
    ADD COLUMN indexed INT UNSIGNED NULL,
    -- A digest of its runs: a batch that is written again after a connection broke is there once.
    ADD COLUMN batch   BINARY(16)   NULL,
    ADD INDEX segment_by_id (high),
    ADD UNIQUE INDEX segment_by_batch (batch);

-- Which workflows have runs without a row in a segment, and the highest id of each. A process of a former version deletes segments and knows nothing of this table.
CREATE TABLE segment_workflow (
    workflow INT UNSIGNED    NOT NULL,
    high     BINARY(16)      NOT NULL,
    segment  BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (workflow, high, segment),
    INDEX segment_workflow_by_segment (segment),
    FOREIGN KEY (segment) REFERENCES segment (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The segment of a run without a row.
ALTER TABLE run_request
    ADD COLUMN segment BIGINT UNSIGNED NULL;
