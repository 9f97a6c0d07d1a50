-- Sessions of the console: the hash of a cookie and of the token it was given for, so
-- that a new token ends them all.
CREATE TABLE rillmark.session (
    id    bytea PRIMARY KEY,
    until timestamptz NOT NULL
);

-- Removed sources, without their secrets: the script that takes away what an
-- administrator made for one is made from its definition.
CREATE TABLE rillmark.removed_source (
    name       text PRIMARY KEY,
    definition jsonb NOT NULL,
    removed_at timestamptz NOT NULL DEFAULT now()
);

-- How far a consumer says it is that keeps its own offset; reading starts where it asks.
ALTER TABLE rillmark.outlet_offset ADD COLUMN reported bigint;
ALTER TABLE rillmark.outlet_offset ADD COLUMN reported_at timestamptz;
