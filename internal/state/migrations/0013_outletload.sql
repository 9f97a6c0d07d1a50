-- A load of a table for one outlet alone, until it is done: begun says that capture has
-- taken it on. Without a condition it is of all rows.
CREATE TABLE rillmark.outlet_load (
    outlet_id bigint NOT NULL REFERENCES rillmark.outlet (id) ON DELETE CASCADE,
    table_name text NOT NULL,
    condition text NOT NULL DEFAULT '',
    asked_at timestamptz NOT NULL DEFAULT now(),
    begun boolean NOT NULL DEFAULT false,
    PRIMARY KEY (outlet_id, table_name, condition)
);
