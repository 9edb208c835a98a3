-- Times are microseconds since 1970-01-01 in UTC; 0 stands for none.

-- +goose Up
CREATE TABLE credentials (
    id          INTEGER PRIMARY KEY,
    name        TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    selector    TEXT    NOT NULL DEFAULT '',
    rank        INTEGER NOT NULL DEFAULT 100,  -- the lower is tried first
    username    TEXT    NOT NULL,
    sealed      BLOB    NOT NULL,              -- the secrets, or where to read them, encrypted
    per_minute  INTEGER NOT NULL DEFAULT 0,    -- most logins a minute; 0 for no limit
    commands_per_minute INTEGER NOT NULL DEFAULT 0,
    refusals    INTEGER NOT NULL DEFAULT 0,    -- one after the other, of all devices
    rests_until INTEGER NOT NULL DEFAULT 0,    -- not tried before
    proven_at   INTEGER NOT NULL DEFAULT 0,    -- when it was last accepted
    created_at  INTEGER NOT NULL,
    changed_at  INTEGER NOT NULL
);

-- How the key is derived from a passphrase, and what proves that a key fits.
CREATE TABLE vault (
    id    INTEGER PRIMARY KEY CHECK (id = 1),
    salt  BLOB    NOT NULL,
    proof BLOB    NOT NULL
);

CREATE TABLE jumps (
    id            INTEGER PRIMARY KEY,
    name          TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    address       TEXT    NOT NULL,
    via           TEXT    NOT NULL DEFAULT '', -- the jump host before it
    credential    TEXT    NOT NULL,            -- name of the credential that logs in to it
    host_keys     TEXT    NOT NULL DEFAULT '', -- as of a device
    at_once       INTEGER NOT NULL DEFAULT 0,  -- most visits through it at a time; 0 for no limit
    created_at    INTEGER NOT NULL
);

CREATE TABLE sites (
    name         TEXT    PRIMARY KEY COLLATE NOCASE,
    at_once      INTEGER NOT NULL DEFAULT 0,   -- most visits at a time; 0 for no limit
    closed_hours TEXT    NOT NULL DEFAULT '',  -- "07:00-19:00 Mon-Fri", several separated by line ends
    zone         TEXT    NOT NULL DEFAULT 'UTC'
) WITHOUT ROWID;

CREATE TABLE groups (
    name        TEXT    PRIMARY KEY COLLATE NOCASE,
    selector    TEXT    NOT NULL,
    description TEXT    NOT NULL DEFAULT ''
) WITHOUT ROWID;

CREATE TABLE devices (
    id            INTEGER PRIMARY KEY,
    name          TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    site          TEXT    NOT NULL DEFAULT '',
    role          TEXT    NOT NULL DEFAULT '',
    platform      TEXT    NOT NULL,
    address       TEXT    NOT NULL,            -- host:port each, separated by ", "
    transport     TEXT    NOT NULL DEFAULT '', -- telnet, console; '' for what the dialect says
    via           TEXT    NOT NULL DEFAULT '', -- name of a jump host
    old_algorithms INTEGER NOT NULL DEFAULT 0,
    patience      INTEGER NOT NULL DEFAULT 1,  -- so many times the dialect's time limits
    pair          TEXT    NOT NULL DEFAULT '', -- name of the pair or stack that it belongs to
    source        TEXT    NOT NULL DEFAULT '', -- the import that keeps it in step
    vanished      INTEGER NOT NULL DEFAULT 0,  -- 1: its import paused it, as it was no longer in it
    labels        TEXT    NOT NULL DEFAULT '', -- separated by line ends
    zone          TEXT    NOT NULL DEFAULT '', -- of its clock, where its messages name none; '' for UTC
    state         TEXT    NOT NULL DEFAULT 'active',
    serial        TEXT    NOT NULL DEFAULT '', -- what it must say it is; learnt at the first visit
    own_name      TEXT    NOT NULL DEFAULT '',
    model         TEXT    NOT NULL DEFAULT '',
    version       TEXT    NOT NULL DEFAULT '',
    uptime        TEXT    NOT NULL DEFAULT '',
    host_keys     TEXT    NOT NULL DEFAULT '', -- authorized-keys form or pin, separated by line ends; learnt at the first visit
    offered_key   TEXT    NOT NULL DEFAULT '', -- the one that was refused at the last visit
    old_in_use    TEXT    NOT NULL DEFAULT '', -- old algorithms that it used
    credential_id INTEGER REFERENCES credentials (id) ON DELETE SET NULL,
    created_at    INTEGER NOT NULL,
    edition       INTEGER NOT NULL DEFAULT 1,  -- goes up with each edit, for If-Match
    last_good     INTEGER NOT NULL DEFAULT 0,
    last_visit    INTEGER NOT NULL DEFAULT 0,
    last_change   INTEGER NOT NULL DEFAULT 0,
    problem       TEXT    NOT NULL DEFAULT '', -- reason code of the last visit, '' if it was good
    problem_since INTEGER NOT NULL DEFAULT 0,
    problem_what  TEXT    NOT NULL DEFAULT '',
    suspect       TEXT    NOT NULL DEFAULT '', -- why the newest capture is suspect
    unsaved       INTEGER NOT NULL DEFAULT 0,  -- lines that would be lost at a restart
    unsaved_since INTEGER NOT NULL DEFAULT 0
);

