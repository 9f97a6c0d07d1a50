-- Labels of enums and values of keys may hold the character U+0000, which jsonb does not take.
ALTER TABLE rillmark.schema_version ALTER COLUMN definition TYPE json;
ALTER TABLE rillmark.source_table ALTER COLUMN load TYPE json, ALTER COLUMN identity TYPE json;
