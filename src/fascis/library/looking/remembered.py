"""What was seen of folders before, so that a second look is quick: a cache, in the user's own."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from fascis.files.disk.door import delete_state
from fascis.files.own.private import make_private
from fascis.library.looking.seeing import Seen

VERSION = 2
_SCHEMA = f"""
PRAGMA user_version={VERSION};
CREATE TABLE seen(path BLOB PRIMARY KEY, mtime_ns INTEGER NOT NULL, at REAL NOT NULL,
 said TEXT NOT NULL) WITHOUT ROWID;
"""
# A folder that changed so shortly before it was seen may have changed again with the same time.
_SECONDS = 2.0


class Remembered:
    """Folders as they were seen. What cannot be read of it is seen again.

    Args:
        path: of the cache.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._known: dict[bytes, tuple[int, float, str]] = {}

    def load(self, root: bytes) -> None:
        """Takes in what is known of a folder and of all below it."""
        end = root.rstrip(b"/") + b"0"  # what sorts behind the slash
        sql = "SELECT path, mtime_ns, at, said FROM seen WHERE path=? OR (path>? AND path<?)"
        try:
            with closing(self._open()) as db:
                rows = db.execute(sql, (root, root.rstrip(b"/") + b"/", end))
                self._known |= {path: (mtime, at, said) for path, mtime, at, said in rows}
        except sqlite3.Error:
            self._known = {}

    def time_of(self, path: bytes) -> int:
        """The time in ns that a folder has if nothing came into it or went since; -1 for none."""
        known = self._known.get(path)
        return known[0] if known and known[0] / 1e9 <= known[1] - _SECONDS else -1

    def find(self, path: bytes) -> Seen | None:
        """A folder as it was seen; None where that cannot be read any more."""
        mtime_ns, _, said = self._known[path]
        try:
            return Seen.from_json(path, mtime_ns, json.loads(said))
        except (ValueError, TypeError, KeyError):
            return None

    def keep(self, folders: Iterable[Seen], at: float | None = None) -> None:
        """Remembers folders; a cache that cannot be written is none."""
        at = time.time() if at is None else at
        rows = (
            (seen.path, seen.mtime_ns, at, json.dumps(seen.as_json()))
            for seen in folders
            if self._known.get(seen.path, (0,))[0] != seen.mtime_ns
        )
        try:
            with closing(self._open()) as db, db:
                db.executemany("INSERT OR REPLACE INTO seen VALUES(?,?,?,?)", rows)
        except (sqlite3.Error, OSError):
            return

    def _open(self) -> sqlite3.Connection:
        make_private(self._path.parent)
        try:
            return self._opened()
        except sqlite3.DatabaseError:
            # It is damaged: what it knew is seen again.
            delete_state(self._path)
            return self._opened()

    def _opened(self) -> sqlite3.Connection:
        db = sqlite3.connect(self._path, timeout=20)
        try:
            if db.execute("PRAGMA user_version").fetchone()[0] != VERSION:
                db.executescript("DROP TABLE IF EXISTS seen;" + _SCHEMA)
        except BaseException:
            db.close()
            raise
        return db
