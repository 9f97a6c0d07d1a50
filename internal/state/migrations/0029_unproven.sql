-- Tables in databases that earlier versions may have left wrong, until a comparison or a load has
-- proved or mended them.
CREATE TABLE rillmark.unproven (
    outlet_id  bigint NOT NULL REFERENCES rillmark.outlet ON DELETE CASCADE,
    table_name text NOT NULL,
    why        text NOT NULL,
    PRIMARY KEY (outlet_id, table_name)
);
WITH version AS (
    SELECT ss.source_id, v.table_name, v.definition::jsonb AS definition, ss.first_seen, v.fingerprint
    FROM rillmark.source_schema ss JOIN rillmark.schema_version v USING (fingerprint)
), version_column AS (
    SELECT source_id, table_name, first_seen, fingerprint, jsonb_path_query(definition, '$.columns[*].name') AS name FROM version
), risk AS (
    -- Its rows were void, and no load followed as often.
    SELECT s.id AS source_id, c.table_name, 0 AS severity, false AS versions, ARRAY['postgresql', 'mariadb'] AS kinds,
        'it was dropped and made again, or replaced: rows of the former table may be left' AS why
    FROM rillmark.source s JOIN rillmark.journal_count c ON c.source_id = s.id AND c.operation = 'void'
    WHERE s.definition->>'engine' = 'mariadb' AND c.events > coalesce((SELECT l.events FROM rillmark.journal_count l
        WHERE l.source_id = s.id AND l.table_name = c.table_name AND l.operation = 'loaded'), 0)
    UNION ALL
    -- The newest version has a column that was there once, and then was not.
    SELECT DISTINCT t.source_id, t.name, 1, false, ARRAY['postgresql', 'mariadb'], 'a column was dropped and has come back: rows that have not changed since may have values of the former one'
    FROM rillmark.source_table t
    JOIN version_column newest ON newest.source_id = t.source_id AND newest.table_name = t.name AND newest.fingerprint = t.fingerprint
    JOIN version_column once ON once.source_id = t.source_id AND once.table_name = t.name AND once.name = newest.name
    JOIN version without ON without.source_id = t.source_id AND without.table_name = t.name AND without.first_seen >= once.first_seen
        AND without.fingerprint <> once.fingerprint AND without.fingerprint <> t.fingerprint
    WHERE NOT EXISTS (SELECT FROM version_column c WHERE c.source_id = t.source_id AND c.table_name = t.name AND c.fingerprint = without.fingerprint AND c.name = newest.name)
    UNION ALL
    -- A column has had its name in another case, too.
    SELECT DISTINCT a.source_id, a.table_name, 3, false, ARRAY['mariadb'], 'a column got its name in another case: rows that were there then may have lost its values'
    FROM version_column a JOIN version_column b ON b.source_id = a.source_id AND b.table_name = a.table_name AND lower(b.name #>> '{}') = lower(a.name #>> '{}') AND b.name <> a.name
    UNION ALL
    SELECT t.source_id, t.name, 2, true, ARRAY['postgresql', 'mariadb'], 'it has no key, and nearly all of its versions may be marked as ended'
    FROM rillmark.source_table t JOIN rillmark.schema_version v USING (fingerprint)
    WHERE NOT jsonb_path_exists(v.definition::jsonb, '$.columns[*].key')
)
INSERT INTO rillmark.unproven (outlet_id, table_name, why)
SELECT DISTINCT ON (o.id, r.table_name) o.id, r.table_name, r.why
FROM rillmark.outlet o JOIN rillmark.destination d ON d.id = o.destination_id JOIN risk r ON r.source_id = o.source_id
WHERE d.definition->>'kind' = ANY (r.kinds) AND (NOT r.versions OR o.definition::jsonb @? '$.**.keep ? (@ == "versions")')
ORDER BY o.id, r.table_name, r.severity;
