-- What is asked may also be the end of a load for an outlet that is no more.
ALTER TABLE rillmark.reload ADD COLUMN dropped_outlet bigint NOT NULL DEFAULT 0, ADD COLUMN outlet_name text NOT NULL DEFAULT '';
ALTER TABLE rillmark.reload DROP CONSTRAINT reload_pkey, ADD PRIMARY KEY (source_id, table_name, condition, dropped_outlet);
