-- A reload of a table that was asked of an instance that does not capture its source, until
-- the one that does has taken it on. Without a condition it is of all rows.
CREATE TABLE rillmark.reload (
    source_id bigint NOT NULL REFERENCES rillmark.source (id) ON DELETE CASCADE,
    table_name text NOT NULL,
    condition text NOT NULL DEFAULT '',
    asked_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (source_id, table_name, condition)
);
