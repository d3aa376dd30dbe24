-- The span that a job continues and whether its spans are kept, such as b7ad6b7169203331-01.
ALTER TABLE job ADD COLUMN trace_parent CHAR(19) CHARACTER SET ascii COLLATE ascii_bin NULL;
