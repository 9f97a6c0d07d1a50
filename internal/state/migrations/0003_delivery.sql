-- Named places in a journal.
CREATE TABLE rillmark.mark (
    source_id  bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    name       text NOT NULL,
    -- The offset that is next after the mark.
    at_offset  bigint NOT NULL,
    reason     text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (source_id, name)
);

-- Events that an outlet could not deliver, and those that wait behind them. Each
-- keeps its event, in the journal's own form, however old it gets.
CREATE TABLE rillmark.dead_letter (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    outlet_id   bigint NOT NULL REFERENCES rillmark.outlet ON DELETE CASCADE,
    event_offset bigint NOT NULL,
    -- A row's own name; empty where the event is about no row.
    row_name    bytea NOT NULL,
    state       text NOT NULL CHECK (state IN ('dead', 'behind')),
    -- Somebody wants it to be tried again.
    retrying    boolean NOT NULL DEFAULT false,
    event_id    text NOT NULL,
    table_name  text NOT NULL,
    operation   text NOT NULL,
    error       text NOT NULL,
    attempts    integer NOT NULL,
    event       bytea NOT NULL,
    first_at    timestamptz NOT NULL DEFAULT now(),
    last_at     timestamptz NOT NULL DEFAULT now(),
    UNIQUE (outlet_id, event_offset)
);
CREATE INDEX ON rillmark.dead_letter (outlet_id, row_name, event_offset);

-- Which events several readers of one outlet have been handed.
CREATE TABLE rillmark.lease (
    outlet_id    bigint NOT NULL REFERENCES rillmark.outlet ON DELETE CASCADE,
    first_offset bigint NOT NULL,
    last_offset  bigint NOT NULL,
    token        text NOT NULL UNIQUE,
    reader       text NOT NULL,
    until        timestamptz NOT NULL,
    done         boolean NOT NULL DEFAULT false,
    PRIMARY KEY (outlet_id, first_offset)
);

-- Versions that an outlet's shape makes, by the name that Avro has for them.
CREATE TABLE rillmark.avro_schema (
    fingerprint bigint PRIMARY KEY,
    schema      bigint NOT NULL REFERENCES rillmark.schema_version
);

-- Which versions an outlet sends.
CREATE TABLE rillmark.outlet_schema (
    outlet_id   bigint NOT NULL REFERENCES rillmark.outlet ON DELETE CASCADE,
    fingerprint bigint NOT NULL REFERENCES rillmark.schema_version,
    first_seen  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (outlet_id, fingerprint)
);

-- What retention took from an outlet before it was delivered.
CREATE TABLE rillmark.outlet_lost (
    outlet_id    bigint NOT NULL REFERENCES rillmark.outlet ON DELETE CASCADE,
    first_offset bigint NOT NULL,
    last_offset  bigint NOT NULL,
    at           timestamptz NOT NULL DEFAULT now()
);

-- An outlet that runs once ends when it has delivered up to this offset.
ALTER TABLE rillmark.outlet_offset ADD COLUMN until bigint;
