-- A condition that names many keys is longer than what an index takes.
ALTER TABLE rillmark.outlet_load DROP CONSTRAINT outlet_load_pkey;
-- A load that is asked for once more while it is under way begins again when it is done.
ALTER TABLE rillmark.outlet_load ADD COLUMN again boolean NOT NULL DEFAULT false;
CREATE UNIQUE INDEX outlet_load_once ON rillmark.outlet_load (outlet_id, table_name, md5(condition));
ALTER TABLE rillmark.reload DROP CONSTRAINT reload_pkey;
CREATE UNIQUE INDEX reload_once ON rillmark.reload (source_id, table_name, md5(condition), dropped_outlet);
