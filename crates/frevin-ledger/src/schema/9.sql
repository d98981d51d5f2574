-- What happens while something is held for a game.
CREATE TABLE play_event (
    play     INTEGER NOT NULL REFERENCES play (id),
    position INTEGER NOT NULL,
    at       TEXT NOT NULL,
    event    TEXT NOT NULL,
    PRIMARY KEY (play, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER play_event_stays BEFORE UPDATE ON play_event
    BEGIN SELECT raise(ABORT, 'what happened in a play never changes'); END;
CREATE TRIGGER play_event_is_kept BEFORE DELETE ON play_event
    BEGIN SELECT raise(ABORT, 'what happened in a play is never deleted'); END;

-- The play that a visit was recorded in.
ALTER TABLE visit ADD COLUMN play INTEGER REFERENCES play (id);
