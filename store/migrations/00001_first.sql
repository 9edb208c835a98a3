-- Times are microseconds since 1970-01-01 in UTC; 0 stands for none.

-- +goose Up
CREATE TABLE credentials (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    selector   TEXT    NOT NULL DEFAULT '',
    username   TEXT    NOT NULL,
    sealed     BLOB    NOT NULL,             -- password and elevation secret, encrypted
    created_at INTEGER NOT NULL,
    changed_at INTEGER NOT NULL
);

CREATE TABLE devices (
    id            INTEGER PRIMARY KEY,
    name          TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    site          TEXT    NOT NULL DEFAULT '',
    role          TEXT    NOT NULL DEFAULT '',
    platform      TEXT    NOT NULL,
    address       TEXT    NOT NULL,
    labels        TEXT    NOT NULL DEFAULT '', -- separated by line ends
    state         TEXT    NOT NULL DEFAULT 'active',
    serial        TEXT    NOT NULL DEFAULT '', -- what it must say it is; learnt at the first visit
    own_name      TEXT    NOT NULL DEFAULT '',
    model         TEXT    NOT NULL DEFAULT '',
    version       TEXT    NOT NULL DEFAULT '',
    host_key      TEXT    NOT NULL DEFAULT '', -- authorized-keys form; learnt at the first visit
    credential_id INTEGER REFERENCES credentials (id) ON DELETE SET NULL,
    created_at    INTEGER NOT NULL,
    edition       INTEGER NOT NULL DEFAULT 1,  -- goes up with each edit, for If-Match
    last_good     INTEGER NOT NULL DEFAULT 0,
    last_visit    INTEGER NOT NULL DEFAULT 0,
    last_change   INTEGER NOT NULL DEFAULT 0,
    problem       TEXT    NOT NULL DEFAULT '', -- reason code of the last visit, '' if it was good
    problem_since INTEGER NOT NULL DEFAULT 0,
    problem_what  TEXT    NOT NULL DEFAULT '',
    suspect       TEXT    NOT NULL DEFAULT ''  -- why the newest capture is suspect
);

CREATE TABLE blobs (
    id      INTEGER PRIMARY KEY,
    hash    BLOB    NOT NULL UNIQUE,           -- SHA-256 of the bytes
    size    INTEGER NOT NULL,
    base_id INTEGER REFERENCES blobs (id),     -- compressed against these bytes
    depth   INTEGER NOT NULL DEFAULT 0,        -- how many bases stand behind it
    data    BLOB                               -- NULL: in blob_chunks
);
CREATE TABLE blob_chunks (
    blob_id INTEGER NOT NULL REFERENCES blobs (id),
    number  INTEGER NOT NULL,
    data    BLOB    NOT NULL,
    PRIMARY KEY (blob_id, number)
) WITHOUT ROWID;

CREATE TABLE revisions (
    id         INTEGER PRIMARY KEY,
    device_id  INTEGER NOT NULL REFERENCES devices (id),
    datastore  TEXT    NOT NULL,
    part       TEXT    NOT NULL DEFAULT '',
    number     INTEGER NOT NULL,
    blob_id    INTEGER NOT NULL REFERENCES blobs (id),
    form_hash  BLOB    NOT NULL,               -- SHA-256 of the comparison form
    dialect    TEXT    NOT NULL,               -- name and version: "tidegate 1f2e3d"
    origin     TEXT    NOT NULL,               -- captured, imported, drafted
    arrived_at INTEGER NOT NULL,
    first_seen INTEGER NOT NULL,
    last_seen  INTEGER NOT NULL,
    same_as    INTEGER NOT NULL DEFAULT 0,     -- number of the first revision with the same comparison form
    suspect    TEXT    NOT NULL DEFAULT '',    -- why, in a sentence; '' if it is not
    lines      INTEGER NOT NULL,
    added      INTEGER NOT NULL DEFAULT 0,     -- against the revision before
    removed    INTEGER NOT NULL DEFAULT 0,
    changed    INTEGER NOT NULL DEFAULT 0,
    moved      INTEGER NOT NULL DEFAULT 0,
    chain      BLOB    NOT NULL,               -- hash over this row and the chain before it
    UNIQUE (device_id, datastore, part, number)
);

