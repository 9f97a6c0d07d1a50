-- Words of outlets' definitions that have changed.
UPDATE rillmark.outlet SET definition = jsonb_set(definition, '{changes}', '"each"') WHERE definition ->> 'changes' = 'all';
UPDATE rillmark.outlet SET definition = jsonb_set(definition, '{changes}', '"combined"') WHERE definition ->> 'changes' = 'net';
UPDATE rillmark.outlet SET definition = definition - 'ready_made' || jsonb_build_object('outbox', definition -> 'ready_made') WHERE definition ? 'ready_made';
UPDATE rillmark.outlet SET definition = jsonb_set(definition #- '{refused,most}', '{refused,max_dead_letters}', definition #> '{refused,most}') WHERE definition #> '{refused,most}' IS NOT NULL;

-- The condition of a reload that was asked for while the source did not run.
ALTER TABLE rillmark.source_table ADD COLUMN reload text;
