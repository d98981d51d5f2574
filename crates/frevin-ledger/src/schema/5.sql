-- What was written of each part of the ledger that decides what is written to a PC, as a digest over its
-- rows: `schema`, `layers PC`, `change N`, `rollback N`, `revision NAME@N`, and `all` over the others.
CREATE TABLE seal (
    part   TEXT NOT NULL PRIMARY KEY,
    digest TEXT NOT NULL
) STRICT, WITHOUT ROWID;
