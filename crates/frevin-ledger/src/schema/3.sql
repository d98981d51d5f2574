-- Frames are kept in blocks, so that no run has to be held in memory as a whole: `frames` of such a run
-- is empty, and `frame_encoding` says how each block is written.
CREATE TABLE frame_block (
    id    INTEGER PRIMARY KEY,
    run   INTEGER NOT NULL REFERENCES run (id),
    bytes BLOB    NOT NULL
) STRICT;
CREATE INDEX frame_block_by_run ON frame_block (run, id);
-- Under what a run was recorded; null where nobody looked.
ALTER TABLE run ADD COLUMN conditions TEXT;
-- What the PC was like before and after a visit; null where nobody looked.
ALTER TABLE visit ADD COLUMN surroundings TEXT;
