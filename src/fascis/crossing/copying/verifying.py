"""Verifying a library again, a year later say.

Everything is read and compared with its manifest.
"""

from __future__ import annotations

import io
import os
import sqlite3
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, Self

from fascis.crossing.copying.file import Buffers, read_back
from fascis.crossing.copying.helpers import Helpers, helper_count
from fascis.crossing.copying.proof import Proof
from fascis.crossing.model.small import SMALL_FILE
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.digests import Algorithm
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Damaged, EnvironmentTrouble, told
from fascis.files.hash_lists import HashList, Listed, place_key
from fascis.files.inventory import read_inventory
from fascis.files.manifest import read_manifest
from fascis.files.names import join
from fascis.files.times import mtime_of
from fascis.library.identity import INVENTORY, MANIFEST, OWN

Place = bytes
# Read between two looks at the drive's counter; of small files, which go to helpers, more.
BATCH_FILES, BATCH_BYTES = 256, 256 << 20
SMALL_FILES = 2048
# What lists have and is not there: told one by one up to so many.
_MOST_MISSING = 1000
# So few are read here before a helper would have started.
LEAST_FILES = 512


@dataclass(slots=True)
class Verification:
    """What was found. *Edited*: size or time differs; *damaged*: same size and time, other content.

    ``proven``: all of it was read from the drive itself, not perhaps from memory. ``list_…``: what
    others' hash lists say otherwise, or say and is not there (the first thousand, and how many);
    ``said`` what is wrong with these lists themselves.
    """

    files: int = 0
    bytes: int = 0
    matching: int = 0
    edited: list[Place] = field(default_factory=list)
    damaged: list[Place] = field(default_factory=list)
    missing: list[Place] = field(default_factory=list)
    unlisted: list[Place] = field(default_factory=list)
    proven: bool = True
    list_mismatch: list[Place] = field(default_factory=list)
    list_missing: list[Place] = field(default_factory=list)
    list_missing_files: int = 0
    said: list[str] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """True when nothing is damaged or missing, and all is as hash lists say."""
        wrong = self.damaged or self.missing or self.list_mismatch or self.list_missing
        return not wrong


class _Recorded(NamedTuple):
    """What the lists say of one file; size and time are None where only the manifest has it."""

    digest: bytes
    size: int | None
    mtime_ns: int | None


class _Asked(NamedTuple):
    """A file that is to be read.

    What its own lists say, where they say anything, and what those of others do.
    """

    place: Place
    known: _Recorded | None
    said: list[Listed]
    size: int


class _Got(NamedTuple):
    """What reading a file gave, see :class:`~fascis.crossing.copying.file.ReadBack`."""

    digest: bytes
    pages_gone: bool
    stored: int
    others: dict[Algorithm, bytes]


