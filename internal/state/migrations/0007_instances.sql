-- The instances that run on this state database: each renews its line while it lives.
CREATE TABLE rillmark.instance (
    id         text PRIMARY KEY,
    until      timestamptz NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now()
);

-- Which instance delivers an outlet. The epoch goes up with each owner; an offset is
-- committed only under the epoch of who commits it.
ALTER TABLE rillmark.outlet_offset ADD COLUMN owner text;
ALTER TABLE rillmark.outlet_offset ADD COLUMN epoch bigint NOT NULL DEFAULT 0;
