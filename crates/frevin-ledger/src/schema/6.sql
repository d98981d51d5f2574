-- Trials: a design that never changes, and what has happened since, which is only ever added to.
CREATE TABLE trial (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    operation INTEGER NOT NULL REFERENCES operation (seq),
    pc        TEXT NOT NULL,
    begun_at  TEXT NOT NULL,
    design    TEXT NOT NULL
) STRICT;
CREATE TABLE trial_event (
    trial    INTEGER NOT NULL REFERENCES trial (id),
    position INTEGER NOT NULL,
    at       TEXT NOT NULL,
    event    TEXT NOT NULL,
    PRIMARY KEY (trial, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER trial_stays BEFORE UPDATE ON trial
    BEGIN SELECT raise(ABORT, 'the design of a trial never changes'); END;
CREATE TRIGGER trial_is_kept BEFORE DELETE ON trial
    BEGIN SELECT raise(ABORT, 'a trial is never deleted'); END;
CREATE TRIGGER trial_event_stays BEFORE UPDATE ON trial_event
    BEGIN SELECT raise(ABORT, 'what happened in a trial never changes'); END;
CREATE TRIGGER trial_event_is_kept BEFORE DELETE ON trial_event
    BEGIN SELECT raise(ABORT, 'what happened in a trial is never deleted'); END;

-- The trial that a change or a visit was made for, and which of its states: a, b or neither.
ALTER TABLE change ADD COLUMN trial INTEGER REFERENCES trial (id);
ALTER TABLE change ADD COLUMN trial_place TEXT;
ALTER TABLE visit ADD COLUMN trial INTEGER REFERENCES trial (id);
ALTER TABLE visit ADD COLUMN trial_pair INTEGER;
ALTER TABLE visit ADD COLUMN trial_arm TEXT;
CREATE INDEX visit_by_trial ON visit (trial);
CREATE INDEX change_by_trial ON change (trial);
