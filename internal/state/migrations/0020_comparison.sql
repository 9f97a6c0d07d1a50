-- How far a comparison of an outlet's tables has come, until it is complete: another one can go
-- on there.
CREATE TABLE rillmark.comparison (
    outlet_id bigint PRIMARY KEY REFERENCES rillmark.outlet (id) ON DELETE CASCADE,
    document bytea NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now()
);
