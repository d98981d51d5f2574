-- Plays: what is held while a game runs. The plan never changes; a play that has no end is still held, or was cut off.
CREATE TABLE play (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    pc       TEXT NOT NULL,
    begun_at TEXT NOT NULL,
    plan     TEXT NOT NULL,
    ended_at TEXT,
    ending   TEXT
) STRICT;
CREATE TRIGGER play_is_kept BEFORE DELETE ON play
    BEGIN SELECT raise(ABORT, 'a play is never deleted'); END;
CREATE TRIGGER play_plan_stays BEFORE UPDATE OF id, pc, begun_at, plan ON play
    BEGIN SELECT raise(ABORT, 'the plan of a play never changes'); END;

-- The play that a change was made for.
ALTER TABLE change ADD COLUMN play INTEGER REFERENCES play (id);
