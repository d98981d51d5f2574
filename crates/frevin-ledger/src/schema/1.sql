CREATE TABLE revision (
    profile   TEXT    NOT NULL,
    number    INTEGER NOT NULL,
    hash      TEXT    NOT NULL,
    parent    INTEGER,
    message   TEXT    NOT NULL,
    saved_at  TEXT    NOT NULL,
    document  TEXT    NOT NULL,
    PRIMARY KEY (profile, number)
) STRICT;
CREATE TRIGGER revision_never_changes BEFORE UPDATE ON revision
    BEGIN SELECT RAISE(ABORT, 'a revision never changes'); END;
CREATE TRIGGER revision_never_goes BEFORE DELETE ON revision
    BEGIN SELECT RAISE(ABORT, 'a revision never goes'); END;

CREATE TABLE snapshot (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    pc       TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    reason   TEXT NOT NULL,
    is_whole INTEGER NOT NULL
) STRICT;
CREATE TABLE snapshot_state (
    snapshot INTEGER NOT NULL REFERENCES snapshot (id),
    position INTEGER NOT NULL,
    address  TEXT    NOT NULL,
    state    TEXT    NOT NULL,
    PRIMARY KEY (snapshot, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER snapshot_state_never_changes BEFORE UPDATE ON snapshot_state
    BEGIN SELECT RAISE(ABORT, 'a snapshot never changes'); END;

CREATE TABLE change (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    pc       TEXT    NOT NULL,
    snapshot INTEGER NOT NULL REFERENCES snapshot (id),
    title    TEXT    NOT NULL,
    profile  TEXT,
    revision INTEGER,
    boot     TEXT    NOT NULL,
    begun_at TEXT    NOT NULL,
    ended_at TEXT,
    status   TEXT    NOT NULL,
    FOREIGN KEY (profile, revision) REFERENCES revision (profile, number)
) STRICT;
CREATE TABLE step (
    change       INTEGER NOT NULL REFERENCES change (id),
    position     INTEGER NOT NULL,
    tweak        TEXT    NOT NULL,
    address      TEXT    NOT NULL,
    before       TEXT    NOT NULL,
    after        TEXT    NOT NULL,
    action       TEXT    NOT NULL,
    takes_effect TEXT    NOT NULL,
    reason       TEXT    NOT NULL,
    PRIMARY KEY (change, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE rollback (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    pc        TEXT NOT NULL,
    selection TEXT NOT NULL,
    boot      TEXT NOT NULL,
    begun_at  TEXT NOT NULL,
    ended_at  TEXT,
    status    TEXT NOT NULL
) STRICT;
CREATE TABLE rollback_step (
    rollback     INTEGER NOT NULL REFERENCES rollback (id),
    position     INTEGER NOT NULL,
    step         TEXT    NOT NULL,
    takes_effect TEXT    NOT NULL,
    PRIMARY KEY (rollback, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE stack (
    pc       TEXT NOT NULL,
    identity TEXT NOT NULL,
    address  TEXT NOT NULL,
    original TEXT NOT NULL,
    PRIMARY KEY (pc, identity)
) STRICT, WITHOUT ROWID;
CREATE TABLE layer (
    pc       TEXT    NOT NULL,
    identity TEXT    NOT NULL,
    position INTEGER NOT NULL,
    change   INTEGER NOT NULL REFERENCES change (id),
    tweak    TEXT    NOT NULL,
    state    TEXT    NOT NULL,
    PRIMARY KEY (pc, identity, position),
    FOREIGN KEY (pc, identity) REFERENCES stack (pc, identity)
) STRICT, WITHOUT ROWID;

CREATE TABLE scene (
    name       TEXT NOT NULL PRIMARY KEY,
    game       TEXT NOT NULL,
    graphics   TEXT NOT NULL,
    resolution TEXT NOT NULL,
    route      TEXT NOT NULL
) STRICT;
CREATE TABLE visit (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    scene       TEXT NOT NULL REFERENCES scene (name),
    pc          TEXT,
    state_name  TEXT NOT NULL,
    recorded_at TEXT NOT NULL,
    tweaks      TEXT NOT NULL
) STRICT;
CREATE INDEX visit_by_scene ON visit (scene, state_name);
CREATE TABLE run (
    id             INTEGER PRIMARY KEY AUTOINCREMENT,
    visit          INTEGER NOT NULL REFERENCES visit (id),
    is_warm_up     INTEGER NOT NULL,
    source         TEXT    NOT NULL,
    boot           TEXT,
    run_since_boot INTEGER,
    waits          INTEGER NOT NULL,
    metrics        TEXT    NOT NULL,
    frame_encoding TEXT    NOT NULL,
    frames         BLOB    NOT NULL
) STRICT;
CREATE INDEX run_by_visit ON run (visit);
