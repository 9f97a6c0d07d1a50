-- Up to which offset changes of tables' definitions may pass an outlet that holds before each.
ALTER TABLE rillmark.outlet_offset ADD COLUMN let_pass bigint NOT NULL DEFAULT 0;
