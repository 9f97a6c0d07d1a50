-- The state of one Rillmark: what is defined, how far everything is, and the
-- journals. Everything lies in a schema of its own.

CREATE TABLE rillmark.source (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    definition  jsonb NOT NULL,
    version     bigint NOT NULL DEFAULT 1,
    running     boolean NOT NULL DEFAULT false,
    reason      text NOT NULL DEFAULT '',
    created_at  timestamptz NOT NULL DEFAULT now(),
    updated_at  timestamptz NOT NULL DEFAULT now()
);

-- How many journals have been begun under a name: ids carry the number, so that
-- a source that is removed and added again never gives an id a second time.
CREATE TABLE rillmark.source_generation (
    name        text PRIMARY KEY,
    generation  integer NOT NULL
);

CREATE TABLE rillmark.source_table (
    source_id     bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    name          text NOT NULL,
    state         text NOT NULL,
    note          text NOT NULL DEFAULT '',
    fingerprint   bigint,
    load          jsonb,
    rows_done     bigint NOT NULL DEFAULT 0,
    rows_estimate bigint NOT NULL DEFAULT 0,
    updated_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (source_id, name)
);

CREATE TABLE rillmark.destination (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    definition  jsonb NOT NULL,
    version     bigint NOT NULL DEFAULT 1,
    created_at  timestamptz NOT NULL DEFAULT now(),
    updated_at  timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE rillmark.outlet (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name           text NOT NULL UNIQUE,
    source_id      bigint NOT NULL REFERENCES rillmark.source,
    destination_id bigint REFERENCES rillmark.destination,
    definition     jsonb NOT NULL,
    version        bigint NOT NULL DEFAULT 1,
    running        boolean NOT NULL DEFAULT true,
    reason         text NOT NULL DEFAULT '',
    created_at     timestamptz NOT NULL DEFAULT now(),
    updated_at     timestamptz NOT NULL DEFAULT now()
);

-- How far an outlet is. Apart from its definition, because it is written often.
CREATE TABLE rillmark.outlet_offset (
    outlet_id    bigint PRIMARY KEY REFERENCES rillmark.outlet ON DELETE CASCADE,
    committed    bigint NOT NULL,
    -- Counts rewinds, so that what was delivered before one is told from what is delivered after.
    run          integer NOT NULL DEFAULT 1,
    delivered    bigint NOT NULL DEFAULT 0,
    committed_at timestamptz NOT NULL DEFAULT now()
) WITH (fillfactor = 50);

CREATE TABLE rillmark.schema_version (
    fingerprint bigint PRIMARY KEY,
    table_name  text NOT NULL,
    definition  jsonb NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now()
);

-- Which source has used which version since when.
CREATE TABLE rillmark.source_schema (
    source_id   bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    fingerprint bigint NOT NULL REFERENCES rillmark.schema_version,
    first_seen  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (source_id, fingerprint)
);

CREATE TABLE rillmark.run_log (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    level   text NOT NULL,
    subject text NOT NULL,
    event   text NOT NULL,
    message text NOT NULL
);
CREATE INDEX ON rillmark.run_log (at);
CREATE INDEX ON rillmark.run_log (subject, id);

-- The head of a journal: the one row that every append moves.
CREATE TABLE rillmark.journal_head (
    source_id    bigint PRIMARY KEY REFERENCES rillmark.source ON DELETE CASCADE,
    generation   integer NOT NULL DEFAULT 1,
    epoch        bigint NOT NULL DEFAULT 0,
    first_offset bigint NOT NULL DEFAULT 1,
    next_offset  bigint NOT NULL DEFAULT 1,
    checkpoint   bytea,
    moved_at     timestamptz NOT NULL DEFAULT now()
) WITH (fillfactor = 20);

CREATE TABLE rillmark.journal_segment (
    source_id    bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    generation   integer NOT NULL,
    first_offset bigint NOT NULL,
    relation     text NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (source_id, generation, first_offset)
);

-- Events by table and operation, exact up to journal_counted.upto.
CREATE TABLE rillmark.journal_count (
    source_id  bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    table_name text NOT NULL,
    operation  text NOT NULL,
    events     bigint NOT NULL,
    PRIMARY KEY (source_id, table_name, operation)
) WITH (fillfactor = 50);

CREATE TABLE rillmark.journal_counted (
    source_id bigint PRIMARY KEY REFERENCES rillmark.source ON DELETE CASCADE,
    upto      bigint NOT NULL
);
