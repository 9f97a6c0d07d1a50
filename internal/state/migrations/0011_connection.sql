-- What an administrator has made on a source's database stands in its connection.
UPDATE rillmark.source SET definition = jsonb_set(definition - 'slot', '{connection,slot}', definition -> 'slot') WHERE definition ? 'slot';
UPDATE rillmark.source SET definition = jsonb_set(definition - 'publication', '{connection,publication}', definition -> 'publication') WHERE definition ? 'publication';
UPDATE rillmark.removed_source SET definition = jsonb_set(definition - 'slot', '{connection,slot}', definition -> 'slot') WHERE definition ? 'slot';
UPDATE rillmark.removed_source SET definition = jsonb_set(definition - 'publication', '{connection,publication}', definition -> 'publication') WHERE definition ? 'publication';