-- What a device said about itself, whenever it was something else than before.
CREATE TABLE nameplates (
    device_id INTEGER NOT NULL REFERENCES devices (id),
    since     INTEGER NOT NULL,
    name      TEXT    NOT NULL,
    serial    TEXT    NOT NULL,
    model     TEXT    NOT NULL,
    version   TEXT    NOT NULL,
    PRIMARY KEY (device_id, since)
) WITHOUT ROWID;

-- Contents. Most are kept by what they have not in common with another one.
-- A number is never given twice: what is told against a content that went must
-- not find another one in its place.
CREATE TABLE blobs (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    hash    BLOB    NOT NULL,                  -- SHA-256 of the bytes
    size    INTEGER NOT NULL,
    sum     INTEGER NOT NULL,                  -- xxHash64 of the bytes, for each reading
    base_id INTEGER REFERENCES blobs (id),     -- the bytes that it is told against
    place   INTEGER NOT NULL DEFAULT 0,        -- among those that go back to the same one; that one has 0
    data    BLOB                               -- NULL: in blob_chunks
);
-- The start of a hash finds it; the whole of it is compared. Nothing is stored
-- twice, as there is one writer, which looks before it writes.
CREATE INDEX blobs_by_hash ON blobs (substr(hash, 1, 6));
CREATE TABLE blob_chunks (
    blob_id INTEGER NOT NULL REFERENCES blobs (id),
    number  INTEGER NOT NULL,
    data    BLOB    NOT NULL,
    PRIMARY KEY (blob_id, number)
) WITHOUT ROWID;

-- Texts that configurations of a platform resemble. Each is kept twice, as many
-- contents need it.
CREATE TABLE primers (
    id       INTEGER NOT NULL,
    copy     INTEGER NOT NULL,
    platform TEXT    NOT NULL,
    hash     BLOB    NOT NULL,
    data     BLOB    NOT NULL,
    PRIMARY KEY (id, copy)
) WITHOUT ROWID;

-- Name and version of the dialects with which revisions were captured.
CREATE TABLE dialects (
    id   INTEGER PRIMARY KEY,
    name TEXT    NOT NULL UNIQUE               -- "tidegate 1f2e3d"
);

-- What revisions are of: a datastore and part of a device.
CREATE TABLE configurations (
    id        INTEGER PRIMARY KEY,
    device_id INTEGER NOT NULL REFERENCES devices (id),
    datastore TEXT    NOT NULL,
    part      TEXT    NOT NULL DEFAULT '',
    newest    INTEGER NOT NULL DEFAULT 0,      -- number of the revision that is in force since last
    last      INTEGER NOT NULL DEFAULT 0,      -- number of the revision that arrived last
    head      BLOB    NOT NULL DEFAULT x'',    -- the end of the chain
    UNIQUE (device_id, datastore, part)
);

CREATE TABLE revisions (
    configuration_id INTEGER NOT NULL REFERENCES configurations (id),
    number     INTEGER NOT NULL,
    blob_id    INTEGER REFERENCES blobs (id),  -- NULL: thinned out
    hash       BLOB,                           -- of a thinned one: SHA-256 of the bytes that were there
    form       BLOB,                           -- the first 16 bytes of the SHA-256 of the comparison form; NULL: it is the text
    dialect_id INTEGER NOT NULL REFERENCES dialects (id),
    origin     INTEGER NOT NULL DEFAULT 0,     -- 0 captured, 1 imported, 2 drafted
    arrived_at INTEGER NOT NULL,
    first_seen INTEGER,                        -- NULL: as arrived_at
    last_seen  INTEGER NOT NULL,
    same_as    INTEGER NOT NULL DEFAULT 0,     -- number of the first revision with the same comparison form
    suspect    TEXT    NOT NULL DEFAULT '',    -- why, in a sentence; '' if it is not
    author     TEXT    NOT NULL DEFAULT '',    -- who is on record for it
    lines      INTEGER NOT NULL,
    added      INTEGER NOT NULL DEFAULT 0,     -- against the one in force before
    removed    INTEGER NOT NULL DEFAULT 0,
    changed    INTEGER NOT NULL DEFAULT 0,
    moved      INTEGER NOT NULL DEFAULT 0,
    chain      BLOB    NOT NULL,               -- hash over this row and the chain before it
    PRIMARY KEY (configuration_id, number)
) WITHOUT ROWID;

