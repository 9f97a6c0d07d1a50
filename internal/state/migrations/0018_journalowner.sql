-- Which instance writes a journal: one that no longer renews its line in rillmark.instance
-- gives it up, though its session is open still.
ALTER TABLE rillmark.journal_head ADD COLUMN owner text;
