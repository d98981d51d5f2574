-- One order of what was done to PCs and recorded on them: numbers that this table gives, never times.
CREATE TABLE operation (
    seq  INTEGER PRIMARY KEY AUTOINCREMENT,
    pc   TEXT,
    boot TEXT,
    kind TEXT NOT NULL,
    at   TEXT NOT NULL
) STRICT;
ALTER TABLE change ADD COLUMN operation INTEGER REFERENCES operation (seq);
ALTER TABLE rollback ADD COLUMN operation INTEGER REFERENCES operation (seq);
ALTER TABLE visit ADD COLUMN operation INTEGER REFERENCES operation (seq);

-- Until now each table had an order of its own, and times were what they had in common. A time counts
-- for no less than the latest before it in its own table, so that no table's own order is lost. Times
-- have any number of decimals: they are filled up to nine to be compared.
CREATE TEMP TABLE earlier AS
    WITH row AS (
        SELECT 'change' AS kind, id, pc, boot, begun_at AS at FROM change
        UNION ALL SELECT 'rollback', id, pc, boot, begun_at FROM rollback
        UNION ALL SELECT 'visit', id, pc, NULL, recorded_at FROM visit
    ), filled AS (
        SELECT *, substr(
            CASE WHEN instr(at, '.') > 0 THEN substr(at, 1, length(at) - 1)
                 ELSE substr(at, 1, length(at) - 1) || '.' END || '000000000', 1, 29) AS sortable
        FROM row
    ), kept AS (
        SELECT *, max(sortable) OVER (PARTITION BY kind ORDER BY id) AS no_less FROM filled
    )
    SELECT row_number() OVER (ORDER BY no_less, kind, id) AS seq, kind, id, pc, boot, at FROM kept;
INSERT INTO operation (seq, pc, boot, kind, at) SELECT seq, pc, boot, kind, at FROM earlier ORDER BY seq;
UPDATE change SET operation = (SELECT seq FROM earlier WHERE kind = 'change' AND earlier.id = change.id);
UPDATE rollback
    SET operation = (SELECT seq FROM earlier WHERE kind = 'rollback' AND earlier.id = rollback.id);
UPDATE visit SET operation = (SELECT seq FROM earlier WHERE kind = 'visit' AND earlier.id = visit.id);
DROP TABLE earlier;

-- A change that was put in the place of another's layers.
ALTER TABLE change ADD COLUMN replaces INTEGER REFERENCES change (id);
-- How many of its layers were let go: kept as others made them, or emptied for good. No way back is left.
ALTER TABLE change ADD COLUMN let_go INTEGER NOT NULL DEFAULT 0;
-- What was chosen for a tweak; null where an earlier Frevin did not keep it.
ALTER TABLE step ADD COLUMN arguments TEXT;
ALTER TABLE layer ADD COLUMN arguments TEXT;
-- The start of what the write waits for, when it was made; null where nobody looked.
ALTER TABLE step ADD COLUMN start TEXT;
ALTER TABLE rollback_step ADD COLUMN start TEXT;
-- Words are kept as words.
UPDATE step SET action = trim(action, '"'), takes_effect = trim(takes_effect, '"');
UPDATE rollback_step SET takes_effect = trim(takes_effect, '"');

-- A state is what a PC holds by Frevin's layers.
CREATE TABLE state (
    id     INTEGER PRIMARY KEY,
    digest TEXT NOT NULL,
    uses   TEXT NOT NULL,
    UNIQUE (digest, uses)
) STRICT;
-- The state that a visit was made in; null where that is not known. `tweaks` is what earlier Frevins
-- wrote, for whom "none" and "not known" were one.
ALTER TABLE visit ADD COLUMN state INTEGER REFERENCES state (id);
-- begun, whole, void
ALTER TABLE visit ADD COLUMN status TEXT NOT NULL DEFAULT 'whole';
ALTER TABLE visit ADD COLUMN void_reason TEXT;
ALTER TABLE visit ADD COLUMN context TEXT;
ALTER TABLE run ADD COLUMN is_whole INTEGER NOT NULL DEFAULT 1;
-- The version of the figures: others are counted again from the frames.
ALTER TABLE run ADD COLUMN figures_version INTEGER NOT NULL DEFAULT 1;
-- Frames are known again by it; null where nobody counted.
ALTER TABLE run ADD COLUMN frames_digest TEXT;
CREATE INDEX run_by_frames ON run (frames_digest);