-- What people have said of revisions.
CREATE TABLE notes (
    configuration_id INTEGER NOT NULL,
    number  INTEGER NOT NULL,
    pinned  INTEGER NOT NULL DEFAULT 0,        -- 1: never thinned out
    name    TEXT    NOT NULL DEFAULT '',
    remark  TEXT    NOT NULL DEFAULT '',
    account TEXT    NOT NULL,
    at      INTEGER NOT NULL,
    PRIMARY KEY (configuration_id, number)
) WITHOUT ROWID;

-- Revisions that somebody has blessed as known good. The last row of a
-- configuration is in force; the others are its history.
CREATE TABLE baselines (
    id               INTEGER PRIMARY KEY AUTOINCREMENT,
    configuration_id INTEGER NOT NULL REFERENCES configurations (id),
    number           INTEGER NOT NULL,         -- of the revision; 0: it was taken away
    remark           TEXT    NOT NULL DEFAULT '',
    account          TEXT    NOT NULL,
    at               INTEGER NOT NULL
);
CREATE INDEX baselines_by_configuration ON baselines (configuration_id);

-- What lies between a visit's captures and those before. What a person sees of
-- it is written when it has been looked at.
CREATE TABLE changes (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    device_id  INTEGER NOT NULL REFERENCES devices (id),
    round_id   INTEGER NOT NULL,
    since      INTEGER NOT NULL,               -- when the device was last seen without it
    found_at   INTEGER NOT NULL,               -- when it was seen with it
    first_at   INTEGER NOT NULL DEFAULT 0,     -- of its signals, by their arrival
    last_at    INTEGER NOT NULL DEFAULT 0,
    signals    INTEGER NOT NULL DEFAULT 0,     -- how many
    accounts   TEXT    NOT NULL DEFAULT '',    -- these are separated by line ends
    sources    TEXT    NOT NULL DEFAULT '',
    methods    TEXT    NOT NULL DEFAULT '',
    added      INTEGER NOT NULL,
    removed    INTEGER NOT NULL,
    changed    INTEGER NOT NULL,
    moved      INTEGER NOT NULL,
    suspect    TEXT    NOT NULL DEFAULT '',
    looked     INTEGER NOT NULL DEFAULT 0,     -- 1: the columns from here on are right
    told       INTEGER NOT NULL DEFAULT 0,     -- 1: whoever wants to know of changes has been told
    severity   INTEGER NOT NULL DEFAULT 0,     -- 0 low, 1 medium, 2 high
    sections   TEXT    NOT NULL DEFAULT '',    -- headings, separated by line ends; no secrets
    place      TEXT    NOT NULL DEFAULT 'none',-- inside, outside, perhaps, freeze, none
    hours      TEXT    NOT NULL DEFAULT '',    -- name of the window that decided
    undoes     INTEGER NOT NULL DEFAULT 0,     -- the change after which it was as it is now
    verdict    TEXT    NOT NULL DEFAULT 'open',
    reference  TEXT    NOT NULL DEFAULT '',
    remark     TEXT    NOT NULL DEFAULT '',
    judge      TEXT    NOT NULL DEFAULT '',    -- who gave the verdict
    rule       TEXT    NOT NULL DEFAULT '',    -- or by which rule or announcement
    judged_at  INTEGER NOT NULL DEFAULT 0,
    taker      TEXT    NOT NULL DEFAULT '',    -- who is on it
    taken_at   INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX changes_by_time ON changes (found_at);
CREATE INDEX changes_by_device ON changes (device_id, found_at);
CREATE INDEX changes_open ON changes (id) WHERE verdict = 'open';
CREATE INDEX changes_unlooked ON changes (id) WHERE looked = 0;
CREATE TABLE change_texts (
    configuration_id INTEGER NOT NULL,
    number    INTEGER NOT NULL,                -- of the revision with it
    before    INTEGER NOT NULL,                -- of the one without; 0 for none
    change_id INTEGER NOT NULL REFERENCES changes (id),
    PRIMARY KEY (configuration_id, number)
) WITHOUT ROWID;
CREATE INDEX change_texts_by_change ON change_texts (change_id);

-- What told us that a configuration may have changed; those that are alike and
-- come together are one row.
CREATE TABLE signals (
    id        INTEGER PRIMARY KEY,
    device_id INTEGER NOT NULL REFERENCES devices (id),
    at        INTEGER NOT NULL,                -- when the first arrived
    last      INTEGER NOT NULL,
    count     INTEGER NOT NULL DEFAULT 1,
    said_at   INTEGER NOT NULL DEFAULT 0,      -- what the sender's clock said, where it says a year and a zone
    medium    TEXT    NOT NULL,
    listener  TEXT    NOT NULL,
    sender    TEXT    NOT NULL,                -- address
    account   TEXT    NOT NULL DEFAULT '',
    source    TEXT    NOT NULL DEFAULT '',
    method    TEXT    NOT NULL DEFAULT '',
    text      TEXT    NOT NULL DEFAULT '',     -- what may be a secret in it is concealed
    state     TEXT    NOT NULL DEFAULT 'waiting', -- changed, nothing, ours
    change_id INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX signals_waiting ON signals (device_id) WHERE state = 'waiting';
CREATE INDEX signals_by_change ON signals (change_id) WHERE change_id > 0;
CREATE INDEX signals_by_device ON signals (device_id, at);

-- Who sends messages and is no device that we know of.
CREATE TABLE strangers (
    listener TEXT    NOT NULL,
    address  TEXT    NOT NULL,
    host     TEXT    NOT NULL,                 -- as the messages say
    count    INTEGER NOT NULL,
    first    INTEGER NOT NULL,
    last     INTEGER NOT NULL,
    sample   TEXT    NOT NULL,                 -- the last message; what may be a secret in it is concealed
    PRIMARY KEY (address, host, listener)
) WITHOUT ROWID;

-- Whose messages these are, where neither address nor name says so. What is empty
-- matters not.
CREATE TABLE senders (
    name      TEXT    PRIMARY KEY COLLATE NOCASE,
    listener  TEXT    NOT NULL DEFAULT '',
    address   TEXT    NOT NULL DEFAULT '',
    host      TEXT    NOT NULL DEFAULT '',
    key_hash  BLOB    NOT NULL DEFAULT x'',    -- SHA-256 of the key that comes with them
    device_id INTEGER REFERENCES devices (id), -- NULL: a relay, whose messages name who they are from
    account   TEXT    NOT NULL,
    at        INTEGER NOT NULL
) WITHOUT ROWID;

-- What is asked every few minutes, and the answers after the last good visit.
CREATE TABLE questions (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    selector TEXT    NOT NULL,
    every    INTEGER NOT NULL,                 -- seconds
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE answers (
    device_id INTEGER PRIMARY KEY REFERENCES devices (id),
    answer    TEXT    NOT NULL,
    asked_at  INTEGER NOT NULL,
    trouble   TEXT    NOT NULL DEFAULT ''      -- why the last question got no answer
);

-- Agreed hours (RFC 5545).
CREATE TABLE windows (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    freeze   INTEGER NOT NULL DEFAULT 0,       -- 1: nothing may change
    selector TEXT    NOT NULL DEFAULT '',
    zone     TEXT    NOT NULL,
    start    TEXT    NOT NULL,                 -- by the clock of the zone: 2026-11-24T22:00:00
    length   INTEGER NOT NULL,                 -- seconds
    rule     TEXT    NOT NULL DEFAULT '',
    excepted TEXT    NOT NULL DEFAULT '',      -- as start, separated by blanks
    remark   TEXT    NOT NULL DEFAULT '',
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

-- What gives a verdict by itself: rules, and announcements of changes to come.
CREATE TABLE judgements (
    name      TEXT    PRIMARY KEY COLLATE NOCASE,
    announced INTEGER NOT NULL DEFAULT 0,      -- 1: an announcement
    selector  TEXT    NOT NULL DEFAULT '',
    accounts  TEXT    NOT NULL DEFAULT '',     -- * and ? match as in file names; separated by blanks
    sections  TEXT    NOT NULL DEFAULT '',     -- section patterns, separated by line ends
    place     TEXT    NOT NULL DEFAULT '',     -- inside: only inside a window
    most      INTEGER NOT NULL DEFAULT 0,      -- lines; 0 for any number
    begins    INTEGER NOT NULL DEFAULT 0,
    ends      INTEGER NOT NULL DEFAULT 0,
    verdict   TEXT    NOT NULL,
    reference TEXT    NOT NULL DEFAULT '',
    remark    TEXT    NOT NULL DEFAULT '',
    account   TEXT    NOT NULL,
    at        INTEGER NOT NULL
) WITHOUT ROWID;

-- Where word of what happens can go.
CREATE TABLE channels (
    name       TEXT    PRIMARY KEY COLLATE NOCASE,
    kind       TEXT    NOT NULL,               -- console, mail, hook, syslog
    target     TEXT    NOT NULL DEFAULT '',    -- addresses, separated by ", "; or a URL
    credential TEXT    NOT NULL DEFAULT '',    -- of a hook: whose token signs
    account    TEXT    NOT NULL,
    at         INTEGER NOT NULL
) WITHOUT ROWID;

-- Who wants to know of what.
CREATE TABLE subscriptions (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    events   TEXT    NOT NULL,                 -- separated by blanks
    selector TEXT    NOT NULL DEFAULT '',
    severity INTEGER NOT NULL DEFAULT 0,       -- of changes: this one and above
    channel  TEXT    NOT NULL,
    digest   TEXT    NOT NULL DEFAULT '',      -- when, cron, five fields; '' for at once
    zone     TEXT    NOT NULL DEFAULT 'UTC',
    idle     INTEGER NOT NULL DEFAULT 0,       -- of a digest: 1 says so where nothing happened
    quiet    TEXT    NOT NULL DEFAULT '',      -- hours in which nothing is sent: 22:00-06:00
    per_hour INTEGER NOT NULL DEFAULT 20,      -- at most so many an hour; what is more comes together
    subject  TEXT    NOT NULL DEFAULT '',      -- templates; '' for the usual ones
    body     TEXT    NOT NULL DEFAULT '',
    paused   INTEGER NOT NULL DEFAULT 0,
    sent_for INTEGER NOT NULL DEFAULT 0,       -- of a digest: up to when it tells
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

-- What happened that somebody may want to know of.
CREATE TABLE notices (
    id        INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    kind      TEXT    NOT NULL,
    device_id INTEGER NOT NULL DEFAULT 0,
    change_id INTEGER NOT NULL DEFAULT 0,
    round_id  INTEGER NOT NULL DEFAULT 0,
    severity  INTEGER NOT NULL DEFAULT 0,
    title     TEXT    NOT NULL,
    detail    TEXT    NOT NULL DEFAULT '',
    sorted    INTEGER NOT NULL DEFAULT 0       -- 1: it is known who gets it
);
CREATE INDEX notices_unsorted ON notices (id) WHERE sorted = 0;
CREATE INDEX notices_by_time ON notices (at);

-- What is to be sent, or was.
CREATE TABLE deliveries (
    id           INTEGER PRIMARY KEY,
    subscription TEXT    NOT NULL,
    channel      TEXT    NOT NULL,
    notices      TEXT    NOT NULL,             -- their numbers, a JSON list
    digest       INTEGER NOT NULL DEFAULT 0,
    made_at      INTEGER NOT NULL,
    due_at       INTEGER NOT NULL,
    tries        INTEGER NOT NULL DEFAULT 0,
    state        TEXT    NOT NULL DEFAULT 'waiting', -- sent, dead
    trouble      TEXT    NOT NULL DEFAULT '',
    done_at      INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX deliveries_due ON deliveries (due_at) WHERE state = 'waiting';
CREATE INDEX deliveries_dead ON deliveries (id) WHERE state = 'dead';
CREATE INDEX deliveries_by_subscription ON deliveries (subscription, made_at);

-- Reports that are made by themselves.
CREATE TABLE reports (
    name       TEXT    PRIMARY KEY COLLATE NOCASE,
    expression TEXT    NOT NULL,               -- cron, five fields
    zone       TEXT    NOT NULL,
    span       INTEGER NOT NULL,               -- seconds back
    selector   TEXT    NOT NULL DEFAULT '',
    form       TEXT    NOT NULL,               -- html, pdf, csv
    channel    TEXT    NOT NULL,
    last_due   INTEGER NOT NULL DEFAULT 0,
    account    TEXT    NOT NULL,
    at         INTEGER NOT NULL
) WITHOUT ROWID;

-- Policies and standards: what people wrote, every version of it.
CREATE TABLE documents (
    id        INTEGER PRIMARY KEY,
    kind      TEXT    NOT NULL,                -- policy, standard
    name      TEXT    NOT NULL,
    hash      TEXT    NOT NULL,                -- SHA-256 of the text
    text      TEXT    NOT NULL,
    source    TEXT    NOT NULL DEFAULT '',     -- shipped, or the name of a source; '' for what somebody brought
    revision  TEXT    NOT NULL DEFAULT '',     -- the commit that it is of
    account   TEXT    NOT NULL,
    at        INTEGER NOT NULL,
    until     INTEGER NOT NULL DEFAULT 0       -- 0: it counts
);
CREATE UNIQUE INDEX documents_in_force ON documents (kind, name) WHERE until = 0;
CREATE INDEX documents_by_hash ON documents (hash);
-- Where they are read again before use.
CREATE TABLE document_sources (
    name      TEXT    PRIMARY KEY COLLATE NOCASE,
    remote    TEXT    NOT NULL,                -- a git repository, or a folder of this machine
    path      TEXT    NOT NULL DEFAULT '',     -- within it
    last_run  INTEGER NOT NULL DEFAULT 0,
    last_said TEXT    NOT NULL DEFAULT '',     -- what is wrong: file, line, column
    failed    INTEGER NOT NULL DEFAULT 0,
    revision  TEXT    NOT NULL DEFAULT '',
    account   TEXT    NOT NULL,
    at        INTEGER NOT NULL
) WITHOUT ROWID;
-- Values of slots that have one for each device.
CREATE TABLE slot_values (
    standard  TEXT    NOT NULL,
    device_id INTEGER NOT NULL REFERENCES devices (id),
    slot      TEXT    NOT NULL,
    value     TEXT    NOT NULL,
    PRIMARY KEY (standard, device_id, slot)
) WITHOUT ROWID;

-- What an audit said of a device, whenever it was something else than before.
CREATE TABLE audit_states (
    id        INTEGER PRIMARY KEY,
    device_id INTEGER NOT NULL REFERENCES devices (id),
    part      TEXT    NOT NULL,
    document  TEXT    NOT NULL,                -- policy:NAME, standard:NAME, baseline:DATASTORE
    hash      TEXT    NOT NULL,                -- of the document's version
    number    INTEGER NOT NULL,                -- of the newest revision that it held for; 0 for none
    edition   INTEGER NOT NULL,                -- of the device's record
    since     INTEGER NOT NULL,
    until     INTEGER NOT NULL DEFAULT 0,      -- 0: it holds
    outcomes  TEXT    NOT NULL,                -- a line each: item, blank, p f u or n
    passed    INTEGER NOT NULL,
    failed    INTEGER NOT NULL,
    undecidable INTEGER NOT NULL,
    agreed    INTEGER NOT NULL DEFAULT 0,      -- of a standard: lines that the device has
    lines     INTEGER NOT NULL DEFAULT 0       -- and those that it should have
);
CREATE UNIQUE INDEX audit_states_in_force ON audit_states (device_id, part, document) WHERE until = 0;
CREATE INDEX audit_states_by_time ON audit_states (since);

-- One thing that an audit found wrong.
CREATE TABLE findings (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    device_id INTEGER NOT NULL REFERENCES devices (id),
    part      TEXT    NOT NULL,
    document  TEXT    NOT NULL,
    item      TEXT    NOT NULL,                -- the rule, or the section
    severity  INTEGER NOT NULL,                -- 0 low, 1 medium, 2 high
    title     TEXT    NOT NULL,
    why       TEXT    NOT NULL,
    proofs    TEXT    NOT NULL,                -- JSON; secrets masked
    more      INTEGER NOT NULL DEFAULT 0,      -- places beyond those
    hash      TEXT    NOT NULL,                -- of the document's version
    number    INTEGER NOT NULL,                -- of the revision that proves it
    state     TEXT    NOT NULL DEFAULT 'open', -- closed
    first_at  INTEGER NOT NULL,                -- when it was found for the first time
    opened_at INTEGER NOT NULL,
    opened_by INTEGER NOT NULL DEFAULT 0,      -- the change that it came by; 0 for none
    closed_at INTEGER NOT NULL DEFAULT 0,
    closed_by INTEGER NOT NULL DEFAULT 0,      -- the change that mended it
    closed_number INTEGER NOT NULL DEFAULT 0,
    times     INTEGER NOT NULL DEFAULT 1,      -- how often it was opened
    owner     TEXT    NOT NULL DEFAULT '',
    reference TEXT    NOT NULL DEFAULT '',
    remark    TEXT    NOT NULL DEFAULT '',
    UNIQUE (device_id, part, document, item)
);
CREATE INDEX findings_open ON findings (document, item) WHERE state = 'open';

-- Accepted exceptions.
CREATE TABLE waivers (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    finding_id INTEGER NOT NULL DEFAULT 0,     -- 0: for a rule, and the devices of a selector
    document  TEXT    NOT NULL DEFAULT '',
    item      TEXT    NOT NULL DEFAULT '',
    selector  TEXT    NOT NULL DEFAULT '',
    reason    TEXT    NOT NULL,
    approved  TEXT    NOT NULL,                -- by whom
    until     INTEGER NOT NULL,
    warned    INTEGER NOT NULL DEFAULT 0,      -- 1: it was told that it runs out
    ended     INTEGER NOT NULL DEFAULT 0,      -- when somebody took it back
    account   TEXT    NOT NULL,
    at        INTEGER NOT NULL
);

-- What is thinned out by age; seconds.
CREATE TABLE retention (
    id        INTEGER PRIMARY KEY CHECK (id = 1),
    all_for   INTEGER NOT NULL,
    daily_for INTEGER NOT NULL,
    account   TEXT    NOT NULL,
    changed   INTEGER NOT NULL
);

-- Devices of which nothing may go, for a reason in law.
CREATE TABLE holds (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    selector TEXT    NOT NULL,
    reason   TEXT    NOT NULL,
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

-- Moments of the whole fleet that have a name.
CREATE TABLE moments (
    name    TEXT    PRIMARY KEY COLLATE NOCASE,
    at      INTEGER NOT NULL,
    remark  TEXT    NOT NULL DEFAULT '',
    account TEXT    NOT NULL,
    noted   INTEGER NOT NULL
) WITHOUT ROWID;

-- Searches that have a name.
CREATE TABLE searches (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    question TEXT    NOT NULL,                 -- JSON
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE rounds (
    id          INTEGER PRIMARY KEY,
    origin      TEXT    NOT NULL,              -- demand, schedule
    account     TEXT    NOT NULL,
    schedule    TEXT    NOT NULL DEFAULT '',   -- name of the one that it was due to
    selector    TEXT    NOT NULL,
    state       TEXT    NOT NULL,              -- running, done, cancelled, interrupted
    started_at  INTEGER NOT NULL,
    ended_at    INTEGER NOT NULL DEFAULT 0,
    planned     INTEGER NOT NULL,
    plan        BLOB,                          -- ids of the devices to visit, while it runs
    first_visit INTEGER NOT NULL,              -- its visits lie between these two, others' among them
    last_visit  INTEGER NOT NULL DEFAULT 9223372036854775807,
    spread      INTEGER NOT NULL DEFAULT 0,    -- as of its schedule
    tries       INTEGER NOT NULL DEFAULT 1,
    told        INTEGER NOT NULL DEFAULT 0,    -- 1: whoever wants to know of rounds has been told
    records     INTEGER NOT NULL DEFAULT 0,    -- 1: what is said is kept of good visits too
    fresh       INTEGER NOT NULL DEFAULT 0,    -- outcome new; the counts are written at the end
    unchanged   INTEGER NOT NULL DEFAULT 0,
    failed      INTEGER NOT NULL DEFAULT 0,
    passed_over INTEGER NOT NULL DEFAULT 0
);

-- One row a device and round, written when the visit has ended. An unchanged
-- visit is evidence and costs about twenty bytes: small numbers, no words, and
-- no index, as rows are only ever appended; a round knows its first and last.
CREATE TABLE visits (
    id         INTEGER PRIMARY KEY,
    round_id   INTEGER NOT NULL REFERENCES rounds (id),
    device_id  INTEGER NOT NULL REFERENCES devices (id),
    outcome    INTEGER NOT NULL,               -- 0 unchanged, 1 new, 2 failed, 3 passed over, 4 unchanged but for re-salted secrets
    started    INTEGER NOT NULL,               -- milliseconds after the round's start
    took       INTEGER NOT NULL                -- milliseconds
);

-- What there is to say of a visit that was not simply good.
CREATE TABLE visit_notes (
    round_id    INTEGER NOT NULL,
    device_id   INTEGER NOT NULL,
    reason      TEXT    NOT NULL DEFAULT '',
    what        TEXT    NOT NULL DEFAULT '',
    undecidable INTEGER NOT NULL DEFAULT 0,    -- 1: only re-salted secrets differ
    tries       INTEGER NOT NULL DEFAULT 1,
    story       TEXT    NOT NULL DEFAULT '',   -- its steps: a JSON list of pairs of milliseconds and words
    session     BLOB,                          -- what was said, encrypted
    PRIMARY KEY (round_id, device_id)
) WITHOUT ROWID;

CREATE TABLE schedules (
    id          INTEGER PRIMARY KEY,
    name        TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    description TEXT    NOT NULL DEFAULT '',
    expression  TEXT    NOT NULL,              -- cron, five fields
    zone        TEXT    NOT NULL,
    selector    TEXT    NOT NULL,
    state       TEXT    NOT NULL DEFAULT 'active',
    spread      INTEGER NOT NULL DEFAULT 0,    -- seconds over which the visits begin
    tries       INTEGER NOT NULL DEFAULT 3,    -- visits to a device within a round
    missed      TEXT    NOT NULL DEFAULT 'run',-- run or skip: what fell due in a downtime
    changed_by  TEXT    NOT NULL,
    changed_at  INTEGER NOT NULL,
    last_due    INTEGER NOT NULL DEFAULT 0
);

-- Imports that are kept in step.
-- Where mail is handed over.
CREATE TABLE mail (
    id         INTEGER PRIMARY KEY CHECK (id = 1),
    server     TEXT    NOT NULL,
    security   TEXT    NOT NULL,               -- starttls, tls, none
    sender     TEXT    NOT NULL,
    credential TEXT    NOT NULL DEFAULT '',
    account    TEXT    NOT NULL,
    changed    INTEGER NOT NULL
);

-- What does not count, besides what dialects say.
CREATE TABLE volatiles (
    name     TEXT    PRIMARY KEY COLLATE NOCASE,
    platform TEXT    NOT NULL,                 -- '' for all
    pattern  TEXT    NOT NULL,                 -- a section pattern
    selector TEXT    NOT NULL DEFAULT '',
    remark   TEXT    NOT NULL DEFAULT '',
    account  TEXT    NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

-- Copies of the archive that are kept current elsewhere.
CREATE TABLE copies (
    id          INTEGER PRIMARY KEY,
    name        TEXT    NOT NULL UNIQUE COLLATE NOCASE,
    destination TEXT    NOT NULL,              -- folder:/PATH, sftp://HOST/PATH, git:REMOTE
    names       TEXT    NOT NULL,              -- how its files are named
    selector    TEXT    NOT NULL DEFAULT '',
    credential  TEXT    NOT NULL DEFAULT '',   -- name of the one that logs in there
    host_key    TEXT    NOT NULL DEFAULT '',   -- learnt at the first time
    secrets     INTEGER NOT NULL DEFAULT 0,    -- 1: with the secrets; 0: masked
    last_run    INTEGER NOT NULL DEFAULT 0,
    last_good   INTEGER NOT NULL DEFAULT 0,
    last_said   TEXT    NOT NULL DEFAULT '',
    last_failed INTEGER NOT NULL DEFAULT 0
);
-- How far each copy is; a repository says so itself.
CREATE TABLE copied (
    copy_id          INTEGER NOT NULL REFERENCES copies (id) ON DELETE CASCADE,
    configuration_id INTEGER NOT NULL,
    number           INTEGER NOT NULL,         -- of the revision that arrived last
    PRIMARY KEY (copy_id, configuration_id)
) WITHOUT ROWID;

CREATE TABLE imports (
    name        TEXT    PRIMARY KEY COLLATE NOCASE,
    source      TEXT    NOT NULL,              -- file:PATH, https://..., git:REPOSITORY#PATH, command:LINE
    expression  TEXT    NOT NULL,
    zone        TEXT    NOT NULL,
    last_due    INTEGER NOT NULL DEFAULT 0,
    last_run    INTEGER NOT NULL DEFAULT 0,
    last_said   TEXT    NOT NULL DEFAULT '',
    last_failed INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;

-- How fresh the fleet was, noted after each round and at most once an hour.
CREATE TABLE freshness (
    at    INTEGER PRIMARY KEY,
    fresh INTEGER NOT NULL,
    late  INTEGER NOT NULL,
    stale INTEGER NOT NULL,
    none  INTEGER NOT NULL
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