CREATE TABLE rounds (
    id          INTEGER PRIMARY KEY,
    origin      TEXT    NOT NULL,              -- demand, schedule
    account     TEXT    NOT NULL,
    selector    TEXT    NOT NULL,
    state       TEXT    NOT NULL,              -- running, done, cancelled, interrupted
    started_at  INTEGER NOT NULL,
    ended_at    INTEGER NOT NULL DEFAULT 0,
    planned     INTEGER NOT NULL,
    fresh       INTEGER NOT NULL DEFAULT 0,    -- outcome new
    unchanged   INTEGER NOT NULL DEFAULT 0,
    failed      INTEGER NOT NULL DEFAULT 0,
    passed_over INTEGER NOT NULL DEFAULT 0
);

-- One row a device and round. An unchanged visit is evidence and costs tens of
-- bytes: it has no reason, what or session.
CREATE TABLE visits (
    round_id   INTEGER NOT NULL REFERENCES rounds (id),
    device_id  INTEGER NOT NULL REFERENCES devices (id),
    outcome    TEXT    NOT NULL DEFAULT '',    -- '' while it waits
    started_at INTEGER NOT NULL DEFAULT 0,
    took       INTEGER NOT NULL DEFAULT 0,     -- microseconds
    reason     TEXT,
    what       TEXT,
    undecidable INTEGER,                       -- 1: only re-salted secrets differ
    PRIMARY KEY (round_id, device_id)
) WITHOUT ROWID;
CREATE INDEX visits_by_device ON visits (device_id, round_id);

-- What was said in a visit that failed. It may hold secrets.
CREATE TABLE sessions_kept (
    round_id  INTEGER NOT NULL,
    device_id INTEGER NOT NULL,
    sealed    BLOB    NOT NULL,
    PRIMARY KEY (round_id, device_id)
) WITHOUT ROWID;

CREATE TABLE schedule (
    id         INTEGER PRIMARY KEY CHECK (id = 1),
    expression TEXT    NOT NULL,
    zone       TEXT    NOT NULL,
    selector   TEXT    NOT NULL,
    changed_by TEXT    NOT NULL,
    changed_at INTEGER NOT NULL,
    last_due   INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE accounts (
    id            INTEGER PRIMARY KEY,
    name          TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    password_hash TEXT    NOT NULL,
    rights        TEXT    NOT NULL,            -- separated by blanks
    state         TEXT    NOT NULL DEFAULT 'active',
    one_time      INTEGER NOT NULL DEFAULT 0,  -- the password must be changed at the next sign-in
    created_at    INTEGER NOT NULL
);
CREATE TABLE sign_ins (
    token_hash BLOB    PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    created_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE tokens (
    id         INTEGER PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    name       TEXT    NOT NULL,
    token_hash BLOB    NOT NULL UNIQUE,
    created_at INTEGER NOT NULL,
    last_used  INTEGER NOT NULL DEFAULT 0,
    revoked_at INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE journal (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    at      INTEGER NOT NULL,
    account TEXT    NOT NULL,
    action  TEXT    NOT NULL,
    object  TEXT    NOT NULL,
    detail  TEXT    NOT NULL,
    chain   BLOB    NOT NULL
);
-- +goose StatementBegin
CREATE TRIGGER journal_no_update BEFORE UPDATE ON journal BEGIN SELECT raise(ABORT, 'the journal is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_no_delete BEFORE DELETE ON journal BEGIN SELECT raise(ABORT, 'the journal is append-only'); END;
-- +goose StatementEnd
