"""Summaries of folders from earlier searches, so that the next is fast: a cache for this user."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from fascis.files.disk.door import delete_state
from fascis.files.errors import EnvironmentTrouble
from fascis.files.own.private import make_private
from fascis.library.looking.seeing import Seen

VERSION = 2
_SCHEMA = f"""
PRAGMA user_version={VERSION};
CREATE TABLE seen(path BLOB PRIMARY KEY, mtime_ns INTEGER NOT NULL, at REAL NOT NULL,
 said TEXT NOT NULL) WITHOUT ROWID;
"""
# A folder that changed this shortly before may have changed again with the same time.
_SECONDS = 2.0


class Remembered:
    """Stored summaries of folders. Unreadable ones are made again.

    Args:
        path: of the cache.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._known: dict[bytes, tuple[int, float, str]] = {}

    def load(self, root: bytes) -> None:
        """Loads what is known about a folder and everything below it."""
        end = root.rstrip(b"/") + b"0"  # Sorts after the slash.
        sql = "SELECT path, mtime_ns, at, said FROM seen WHERE path=? OR (path>? AND path<?)"
        try:
            with closing(self._open()) as db:
                rows = db.execute(sql, (root, root.rstrip(b"/") + b"/", end))
                self._known |= {path: (mtime, at, said) for path, mtime, at, said in rows}
        except (sqlite3.Error, EnvironmentTrouble):
            self._known = {}

    def time_of(self, path: bytes) -> int:
        """The time in ns of a folder to which nothing was added or removed; -1 if not known."""
        known = self._known.get(path)
        return known[0] if known and known[0] / 1e9 <= known[1] - _SECONDS else -1

    def find(self, path: bytes) -> Seen | None:
        """A folder's summary; None if it cannot be read any more."""
        mtime_ns, _, said = self._known[path]
        try:
            return Seen.from_json(path, mtime_ns, json.loads(said))
        except (ValueError, TypeError, KeyError):
            return None

    def keep(self, folders: Iterable[Seen], at: float | None = None) -> None:
        """Stores folders; a cache that cannot be written is skipped."""
        at = time.time() if at is None else at
        rows = (
            (seen.path, seen.mtime_ns, at, json.dumps(seen.as_json()))
            for seen in folders
            if self._known.get(seen.path, (0,))[0] != seen.mtime_ns
        )
        try:
            with closing(self._open()) as db, db:
                db.executemany("INSERT OR REPLACE INTO seen VALUES(?,?,?,?)", rows)
        except (sqlite3.Error, EnvironmentTrouble):
            return

    def _open(self) -> sqlite3.Connection:
        make_private(self._path.parent)
        try:
            return self._opened()
        except sqlite3.DatabaseError:
            # It is damaged: its contents are made again.
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
