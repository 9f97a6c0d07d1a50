-- An outlet's last hour, as its charts have it, so that it outlives a restart.
CREATE TABLE rillmark.outlet_history (
    outlet_id  bigint PRIMARY KEY REFERENCES rillmark.outlet ON DELETE CASCADE,
    points     jsonb NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now()
);
