-- Sessions of the console: the hash of a cookie and of the token it was given for, so
-- that a new token ends them all.
CREATE TABLE rillmark.session (
    id    bytea PRIMARY KEY,
    until timestamptz NOT NULL
);
