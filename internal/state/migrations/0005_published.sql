-- How a table stands in its publication: one that was taken out and put back has
-- missed what changed in between.
ALTER TABLE rillmark.source_table ADD COLUMN published text NOT NULL DEFAULT '';
