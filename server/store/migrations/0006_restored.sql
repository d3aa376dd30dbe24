-- Since when the records are those of a backup that was restored, while no job may begin.
ALTER TABLE installation ADD COLUMN restored BIGINT NULL;
