-- A row's name has its key, which may be longer than what an index takes: it is found by a hash.
ALTER TABLE rillmark.dead_letter ADD COLUMN row_hash bytea NOT NULL GENERATED ALWAYS AS (sha256(row_name)) STORED;
DROP INDEX rillmark.dead_letter_outlet_id_row_name_event_offset_idx;
CREATE INDEX dead_letter_row ON rillmark.dead_letter (outlet_id, row_hash, event_offset);
