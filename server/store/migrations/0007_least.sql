-- The number of the last change of the schema that a program must know to work with these records. A change that earlier
-- programs cannot work beside counts it up; others only add, and processes of both versions work at the same time.
ALTER TABLE installation ADD COLUMN least BIGINT NOT NULL DEFAULT 1;
