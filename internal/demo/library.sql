CREATE TYPE copy_condition AS ENUM ('new', 'good', 'worn', 'damaged');
CREATE TYPE hold_state AS ENUM ('waiting', 'ready', 'collected', 'expired');

CREATE TABLE branches (
    branch_id     integer PRIMARY KEY,
    name          text NOT NULL,
    address       jsonb NOT NULL,
    opening_hours text[] NOT NULL,
    opened_on     date NOT NULL
);

CREATE TABLE patrons (
    patron_id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    card_number bigint NOT NULL UNIQUE,
    name        text NOT NULL,
    email       text,
    born_on     date,
    branch_id   integer NOT NULL REFERENCES branches,
    preferences jsonb NOT NULL DEFAULT '{}',
    active      boolean NOT NULL DEFAULT true,
    joined_at   timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE copies (
    copy_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work_id     integer NOT NULL,
    branch_id   integer NOT NULL REFERENCES branches,
    barcode     text NOT NULL UNIQUE,
    shelf_mark  text NOT NULL,
    condition   copy_condition NOT NULL DEFAULT 'good',
    price       numeric(8,2) NOT NULL,
    acquired_on date NOT NULL
);

CREATE TABLE loans (
    loan_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    copy_id     bigint NOT NULL REFERENCES copies,
    patron_id   bigint NOT NULL REFERENCES patrons,
    branch_id   integer NOT NULL REFERENCES branches,
    lent_at     timestamptz NOT NULL DEFAULT now(),
    due_on      date NOT NULL,
    renewals    smallint NOT NULL DEFAULT 0,
    returned_at timestamptz
);
CREATE INDEX ON loans (copy_id);
CREATE INDEX ON loans (due_on) WHERE returned_at IS NULL;

CREATE TABLE holds (
    hold_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work_id     integer NOT NULL,
    patron_id   bigint NOT NULL REFERENCES patrons,
    branch_id   integer NOT NULL REFERENCES branches,
    state       hold_state NOT NULL DEFAULT 'waiting',
    placed_at   timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE fees (
    fee_id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    loan_id     bigint NOT NULL REFERENCES loans,
    patron_id   bigint NOT NULL REFERENCES patrons,
    amount      numeric(6,2) NOT NULL,
    reason      text NOT NULL,
    assessed_at timestamp NOT NULL DEFAULT localtimestamp,
    paid_at     timestamptz
);
CREATE INDEX ON fees (loan_id);

CREATE TABLE notices (
    notice_id  uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    kind       text NOT NULL,
    subject    text NOT NULL,
    body       jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Updates and deletes of these carry the whole old row, so that consumers see
-- what changed.
ALTER TABLE patrons REPLICA IDENTITY FULL;
ALTER TABLE copies REPLICA IDENTITY FULL;
ALTER TABLE loans REPLICA IDENTITY FULL;
ALTER TABLE holds REPLICA IDENTITY FULL;
ALTER TABLE fees REPLICA IDENTITY FULL;
