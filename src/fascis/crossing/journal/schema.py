"""The tables of a journal, and the upgrades of older ones, version by version."""

from __future__ import annotations

APPLICATION_ID = 0x4641534A  # "FASJ"
VERSION = 10


GATHERED = """
CREATE TABLE alias(path BLOB PRIMARY KEY, place BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE derived(
  destination INTEGER NOT NULL, entry INTEGER NOT NULL,
  size INTEGER, mtime_ns INTEGER, inode INTEGER, digest BLOB,
  PRIMARY KEY(destination, entry)
) WITHOUT ROWID;
"""


LEADS = """
CREATE TABLE IF NOT EXISTS lead(
  entry INTEGER PRIMARY KEY, seen BLOB NOT NULL, leads BLOB NOT NULL, photos BLOB NOT NULL
);
CREATE TABLE IF NOT EXISTS outside(id INTEGER PRIMARY KEY, path BLOB NOT NULL);
"""


INDEX = "CREATE INDEX folder_there ON folder(there);\n"


# For an entry that counts as arrived: the place of the equal existing file.
STANDS = "ALTER TABLE entry ADD COLUMN stands BLOB;\n"


# The digests of other hash lists for entries.
LISTED = "CREATE TABLE listed(entry INTEGER NOT NULL, said TEXT NOT NULL);\n" + (
    "CREATE INDEX listed_entry ON listed(entry);\n"
)


SCHEMA = f"""
CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE strand(id INTEGER PRIMARY KEY, folder BLOB NOT NULL, role INTEGER NOT NULL);
CREATE TABLE folder(
  id INTEGER PRIMARY KEY, place BLOB NOT NULL,
  mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL, there BLOB
);
CREATE TABLE entry(
  id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name BLOB NOT NULL, kind INTEGER NOT NULL,
  size INTEGER NOT NULL, allocated INTEGER NOT NULL, inode INTEGER NOT NULL,
  mtime_ns INTEGER NOT NULL, ctime_ns INTEGER NOT NULL, mode INTEGER NOT NULL,
  links INTEGER NOT NULL, role INTEGER NOT NULL, fate INTEGER NOT NULL, strand INTEGER NOT NULL,
  twin INTEGER, origin INTEGER NOT NULL DEFAULT 0, why TEXT,
  known BLOB, outside BLOB, there BLOB, before BLOB
);
CREATE TABLE copy(
  destination INTEGER NOT NULL, entry INTEGER NOT NULL, state INTEGER NOT NULL,
  size INTEGER, mtime_ns INTEGER, inode INTEGER,
  proven INTEGER NOT NULL DEFAULT 0, at REAL NOT NULL DEFAULT 0, digest BLOB,
  seen_size INTEGER, seen_mtime_ns INTEGER, seen_ctime_ns INTEGER, seen_inode INTEGER,
  rewritten INTEGER NOT NULL DEFAULT 0, ctime_ns INTEGER,
  PRIMARY KEY(destination, entry)
) WITHOUT ROWID;
{GATHERED}
ALTER TABLE derived ADD COLUMN ctime_ns INTEGER;
{LEADS}
{STANDS}
{LISTED}
CREATE UNIQUE INDEX folder_place ON folder(place);
{INDEX}
CREATE INDEX entry_folder ON entry(folder);
CREATE TABLE act(
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL,
  begun REAL NOT NULL, ended REAL, outcome TEXT, destination INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE attention(
  id INTEGER PRIMARY KEY, place BLOB NOT NULL, drive TEXT NOT NULL,
  meaning TEXT NOT NULL, at REAL NOT NULL
);
"""


# Upgrades an older journal to the next version.
OLDER = {
    1: "ALTER TABLE copy ADD COLUMN at REAL NOT NULL DEFAULT 0;",
    2: """
ALTER TABLE entry ADD COLUMN known BLOB;
ALTER TABLE act ADD COLUMN destination INTEGER NOT NULL DEFAULT 0;
ALTER TABLE copy ADD COLUMN digest BLOB;
ALTER TABLE copy ADD COLUMN seen_size INTEGER;
ALTER TABLE copy ADD COLUMN seen_mtime_ns INTEGER;
ALTER TABLE copy ADD COLUMN seen_ctime_ns INTEGER;
ALTER TABLE copy ADD COLUMN seen_inode INTEGER;
UPDATE copy SET (digest, seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode) =
  (SELECT e.digest, e.seen_size, e.seen_mtime_ns, e.seen_ctime_ns, e.seen_inode
   FROM entry e WHERE e.id=copy.entry);
UPDATE meta SET key=key || '.0' WHERE key IN ('session', 'amending');
INSERT INTO meta SELECT 'state.0', '"' ||
  CASE WHEN value IN ('switched', 'parked', 'released') THEN 'settled' ELSE value END || '"'
  FROM meta WHERE key='state';
INSERT INTO meta SELECT 'settled_at.0', value FROM meta WHERE key='settled_at';
""",
    3: f"""
ALTER TABLE entry ADD COLUMN outside BLOB;
ALTER TABLE copy ADD COLUMN rewritten INTEGER NOT NULL DEFAULT 0;
{GATHERED}
""",
    4: """
ALTER TABLE folder ADD COLUMN there BLOB;
ALTER TABLE entry ADD COLUMN there BLOB; ALTER TABLE entry ADD COLUMN before BLOB;
""",
    5: LEADS,
    6: "ALTER TABLE copy ADD COLUMN ctime_ns INTEGER; ALTER TABLE derived ADD COLUMN ctime_ns "
    "INTEGER;",
    7: f"""
DROP INDEX IF EXISTS folder_there;
UPDATE folder SET there=place WHERE there IS NULL;
{INDEX}""",
    8: STANDS,
    9: LISTED,
}


def large_sum(column: str) -> str:
    """A sum of bytes in SQL, as two numbers.

    Sparse files can be so large that SQLite's own sum fails.
    """
    return f"coalesce(sum(({column}) >> 32), 0), coalesce(sum(({column}) & 4294967295), 0)"


def joined(high: int, low: int) -> int:
    """The sum from the two numbers of :func:`large_sum`."""
    return (int(high) << 32) + int(low)


# Every kind of entry on one destination, with its number of files and bytes.
ALIKE = """
SELECT e.kind AS kind, e.fate AS fate, e.origin AS origin,
  CASE WHEN e.outside IS NOT NULL THEN 1 END AS outside,
  CASE WHEN e.stands IS NOT NULL THEN 1 END AS stands,
  CASE WHEN e.twin IS NOT NULL THEN 1 END AS twin,
  CASE WHEN e.why IS NOT NULL THEN 1 END AS why,
  c.state AS state, c.proven AS proven, c.rewritten AS rewritten, c.at<>0 AS at,
  count(*) AS files, sum(coalesce(c.seen_size, e.size) >> 32) AS high,
  sum(coalesce(c.seen_size, e.size) & 4294967295) AS low
FROM entry e LEFT JOIN copy c ON c.entry=e.id AND c.destination=?
GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11
"""
