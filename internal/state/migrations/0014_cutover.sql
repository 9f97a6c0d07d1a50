-- A cut over of an outlet's tables: the last one that was begun. stopped says that we keep
-- the source's writers out, or were about to.
CREATE TABLE rillmark.cutover (
    outlet_id bigint PRIMARY KEY REFERENCES rillmark.outlet (id) ON DELETE CASCADE,
    state text NOT NULL,
    stopped boolean NOT NULL DEFAULT false,
    at_offset bigint NOT NULL DEFAULT 0,
    began_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