class _Records:
    """What a library's own lists say of its files.

    In a database that goes with the run, so that a library of a million files takes no more memory
    than one of ten. The manifest decides; the inventory adds sizes, times and odd names.
    """

    def __init__(self, medium: Medium, root: Path, lists: Sequence[HashList]) -> None:
        self.algorithms: set[Algorithm] = set()
        self._found: list[tuple[Place]] = []
        self.has_manifest = medium.exists(MANIFEST)
        if not self.has_manifest and not lists:
            raise Damaged(
                root,
                "there is no manifest",
                "Only a library that arrived by a crossing can be verified. Nothing was changed.",
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
            self._read_list(one, root)
        self._db.execute("CREATE INDEX listed_key ON listed(key, found)")
        if not self.has_manifest:
            return
        self._read_manifest(medium, root / ".fascis/manifest.b3")
        if medium.exists(INVENTORY):
            self._read_inventory(medium, root / ".fascis/inventory.csv")

    def _read_list(self, given: HashList, root: Path) -> None:
        base, below = bytes(given.base), os.path.realpath(bytes(root)) + b"/"

        def rows() -> Iterator[tuple[bytes, bytes, str, int]]:
            for listed in given.read():
                self.algorithms |= listed.algorithms()
                place = place_in(base, listed.place, below)
                yield place_key(place), place, listed.as_text(), 0

        self._db.executemany("INSERT INTO listed VALUES(?,?,?,?)", rows())

    def said(self, place: Place) -> list[Listed]:
        """What others' lists say of a file that was found."""
        if not self.algorithms:
            return []
        key = place_key(place)
        rows = self._db.execute("SELECT rowid, said FROM listed WHERE key=?", (key,)).fetchall()
        self._db.executemany("UPDATE listed SET found=1 WHERE rowid=?", ((r[0],) for r in rows))
        return [Listed.from_text(place, said) for _, said in rows]

    def listed_and_missing(self) -> list[Place]:
        """What others' lists have and was not found."""
        sql = "SELECT DISTINCT place FROM listed WHERE found=0 ORDER BY place LIMIT ?"
        return [place for (place,) in self._db.execute(sql, (_MOST_MISSING,))]

    def count_listed_and_missing(self) -> int:
        """How many there are of these."""
        sql = "SELECT count(DISTINCT key) FROM listed WHERE found=0"
        return int(self._db.execute(sql).fetchone()[0])

    def _read_manifest(self, medium: Medium, path: Path) -> None:
        with _stream(medium, MANIFEST) as stream:
            self._db.executemany(
                "INSERT OR REPLACE INTO file(digest, place) VALUES(?,?)",
                read_manifest(stream, path),
            )

    def _read_inventory(self, medium: Medium, path: Path) -> None:
        with (
            _stream(medium, INVENTORY) as stream,
            io.TextIOWrapper(stream, "utf-8", newline="", errors="surrogateescape") as text,
        ):
            entries = ((e.place, e.digest, e.size, e.mtime_ns) for e in read_inventory(text, path))
            try:
                self._db.executemany(
                    "INSERT INTO file(place, digest, size, mtime_ns) VALUES(?,?,?,?) ON CONFLICT"
                    "(place) DO UPDATE SET size=excluded.size, mtime_ns=excluded.mtime_ns",
                    entries,
                )
            except OverflowError as error:
                raise Damaged(
                    path, "a record has a date that no file has", "Nothing was changed."
                ) from error

    def take(self, place: Place) -> _Recorded | None:
        """What is recorded of a file that was found; None for one that the lists do not have."""
        row = self._db.execute(
            "SELECT digest, size, mtime_ns FROM file WHERE place=?", (place,)
        ).fetchone()
        if row is None:
            return None
        self._found.append((place,))
        if len(self._found) >= SMALL_FILES:
            self._mark_found()
        return _Recorded(*row)

    def _mark_found(self) -> None:
        self._db.executemany("UPDATE file SET found=1 WHERE place=?", self._found)
        self._found.clear()

    def bytes(self) -> int:
        """The length of all that is recorded, as far as it is known."""
        row = self._db.execute("SELECT total(size) FROM file").fetchone()
        return int(row[0])

    def missing(self) -> list[Place]:
        """The places that were not found, sorted."""
        self._mark_found()
        rows = self._db.execute("SELECT place FROM file WHERE found=0 ORDER BY place")
        return [place for (place,) in rows]

    def close(self) -> None:
        """Forgets them."""
        self._db.close()


@contextmanager
def _stream(medium: Medium, place: bytes) -> Iterator[io.BufferedReader]:
    try:
        file = medium.open(place)
        try:
            yield as_stream(file)
        finally:
            file.close()
    except OSError as error:
        raise told(error, "read", place) from error


def place_in(base: bytes, place: bytes, below: bytes) -> bytes:
    """The place in a library that a list means: it may lie in the library, around it, or elsewhere.

    Args:
        base: the folder that the list's places count from.
        below: the library's real folder, with a slash.
    """
    whole = base + b"/" + place
    return whole.removeprefix(below) if whole.startswith(below) else place


def verify(
    medium: Medium,
    root: Path,
    control: Control | None = None,
    beat: Callable[[int, int, int], None] = lambda _f, _b, _of: None,
    drive: Drive | None = None,
    gentle: bool = False,
    lists: Sequence[HashList] = (),
) -> Verification:
    """Reads everything again, proven as in a crossing. Writes nothing.

    Args:
        drive: the one it is on; without it, whether it was read from the drive itself is not known.
        lists: hash lists of others, to be compared too; then it may have no manifest.
        gentle: it rests as long as it reads, so that others can work on the drive.

    Raises:
        Damaged: there is no manifest, or it cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    control = control or Control()
    out = Verification()
    batch: list[_Asked] = []
    size = 0
    with ExitStack() as held:
        records = held.enter_context(closing(_Records(medium, root, lists)))
        out.said = [sentence for one in lists for sentence in one.told()]
        reader = held.enter_context(_Reader(medium, records.algorithms, control))
        of = records.bytes()
        proof = held.enter_context(closing(Proof(drive))) if drive else None
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for name, status in zip(folder.names, folder.stats, strict=True):
                if not stat.S_ISREG(status.st_mode):
                    continue
                place = join(folder.place, name)
                known, said = records.take(place), records.said(place)
                if known is None and records.has_manifest:
                    out.unlisted.append(place)
                if known is None and not said:
                    continue
                batch.append(_Asked(place, known, said, status.st_size))
                size += status.st_size
                if len(batch) >= reader.batch or size >= BATCH_BYTES:
                    begun = time.monotonic()
                    _some(medium, batch, out, reader, proof)
                    beat(out.files, out.bytes, of)
                    batch, size = [], 0
                    if gentle:
                        _rest(time.monotonic() - begun, control)
        if batch:
            _some(medium, batch, out, reader, proof)
            beat(out.files, out.bytes, of)
        out.missing = records.missing()
        out.list_missing = records.listed_and_missing()
        out.list_missing_files = records.count_listed_and_missing()
    return out


def _some(
    medium: Medium, batch: list[_Asked], out: Verification, reader: _Reader, proof: Proof | None
) -> None:
    """Reads some files, again where they were not read from the drive itself, and compares them."""
    if proof:
        found, holds = proof.read(
            "the drive", lambda: reader.read(batch), lambda r: r.stored if r else 0
        )
        gone = all(proof.proves(r.pages_gone) for r in found if r)
        out.proven = out.proven and holds and gone
    else:
        found, out.proven = reader.read(batch), False
    for asked, got in zip(batch, found, strict=True):
        _compare(medium, asked, got, out)


def _rest(seconds: float, control: Control) -> None:
    end = time.monotonic() + seconds
    while (left := end - time.monotonic()) > 0:
        control.checkpoint()
        time.sleep(min(left, 0.2))


class _Reader:
    """Reads files from the drive.

    Small ones by helpers, in processes of their own, where there are many; all others here.
    """

    def __init__(self, medium: Medium, algorithms: set[Algorithm], control: Control) -> None:
        self._medium, self._control = medium, control
        self._held = ExitStack()
        self._buffers = self._held.enter_context(Buffers(algorithms))
        self._helpers: Helpers | None = None
        self._threads: ThreadPoolExecutor | None = None
        self._count = helper_count()
        self.shares = medium.shareable and not algorithms

    @property
    def batch(self) -> int:
        """How many files are read at once."""
        return SMALL_FILES if self.shares else BATCH_FILES

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._threads:
            self._threads.shutdown(wait=True, cancel_futures=True)
        if self._helpers:
            self._helpers.close()
        self._held.close()

    def read(self, batch: list[_Asked]) -> list[_Got | None]:
        """Drops the pages of files and reads them; None for what cannot be read."""
        found = self._by_helpers(batch) if self.shares else {}
        return [found.get(n) or self._here(asked.place) for n, asked in enumerate(batch)]

    def _by_helpers(self, batch: list[_Asked]) -> dict[int, _Got]:
        files: list[tuple[Any, ...]] = [
            (n, None, None, *_split(asked.place))
            for n, asked in enumerate(batch)
            if asked.size <= SMALL_FILE
        ]
        if len(files) < LEAST_FILES and self._helpers is None:
            return {}
        if self._helpers is None or self._threads is None:
            # A helper makes both its own: they must be two.
            second = os.dup(self._medium.handle)
            self._held.callback(os.close, second)
            self._helpers = Helpers(self._medium.handle, second, self._count)
            self._threads = ThreadPoolExecutor(self._count, "verify")
        helpers, each = self._helpers, -(-len(files) // self._count) or 1
        jobs = [("read", b"", files[at : at + each]) for at in range(0, len(files), each)]
        found: dict[int, _Got] = {}
        try:
            for rows in self._threads.map(lambda job: helpers.do(job, self._control), jobs):
                for number, digest, gone, stored in rows:
                    found[number] = _Got(digest, gone, stored, {})
        except EnvironmentTrouble:
            # A helper ended: what is left is read here.
            self.shares = False
        return found

    def _here(self, place: Place) -> _Got | None:
        self._control.checkpoint()
        with suppress(EnvironmentTrouble):
            got = read_back(self._medium, place, self._buffers, self._control)
            return _Got(got.digest, got.pages_gone, got.stored, got.others)
        return None


def _split(place: Place) -> tuple[bytes, bytes]:
    folder, _, name = place.rpartition(b"/")
    return folder, name


def _compare(medium: Medium, asked: _Asked, read: _Got | None, out: Verification) -> None:
    place, known = asked.place, asked.known
    out.files += 1
    out.bytes += asked.size
    if asked.said:
        digests = {**read.others, Algorithm.BLAKE3: read.digest} if read else {}
        if not all(said.holds(digests, asked.size) for said in asked.said):
            out.list_mismatch.append(place)
    if known is None:
        return
    if read and read.digest == known.digest:
        out.matching += 1
        return
    try:
        status = medium.status(place)
    except OSError as error:
        raise told(error, "look at", place) from error
    if known.size is not None and _looks(status) != (known.size, known.mtime_ns):
        out.edited.append(place)
    else:
        out.damaged.append(place)


def _looks(status: os.stat_result) -> tuple[int, int]:
    return status.st_size, mtime_of(status)
