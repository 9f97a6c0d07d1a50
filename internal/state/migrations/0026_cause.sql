-- Why a table is in its state, for programs; the note says it to people. What earlier versions
-- put on record has none until the state is put on record again.
ALTER TABLE rillmark.source_table ADD COLUMN cause text NOT NULL DEFAULT '';
