-- Which keys a run of a journal's events may hold: a Bloom filter for each run of some
-- thousand events, so that the history of one row reads those runs alone. It is made from
-- the journal, and can be made anew.
CREATE TABLE rillmark.journal_keys (
    source_id bigint NOT NULL REFERENCES rillmark.source (id) ON DELETE CASCADE,
    last_offset bigint NOT NULL,
    first_offset bigint NOT NULL,
    filter bytea NOT NULL,
    PRIMARY KEY (source_id, last_offset)
);
-- A few of its bytes are read at a time.
ALTER TABLE rillmark.journal_keys ALTER COLUMN filter SET STORAGE EXTERNAL;
