-- How far each outlet was, minute by minute, so that it can be said when an event was delivered.
CREATE TABLE rillmark.delivered (
    outlet_id bigint NOT NULL REFERENCES rillmark.outlet (id) ON DELETE CASCADE,
    at timestamptz NOT NULL,
    run integer NOT NULL,
    committed bigint NOT NULL,
    PRIMARY KEY (outlet_id, at)
);
