-- How each alert stands, over all processes. A row is changed by compare-and-set on its version.
CREATE TABLE alert (
    name           VARCHAR(60)      NOT NULL PRIMARY KEY,
    -- Its condition and terms when it was stepped last; a changed one begins anew.
    definition     CHAR(64)         NOT NULL,
    checked        BIGINT           NOT NULL,
    holds_since    BIGINT           NULL,
    calm_since     BIGINT           NULL,
    began          BIGINT           NULL,
    announced      BIGINT           NULL,
    -- JSON: the measures of the last step, or why there are none.
    measures       TEXT             NOT NULL,
    fault          VARCHAR(500)     NULL,
    silenced_until BIGINT           NULL,
    silenced_by    VARCHAR(255)     NULL,
    silence_reason VARCHAR(500)     NULL,
    version        BIGINT UNSIGNED  NOT NULL DEFAULT 0
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- When alerts lasted.
CREATE TABLE alert_span (
    alert    VARCHAR(60)  NOT NULL,
    began    BIGINT       NOT NULL,
    ended    BIGINT       NULL,
    -- JSON: the measures when it began.
    measures TEXT         NOT NULL,
    notices  INT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (alert, began),
    INDEX alert_span_began (began)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- When the alerts were stepped last, by whichever process: one row.
CREATE TABLE alert_round (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    at BIGINT           NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
INSERT INTO alert_round (id, at) VALUES (1, 0);
