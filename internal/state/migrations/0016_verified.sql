-- What the last comparison of an outlet's tables with the source's has found.
CREATE TABLE rillmark.verified (
    outlet_id bigint PRIMARY KEY REFERENCES rillmark.outlet (id) ON DELETE CASCADE,
    at timestamptz NOT NULL,
    equal boolean NOT NULL,
    compared_rows bigint NOT NULL,
    tables integer NOT NULL,
    finding text NOT NULL
);
