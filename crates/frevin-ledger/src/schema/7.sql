-- Sifts: a design that never changes, and what has happened since, which is only ever added to.
CREATE TABLE sift (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    operation INTEGER NOT NULL REFERENCES operation (seq),
    pc        TEXT NOT NULL,
    begun_at  TEXT NOT NULL,
    design    TEXT NOT NULL
) STRICT;
CREATE TABLE sift_event (
    sift     INTEGER NOT NULL REFERENCES sift (id),
    position INTEGER NOT NULL,
    at       TEXT NOT NULL,
    event    TEXT NOT NULL,
    PRIMARY KEY (sift, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER sift_stays BEFORE UPDATE ON sift
    BEGIN SELECT raise(ABORT, 'the design of a sift never changes'); END;
CREATE TRIGGER sift_is_kept BEFORE DELETE ON sift
    BEGIN SELECT raise(ABORT, 'a sift is never deleted'); END;
CREATE TRIGGER sift_event_stays BEFORE UPDATE ON sift_event
    BEGIN SELECT raise(ABORT, 'what happened in a sift never changes'); END;
CREATE TRIGGER sift_event_is_kept BEFORE DELETE ON sift_event
    BEGIN SELECT raise(ABORT, 'what happened in a sift is never deleted'); END;

-- The sift that a change or a visit was made for: the columns that the change put in force, the row that the visit measured.
ALTER TABLE change ADD COLUMN sift INTEGER REFERENCES sift (id);
ALTER TABLE change ADD COLUMN sift_configuration TEXT;
ALTER TABLE visit ADD COLUMN sift INTEGER REFERENCES sift (id);
ALTER TABLE visit ADD COLUMN sift_row INTEGER;
CREATE INDEX visit_by_sift ON visit (sift);
CREATE INDEX change_by_sift ON change (sift);

-- Evidence of other people's PCs, as their files told it. It decides nothing that is written.
CREATE TABLE foreign_evidence (
    digest      TEXT PRIMARY KEY,
    imported_at TEXT NOT NULL,
    file        TEXT NOT NULL,
    evidence    TEXT NOT NULL
) STRICT, WITHOUT ROWID;
