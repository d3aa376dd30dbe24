-- What makes a run repeatable offline: what its workflow remembered when it began, and what came of the
-- attempts of a call before the last one, as `503 timeout`.
ALTER TABLE run
    ADD COLUMN kept MEDIUMTEXT NULL;
ALTER TABLE step
    ADD COLUMN tries VARCHAR(300) NULL;
