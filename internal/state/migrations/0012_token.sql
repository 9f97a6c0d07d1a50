-- A destination that keeps an outlet's offset knows it by this: names and numbers come
-- again where a state database is made anew.
ALTER TABLE rillmark.outlet_offset ADD COLUMN token uuid NOT NULL DEFAULT gen_random_uuid();
