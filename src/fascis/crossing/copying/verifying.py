"""Verifying a library again, a year later say.

Everything is read and compared with its manifest.
"""

from __future__ import annotations

import io
import os
import sqlite3
import stat
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from fascis.crossing.copying.file import Buffers, ReadBack, read_back
from fascis.crossing.copying.proof import INLINE, Proof
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Damaged, EnvironmentTrouble, told
from fascis.files.inventory import read_inventory
from fascis.files.manifest import read_manifest
from fascis.files.names import join
from fascis.files.times import mtime_of
from fascis.library.identity import INVENTORY, MANIFEST, OWN

Place = bytes
# Read between two looks at the drive's counter.
BATCH_FILES, BATCH_BYTES = 256, 256 << 20


@dataclass(slots=True)
class Verification:
    """What was found. *Edited*: size or time differs; *damaged*: same size and time, other content.

    ``proven``: all of it was read from the drive itself, not perhaps from memory.
    """

    files: int = 0
    bytes: int = 0
    matching: int = 0
    edited: list[Place] = field(default_factory=list)
    damaged: list[Place] = field(default_factory=list)
    missing: list[Place] = field(default_factory=list)
    unlisted: list[Place] = field(default_factory=list)
    proven: bool = True

    @property
    def sound(self) -> bool:
        """True when nothing is damaged or missing."""
        return not self.damaged and not self.missing


class _Recorded(NamedTuple):
    """What the lists say of one file; size and time are None where only the manifest has it."""

    digest: bytes
    size: int | None
    mtime_ns: int | None


class _Records:
    """What a library's own lists say of its files.

    In a database that goes with the run, so that a library of a million files takes no more memory
    than one of ten. The manifest decides; the inventory adds sizes, times and odd names.
    """

    def __init__(self, medium: Medium, root: Path) -> None:
        if not medium.exists(MANIFEST):
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
        self._db.execute("BEGIN")
        self._read_manifest(medium, root / ".fascis/manifest.b3")
        if medium.exists(INVENTORY):
            self._read_inventory(medium, root / ".fascis/inventory.csv")

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

    def take(self, place: bytes) -> _Recorded | None:
        """What is recorded of a file that was found; None for one that the lists do not have."""
        row = self._db.execute(
            "UPDATE file SET found=1 WHERE place=? RETURNING digest, size, mtime_ns", (place,)
        ).fetchone()
        return _Recorded(*row) if row else None

    def missing(self) -> list[bytes]:
        """The places that were not found, sorted."""
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


def verify(
    medium: Medium,
    root: Path,
    control: Control | None = None,
    beat: Callable[[int, int], None] = lambda _f, _b: None,
    drive: Drive | None = None,
) -> Verification:
    """Reads everything again, proven as in a crossing. Writes nothing.

    Args:
        drive: the one it is on; without it, whether it was read from the drive itself is not known.

    Raises:
        Damaged: there is no manifest, or it cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    control = control or Control()
    out = Verification()
    batch: list[tuple[Place, _Recorded]] = []
    size = 0
    with ExitStack() as held:
        records = held.enter_context(closing(_Records(medium, root)))
        buffers = held.enter_context(Buffers())
        proof = held.enter_context(closing(Proof(drive))) if drive else None
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for name, status in zip(folder.names, folder.stats, strict=True):
                if not stat.S_ISREG(status.st_mode):
                    continue
                place = join(folder.place, name)
                known = records.take(place)
                if known is None:
                    out.unlisted.append(place)
                    continue
                batch.append((place, known))
                size += status.st_size
                if len(batch) >= BATCH_FILES or size >= BATCH_BYTES:
                    _some(medium, batch, out, buffers, proof, control)
                    beat(out.files, out.bytes)
                    batch, size = [], 0
        if batch:
            _some(medium, batch, out, buffers, proof, control)
            beat(out.files, out.bytes)
        out.missing = records.missing()
    return out


def _some(
    medium: Medium,
    batch: list[tuple[Place, _Recorded]],
    out: Verification,
    buffers: Buffers,
    proof: Proof | None,
    control: Control,
) -> None:
    """Reads some files, and tells whether they were read from the drive itself."""
    if proof:
        try:
            proof.begin()
        except OSError as error:
            raise told(error, "flush the drive") from error
    stored, gone = 0, True
    for place, known in batch:
        control.checkpoint()
        read = _one(medium, place, known, out, buffers, control)
        if read:
            stored += read.stored if read.stored > INLINE else 0
            gone = gone and (proof is None or proof.proves(read.pages_gone))
    out.proven = out.proven and proof is not None and gone and proof.holds(stored)


def _one(
    medium: Medium,
    place: bytes,
    known: _Recorded,
    out: Verification,
    buffers: Buffers,
    control: Control,
) -> ReadBack | None:
    out.files += 1
    try:
        status = medium.status(place)
    except OSError as error:
        raise told(error, "look at", place) from error
    out.bytes += status.st_size
    read: ReadBack | None = None
    with suppress(EnvironmentTrouble):
        read = read_back(medium, place, buffers, control)
    if read and read.digest == known.digest:
        out.matching += 1
    elif known.size is not None and _looks(status) != (known.size, known.mtime_ns):
        out.edited.append(place)
    else:
        out.damaged.append(place)
    return read


def _looks(status: os.stat_result) -> tuple[int, int]:
    return status.st_size, mtime_of(status)
