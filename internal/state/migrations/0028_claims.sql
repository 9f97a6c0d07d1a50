-- What an outlet that writes files has left in its folder, the newest first: the folder of a copy
-- of this database holds another one once either has gone on.
ALTER TABLE rillmark.outlet_offset ADD COLUMN claims text[] NOT NULL DEFAULT '{}';
-- What an instance must have in common with the others: key and files. Empty for an earlier version.
ALTER TABLE rillmark.instance ADD COLUMN configured text NOT NULL DEFAULT '';
