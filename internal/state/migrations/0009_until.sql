-- A replay of a part of the journal: where the outlet goes on after its end, and
-- whether it runs on from there; without a place it pauses where the part ends.
ALTER TABLE rillmark.outlet_offset ADD COLUMN return_to bigint;
ALTER TABLE rillmark.outlet_offset ADD COLUMN runs_on boolean NOT NULL DEFAULT false;

-- "failed" is what a source or an outlet does where a person has to decide; a table whose
-- load could not go on is followed all the same.
UPDATE rillmark.source_table SET state = 'not-loaded' WHERE state = 'failed';

-- A source that runs once ends when it has caught up; ended is whether it was paused by
-- that, or by having loaded all.
ALTER TABLE rillmark.source ADD COLUMN once boolean NOT NULL DEFAULT false;
ALTER TABLE rillmark.source ADD COLUMN ended boolean NOT NULL DEFAULT false;
