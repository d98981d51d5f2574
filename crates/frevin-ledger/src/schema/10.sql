-- Profiles that their owner has deleted. Their revisions stay, so that it is known what was applied.
CREATE TABLE deleted_profile (
    profile    TEXT NOT NULL PRIMARY KEY,
    deleted_at TEXT NOT NULL
) STRICT, WITHOUT ROWID;
