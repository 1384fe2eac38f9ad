"""What lists state about the files of a library: its own manifest and inventory, and other lists.

They are kept in a database that ends with the run, so that a library of a million files needs no
more memory than one of ten.
"""

from __future__ import annotations

import io
import os
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct, field

from fascis.files.digests import Algorithm
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Damaged, told
from fascis.files.hash_lists import HashList, Listed, place_key
from fascis.files.inventory import Entry, read_inventory
from fascis.files.manifest import listable, read_manifest
from fascis.library.own import INVENTORY, MANIFEST
from fascis.words.speech import tr

Place = bytes
# Listed files that are missing: at most this many are named.
_MOST_MISSING = 1000
# Files in one query.
_AT_ONCE = 256


class Recorded(NamedTuple):
    """What the lists state about one file; size and time are None if only the manifest has it."""

    digest: bytes
    size: int | None
    mtime_ns: int | None


class File(Struct):
    """A file that exists.

    Attributes:
        known: from the library's own lists.
        said: from other lists.
        asked: both were looked up.
    """

    place: Place
    size: int
    known: Recorded | None = None
    said: Sequence[Listed] = field(default_factory=tuple)
    asked: bool = False


class Records:
    """What a library's own lists state about its files; the manifest decides.

    The inventory adds sizes, times and odd names.

    Attributes:
        unlisted: files looked up that its own lists do not have.
        algorithms: of the digests in other lists.

    Raises:
        Damaged: there is no manifest, nor a list of others.
    """

    def __init__(self, medium: Medium, root: Path, lists: Sequence[HashList]) -> None:
        self.algorithms: set[Algorithm] = set()
        self.unlisted: list[Place] = []
        self._medium, self._root = medium, root
        self._loaded = False
        self.has_manifest = medium.exists(MANIFEST)
        if not self.has_manifest and not lists:
            raise Damaged(
                root,
                tr("there is no manifest"),
                tr(
                    "Only a library that arrived by a crossing can be verified. Nothing was "
                    "changed."
                ),
            )
        # No name: SQLite keeps it in memory, and moves it to a file of its own when it grows.
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.execute(
            "CREATE TABLE file(place BLOB PRIMARY KEY, digest BLOB NOT NULL, size INTEGER, "
            "mtime_ns INTEGER, found INTEGER NOT NULL DEFAULT 0) WITHOUT ROWID"
        )
        self._db.execute("CREATE TABLE listed(key BLOB, place BLOB, said TEXT, found INTEGER)")
        self._db.execute("BEGIN")
        for one in lists:
            self._read_list(one)
        self._db.execute("CREATE INDEX listed_key ON listed(key, found)")

    def close(self) -> None:
        """Forgets them."""
        self._db.close()

    def ask(self, files: list[File]) -> list[File]:
        """The files that a list has, with what it states about them.

        Raises:
            Damaged: the library's own lists cannot be understood.
        """
        self._load()
        new = [file for file in files if not file.asked]
        for at in range(0, len(new), _AT_ONCE):
            self._ask_some(new[at : at + _AT_ONCE])
        return [file for file in files if file.known or file.said]

    def _ask_some(self, files: list[File]) -> None:
        places = [file.place for file in files]
        some = f"place IN ({','.join('?' * len(places))})"
        rows = self._db.execute(
            f"SELECT place, digest, size, mtime_ns FROM file WHERE {some}", places
        )
        known = {place: Recorded(*recorded) for place, *recorded in rows}
        self._db.execute(f"UPDATE file SET found=1 WHERE {some}", places)
        for file in files:
            file.known, file.said, file.asked = known.get(file.place), self._said(file.place), True
            if file.known is None and self.has_manifest:
                self.unlisted.append(file.place)

    def _said(self, place: Place) -> Sequence[Listed]:
        if not self.algorithms:
            return ()
        key = place_key(place)
        rows = self._db.execute("SELECT rowid, said FROM listed WHERE key=?", (key,)).fetchall()
        self._db.executemany("UPDATE listed SET found=1 WHERE rowid=?", ((r[0],) for r in rows))
        return [Listed.from_text(place, said) for _, said in rows]

    def total_bytes(self) -> int:
        """The total length of all recorded files, as far as it is known."""
        row = self._db.execute("SELECT total(size) FROM file").fetchone()
        return int(row[0])

    def missing(self) -> list[Place]:
        """The places that were not looked up, sorted."""
        self._load()
        rows = self._db.execute("SELECT place FROM file WHERE found=0 ORDER BY place")
        return [place for (place,) in rows]

    def listed_and_missing(self) -> list[Place]:
        """Files in other lists that were not looked up."""
        sql = "SELECT DISTINCT place FROM listed WHERE found=0 ORDER BY place LIMIT ?"
        return [place for (place,) in self._db.execute(sql, (_MOST_MISSING,))]

    def count_listed_and_missing(self) -> int:
        """The number of these files."""
        sql = "SELECT count(DISTINCT key) FROM listed WHERE found=0"
        return int(self._db.execute(sql).fetchone()[0])

    # -- reading the lists -------------------------------------------------------------------------

    def _read_list(self, given: HashList) -> None:
        base, below = bytes(given.base), os.path.realpath(bytes(self._root)) + b"/"

        def rows() -> Iterator[tuple[bytes, bytes, str, int]]:
            for listed in given.read():
                self.algorithms |= listed.algorithms()
                place = place_in(base, listed.place, below)
                yield place_key(place), place, listed.as_text(), 0

        self._db.executemany("INSERT INTO listed VALUES(?,?,?,?)", rows())

    def _load(self) -> None:
        """Reads the library's own lists at the first lookup; reading files starts earlier."""
        if self._loaded or not self.has_manifest:
            return
        self._loaded = True
        own = self._root / ".fascis"
        with _stream(self._medium, MANIFEST) as stream:
            manifest = read_manifest(stream, own / "manifest.b3")
            if not self._medium.exists(INVENTORY):
                self._put((place, digest, None, None) for digest, place in manifest)
                return
            with (
                _stream(self._medium, INVENTORY) as other,
                io.TextIOWrapper(other, "utf-8", newline="", errors="surrogateescape") as text,
            ):
                entries = read_inventory(text, own / "inventory.csv")
                try:
                    self._put_both(manifest, entries)
                except OverflowError as error:
                    raise Damaged(
                        own / "inventory.csv",
                        tr("a record has a date that no file has"),
                        tr("Nothing was changed."),
                    ) from error

    def _put(self, rows: Iterable[tuple[Place, bytes, int | None, int | None]]) -> None:
        self._db.executemany(
            "INSERT OR REPLACE INTO file(place, digest, size, mtime_ns) VALUES(?,?,?,?)", rows
        )

    def _put_both(self, manifest: Iterable[tuple[bytes, Place]], entries: Iterator[Entry]) -> None:
        """Combines both lists, in one pass as far as they have the same order."""
        odd: list[Entry] = []
        entry = next(entries, None)

        def rows() -> Iterator[tuple[Place, bytes, int | None, int | None]]:
            nonlocal entry
            for digest, place in manifest:
                while entry and entry.place != place and not listable(entry.place):
                    odd.append(entry)
                    entry = next(entries, None)
                if entry and entry.place == place:
                    yield place, digest, entry.size, entry.mtime_ns
                    entry = next(entries, None)
                else:
                    yield place, digest, None, None

        self._put(rows())
        self._add(odd)
        if entry:
            self._add([entry])
        self._add(entries)

    def _add(self, entries: Iterable[Entry]) -> None:
        self._db.executemany(
            "INSERT INTO file(place, digest, size, mtime_ns) VALUES(?,?,?,?) ON CONFLICT"
            "(place) DO UPDATE SET size=excluded.size, mtime_ns=excluded.mtime_ns",
            ((e.place, e.digest, e.size, e.mtime_ns) for e in entries),
        )


@contextmanager
def _stream(medium: Medium, place: bytes) -> Iterator[io.BufferedReader]:
    try:
        file = medium.open(place)
        try:
            yield as_stream(file)
        finally:
            file.close()
    except OSError as error:
        raise told(error, tr("read"), place) from error


def place_in(base: bytes, place: bytes, below: bytes) -> bytes:
    """The place in a library that a list means, wherever the list lies.

    Args:
        base: the folder that the list's places count from.
        below: the library's real folder, with a slash.
    """
    whole = base + b"/" + place
    return whole.removeprefix(below) if whole.startswith(below) else place
