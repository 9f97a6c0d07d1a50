-- What of a table's rule decides the content of its events, and the partitions
-- that a table is made of where they carry its name.
ALTER TABLE rillmark.source_table ADD COLUMN rule text NOT NULL DEFAULT '';
ALTER TABLE rillmark.source_table ADD COLUMN members text[];

-- Where the generations of a journal begin. The first has a line only where
-- there is a second.
CREATE TABLE rillmark.journal_cut (
    source_id    bigint NOT NULL REFERENCES rillmark.source ON DELETE CASCADE,
    generation   integer NOT NULL,
    first_offset bigint NOT NULL,
    at           timestamptz NOT NULL DEFAULT now(),
    reason       text NOT NULL,
    PRIMARY KEY (source_id, generation)
);

-- Load or follow: one word instead of a flag.
UPDATE rillmark.source SET definition = definition - 'load' || '{"mode": "follow-only"}' WHERE definition -> 'load' = 'false';
UPDATE rillmark.source SET definition = definition - 'load' WHERE definition ? 'load';
