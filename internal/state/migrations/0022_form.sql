-- Forms of rows, with the functions that they call, which outlets share. An outlet's definition
-- names them.
CREATE TABLE rillmark.form (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    definition  jsonb NOT NULL,
    version     bigint NOT NULL DEFAULT 1,
    created_at  timestamptz NOT NULL DEFAULT now(),
    updated_at  timestamptz NOT NULL DEFAULT now()
);
