-- A dictionary that is retired packs no further segment: it has a text that was to be erased.
ALTER TABLE dictionary ADD COLUMN retired TINYINT UNSIGNED NOT NULL DEFAULT 0;
