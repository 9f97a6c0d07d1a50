-- What tells a table and its columns, whatever their names: as the engine puts it.
ALTER TABLE rillmark.source_table ADD COLUMN identity jsonb;
