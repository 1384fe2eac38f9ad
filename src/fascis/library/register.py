"""The register: known libraries and drives, with the paths of homes and copies.

SQLite, under XDG data.
"""

from __future__ import annotations

import json
import os
import sqlite3
import time
import uuid
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct

from fascis.drives.model import Drive
from fascis.files.errors import Damaged
from fascis.files.own.database import NONSENSE, bring_up, is_about_the_drive, trouble
from fascis.files.own.private import make_private
from fascis.words.speech import tr

APPLICATION_ID = 0x46415352  # "FASR"
VERSION = 8
_SCHEMA = f"""
PRAGMA application_id={APPLICATION_ID};
CREATE TABLE library(id TEXT PRIMARY KEY, name TEXT NOT NULL, kind TEXT NOT NULL,
 root BLOB NOT NULL,
  drive TEXT NOT NULL, surveyed_at REAL, summary TEXT);
CREATE TABLE copy(library TEXT NOT NULL, drive TEXT NOT NULL, drive_label TEXT NOT NULL,
 root BLOB NOT NULL,
  crossing TEXT NOT NULL, verified_at REAL NOT NULL, PRIMARY KEY(library, root));
CREATE TABLE drive(uuid TEXT PRIMARY KEY, label TEXT NOT NULL, filesystem TEXT NOT NULL,
 capacity INTEGER NOT NULL,
  mount BLOB NOT NULL, transport TEXT NOT NULL, seen_at REAL NOT NULL, write_mb_s REAL,
   read_mb_s REAL);
"""
_USED = """
CREATE TABLE used(library TEXT NOT NULL, path BLOB NOT NULL, size INTEGER NOT NULL,
 digest BLOB NOT NULL, outside INTEGER NOT NULL,
  PRIMARY KEY(library, path)) WITHOUT ROWID;
CREATE INDEX used_path ON used(path) WHERE outside=1;
"""
_TIMES = "ALTER TABLE used ADD COLUMN mtime_ns INTEGER NOT NULL DEFAULT 0;"
_HARDWARE = """
ALTER TABLE drive ADD COLUMN hardware TEXT NOT NULL DEFAULT '';
ALTER TABLE drive ADD COLUMN measured_at REAL;
CREATE TABLE former(drive TEXT NOT NULL, mount BLOB NOT NULL, label TEXT NOT NULL,
 until REAL NOT NULL, PRIMARY KEY(drive, mount, label)) WITHOUT ROWID;
"""
_LOOKED = """
CREATE TABLE looked(library TEXT NOT NULL, root BLOB NOT NULL, drive TEXT NOT NULL,
 verified_at REAL, proven INTEGER NOT NULL DEFAULT 0, files INTEGER NOT NULL DEFAULT 0,
  damaged INTEGER NOT NULL DEFAULT 0, state TEXT NOT NULL DEFAULT 'unknown',
   behind_files INTEGER NOT NULL DEFAULT 0, behind_bytes INTEGER NOT NULL DEFAULT 0,
    looked_at REAL, what TEXT NOT NULL DEFAULT 'copy', PRIMARY KEY(library, root)) WITHOUT ROWID;
INSERT INTO looked(library, root, drive, verified_at) SELECT library, root, drive, verified_at
 FROM copy;
"""
_SINCE = """
ALTER TABLE looked ADD COLUMN since REAL;
UPDATE looked SET since=looked_at;
"""
_READING = """
CREATE TABLE reading(shape BLOB PRIMARY KEY, said TEXT NOT NULL) WITHOUT ROWID;
"""
_PROPOSED = """
CREATE TABLE proposed(document BLOB PRIMARY KEY, look TEXT NOT NULL, said TEXT NOT NULL)
 WITHOUT ROWID;
"""
# Upgrades a register from one version to the next.
_STEPS = dict(enumerate((_SCHEMA, _USED, _TIMES, _HARDWARE, _LOOKED, _SINCE, _READING, _PROPOSED)))
_MEANING = tr(
    "No library, photo or clip is affected. Set this file aside, and Fascis begins a new register."
)


class KnownLibrary(Struct, frozen=True):
    """A known library.

    Its present home, and the result of the last survey (``summary``, JSON-like).
    """

    id: str
    name: str
    kind: str
    root: Path
    drive: str
    surveyed_at: float | None
    summary: dict[str, object]


class KnownCopy(Struct, frozen=True):
    """A verified copy of a library."""

    library: str
    drive: str
    drive_label: str
    root: Path
    crossing: str
    verified_at: float


class Looked(Struct, frozen=True):
    """The last known state of one path of a library, its home or a copy.

    Attributes:
        verified_at: when its content was last read and compared, in seconds since 1970.
        proven: it was then read from the drive itself.
        files: how many files it had.
        damaged: how many of them were damaged or missing.
        state: how it compared with its home, see :class:`~fascis.library.known.places.State`.
        behind_files, behind_bytes: what home had and it did not.
        looked_at: when it was last compared with its home.
        what: a copy; the originals of a crossing at the old place; or these, set aside.
    """

    library: str
    root: Path
    drive: str
    verified_at: float | None = None
    proven: bool = False
    files: int = 0
    damaged: int = 0
    state: str = "unknown"
    behind_files: int = 0
    behind_bytes: int = 0
    looked_at: float | None = None
    what: Literal["copy", "originals", "aside"] = "copy"
    since: float | None = None


class KnownDrive(Struct, frozen=True):
    """A known drive.

    Speeds in MB/s as last measured, by a crossing or on request, or None. ``hardware`` as in
    ``Drive``.
    """

    uuid: str
    label: str
    filesystem: str
    capacity: int
    mount: Path
    transport: str
    seen_at: float
    write_mb_s: float | None
    read_mb_s: float | None
    hardware: str = ""
    measured_at: float | None = None


class Former(Struct, frozen=True):
    """Where a drive was mounted before, its label then, and until when.

    In seconds since 1970.
    """

    drive: str
    mount: Path
    label: str
    until: float


class Register:
    """Opens the register at ``path`` for each call; safe to use from any thread."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            make_private(self.path.parent)
            with closing(sqlite3.connect(self.path, timeout=20)) as db:
                version = db.execute("PRAGMA user_version").fetchone()[0]
                if version > VERSION:
                    raise Damaged(
                        self.path,
                        tr(
                            "this register was written by a newer version ({version}, this one "
                            "knows {version_2})",
                            version=version,
                            version_2=VERSION,
                        ),
                        tr("Nothing was changed. Use the newer version, or set this file aside."),
                    )
                if version < VERSION:
                    bring_up(db, _STEPS)
                with db:
                    yield db
        except sqlite3.Error as error:
            if is_about_the_drive(error):
                raise trouble(
                    self.path,
                    tr("The register"),
                    error,
                    tr("No library, photo or clip is affected."),
                ) from error
            raise Damaged(
                self.path, tr("the register cannot be used ({error})", error=error), _MEANING
            ) from error
        except NONSENSE as error:
            raise Damaged(self.path, tr("the register's content is not valid"), _MEANING) from error

    def libraries(self) -> list[KnownLibrary]:
        """All known libraries, by name."""
        with self._open() as db:
            rows = db.execute(
                "SELECT id, name, kind, root, drive, surveyed_at, summary FROM library ORDER BY "
                "name"
            )
            checked = (
                _checked(r, str, str, str, bytes, str, _MAYBE, (str, type(None))) for r in rows
            )
            return [
                KnownLibrary(r[0], r[1], r[2], _path(r[3]), r[4], r[5], _object(r[6]))
                for r in checked
            ]

    def library_at(self, root: Path) -> KnownLibrary | None:
        """The library whose home is this folder."""
        return next((x for x in self.libraries() if x.root == root), None)

    def find(self, prefix: str) -> list[KnownLibrary]:
        """Libraries whose id begins like this."""
        return [x for x in self.libraries() if x.id.startswith(prefix)]

    def meet_library(
        self,
        root: Path,
        drive: str,
        name: str,
        kind: str,
        id: str | None = None,
        summary: dict[str, object] | None = None,
    ) -> str:
        """Stores a surveyed library with its survey's result; returns its id.

        A known home stays: a survey of a copy never makes it home. Home changes only by a switch,
        or with the folder itself: if it is missing at its path and found under another name on the
        same drive.
        """
        known = (
            next((x for x in self.libraries() if x.id == id), None) if id else self.library_at(root)
        )
        if known is None or known.root == root:
            return self.put_library(root, drive, name, kind, id, summary)
        copies = {c.root for c in self.copies(known.id)}
        renamed = (
            known.drive == drive
            and not os.path.lexists(known.root)
            and os.path.lexists(known.root.parent)
        )
        if renamed and root not in copies:
            return self.put_library(root, drive, name, kind, id, summary)
        return known.id

    def put_library(
        self,
        root: Path,
        drive: str,
        name: str,
        kind: str,
        id: str | None = None,
        summary: dict[str, object] | None = None,
    ) -> str:
        """Stores a library's home, and its survey's result.

        Returns its id (its present one, or a new one).
        """
        known = self.library_at(root)
        key = id or (known.id if known else str(uuid.uuid4()))
        with self._open() as db:
            if known and known.id != key:
                db.execute("DELETE FROM library WHERE id=?", (known.id,))
            db.execute(
                "INSERT INTO library(id, name, kind, root, drive) VALUES(?,?,?,?,?) ON "
                "CONFLICT(id) DO UPDATE SET name=excluded.name, kind=excluded.kind, "
                "root=excluded.root, drive=excluded.drive",
                (key, name, kind, bytes(root), drive),
            )
            if summary is not None:
                db.execute(
                    "UPDATE library SET surveyed_at=?, summary=? WHERE id=?",
                    (time.time(), json.dumps(summary), key),
                )
        return key

    def forget_library(self, id: str) -> None:
        """Removes a library from the register, with its copies; touches none of its files."""
        with self._open() as db:
            db.execute("DELETE FROM library WHERE id=?", (id,))
            for table in ("used", "copy", "looked"):
                db.execute(f"DELETE FROM {table} WHERE library=?", (id,))

    def forget_copy(self, library: str, root: Path) -> None:
        """Removes one copy of a library from the register; touches none of its files."""
        with self._open() as db:
            for table in ("copy", "looked"):
                db.execute(
                    f"DELETE FROM {table} WHERE library=? AND root=?", (library, bytes(root))
                )

    def put_used(self, library: str, files: Iterable[tuple[bytes, int, bytes, bool, int]]) -> None:
        """Stores what a library uses, replacing earlier entries.

        ``(absolute path, size, digest or empty, outside its folder, time)``.
        """
        with self._open() as db:
            db.execute("DELETE FROM used WHERE library=?", (library,))
            db.executemany(
                "INSERT OR IGNORE INTO used VALUES(?,?,?,?,?,?)", ((library, *f) for f in files)
            )

    def expected(self, library: str) -> dict[bytes, tuple[int, bytes, int]]:
        """Size in bytes, digest (or empty) and time in ns of files used by a library, by path.

        As last surveyed; paths are absolute.
        """
        with self._open() as db:
            rows = db.execute(
                "SELECT path, size, digest, mtime_ns FROM used WHERE library=?", (library,)
            )
            return {path: (size, digest, mtime_ns) for path, size, digest, mtime_ns in rows}

    def used_below(self, folder: bytes) -> list[tuple[bytes, int, bytes, int]]:
        """``(path, size, digest, time)`` of files below a folder that libraries used."""
        below = folder.rstrip(b"/") + b"/"
        with self._open() as db:
            sql = (
                "SELECT DISTINCT path, size, digest, mtime_ns FROM used WHERE path>=? AND path<? "
                "AND size>0"
            )
            return list(db.execute(sql, (below, below[:-1] + b"0")))

    def wanted_below(self, folder: Path) -> int:
        """How many files below a folder libraries elsewhere use, as last surveyed."""
        below = bytes(folder).rstrip(b"/") + b"/"
        with self._open() as db:
            sql = "SELECT count(DISTINCT path) FROM used WHERE outside=1 AND path>=? AND path<?"
            return int(db.execute(sql, (below, below[:-1] + b"0")).fetchone()[0])

    def used_outside(self, library: str) -> list[bytes]:
        """Absolute paths outside its folder that a library used, as last surveyed."""
        with self._open() as db:
            return [
                path
                for (path,) in db.execute(
                    "SELECT path FROM used WHERE library=? AND outside=1", (library,)
                )
            ]

    def used_in(self, folder: bytes, but: str) -> dict[bytes, list[str]]:
        """Files below a folder (absolute) that other libraries use, and the ids of these.

        As last surveyed.
        """
        below = folder.rstrip(b"/") + b"/"
        found: dict[bytes, list[str]] = {}
        with self._open() as db:
            rows = db.execute(
                "SELECT u.path, l.id FROM used u JOIN library l ON l.id=u.library WHERE "
                "u.outside=1 AND l.id<>? AND u.path>=? AND u.path<? ORDER BY u.path, l.name",
                (but, below, below[:-1] + b"0"),  # "0" comes right after "/"
            )
            for path, library in rows:
                found.setdefault(path, []).append(library)
        return found

    def copies(self, library: str) -> list[KnownCopy]:
        """The verified copies of a library."""
        with self._open() as db:
            rows = db.execute(
                "SELECT library, drive, drive_label, root, crossing, verified_at FROM copy WHERE "
                "library=?",
                (library,),
            )
            checked = (_checked(r, str, str, str, bytes, str, _NUMBER) for r in rows)
            return [KnownCopy(r[0], r[1], r[2], _path(r[3]), r[4], r[5]) for r in checked]

    def put_copy(self, library: str, drive: Drive, root: Path, crossing: str) -> None:
        """Stores a verified copy."""
        with self._open() as db:
            db.execute(
                "INSERT OR REPLACE INTO copy VALUES(?,?,?,?,?,?)",
                (library, drive.uuid, drive.label, bytes(root), crossing, time.time()),
            )

    def all_copies(self) -> dict[str, list[KnownCopy]]:
        """The verified copies of all libraries, by their ids."""
        found: dict[str, list[KnownCopy]] = {}
        with self._open() as db:
            sql = "SELECT library, drive, drive_label, root, crossing, verified_at FROM copy"
            for r in (_checked(r, str, str, str, bytes, str, _NUMBER) for r in db.execute(sql)):
                copy = KnownCopy(r[0], r[1], r[2], _path(r[3]), r[4], r[5])
                found.setdefault(copy.library, []).append(copy)
        return found

    def put_verified(
        self, library: str, root: Path, drive: str, proven: bool, files: int, damaged: int
    ) -> None:
        """Stores that all of a path was read just now, with the result."""
        with self._open() as db:
            db.execute(
                "INSERT INTO looked(library, root, drive, verified_at, proven, files, damaged) "
                "VALUES(?,?,?,?,?,?,?) ON CONFLICT(library, root) DO UPDATE SET "
                "drive=excluded.drive, verified_at=excluded.verified_at, proven=excluded.proven, "
                "files=excluded.files, damaged=excluded.damaged",
                (library, bytes(root), drive, time.time(), int(proven), files, damaged),
            )

    def put_damaged(self, library: str, root: Path, damaged: int) -> None:
        """Stores that files of a path are missing or damaged, though it was not verified."""
        with self._open() as db:
            sql = "UPDATE looked SET damaged=max(damaged, ?) WHERE library=? AND root=?"
            db.execute(sql, (damaged, library, bytes(root)))

    def put_state(
        self,
        library: str,
        root: Path,
        drive: str,
        state: str,
        behind_files: int = 0,
        behind_bytes: int = 0,
    ) -> None:
        """Stores how a copy compares with its home, as compared just now."""
        now = time.time()
        with self._open() as db:
            db.execute(
                "INSERT INTO looked(library, root, drive, state, behind_files, behind_bytes, "
                "looked_at, since) VALUES(?,?,?,?,?,?,?,?) ON CONFLICT(library, root) DO UPDATE "
                "SET drive=excluded.drive, state=excluded.state, "
                "behind_files=excluded.behind_files, behind_bytes=excluded.behind_bytes, "
                "looked_at=excluded.looked_at, since=CASE WHEN looked.state=excluded.state THEN "
                "coalesce(looked.since, excluded.since) ELSE excluded.since END",
                (library, bytes(root), drive, state, behind_files, behind_bytes, now, now),
            )

    def put_originals(self, library: str, root: Path, drive: str, what: str) -> None:
        """Stores where the originals of a crossing are: at the old place, or set aside."""
        with self._open() as db:
            db.execute(
                "INSERT INTO looked(library, root, drive, what, state, since) "
                "VALUES(?,?,?,?,'equal',?) ON CONFLICT(library, root) DO NOTHING",
                (library, bytes(root), drive, what, time.time()),
            )

    def forget_originals(self, library: str, root: Path) -> None:
        """Removes the entry that the originals of a crossing exist."""
        with self._open() as db:
            sql = "DELETE FROM looked WHERE library=? AND root=? AND what<>'copy'"
            db.execute(sql, (library, bytes(root)))

    def looked(self) -> dict[tuple[str, Path], Looked]:
        """The last known state of every path, by library and folder."""
        with self._open() as db:
            rows = db.execute(
                "SELECT library, root, drive, verified_at, proven, files, damaged, state, "
                "behind_files, behind_bytes, looked_at, what, since FROM looked"
            )
            kinds = (str, bytes, str, _MAYBE, int, int, int, str, int, int, _MAYBE, str, _MAYBE)
            found = [
                Looked(r[0], _path(r[1]), r[2], r[3], bool(r[4]), *r[5:])
                for r in (_checked(r, *kinds) for r in rows)
            ]
        return {(one.library, one.root): one for one in found}

    def drives(self) -> list[KnownDrive]:
        """All known drives."""
        with self._open() as db:
            rows = db.execute(
                "SELECT uuid, label, filesystem, capacity, mount, transport, seen_at, write_mb_s, "
                "read_mb_s, hardware, measured_at FROM drive"
            )
            checked = (
                _checked(r, str, str, str, int, bytes, str, _NUMBER, _MAYBE, _MAYBE, str, _MAYBE)
                for r in rows
            )
            return [KnownDrive(r[0], r[1], r[2], r[3], _path(r[4]), *r[5:]) for r in checked]

    def put_drives(self, drives: list[Drive]) -> list[Former]:
        """Stores connected drives as they are now.

        Returns the earlier state of those mounted elsewhere than before, or renamed. The homes and
        copies on such a drive get their new paths.
        """
        changed, now = [], time.time()
        with self._open() as db:
            known = {r[0]: r[1:] for r in db.execute("SELECT uuid, mount, label FROM drive")}
            for d in drives:
                if not d.connected or d.ambiguous:
                    continue
                mount, label = known.get(d.uuid, (bytes(d.mount), d.label))
                if d.has_uuid and (mount != bytes(d.mount) or label != d.label):
                    changed.append(Former(d.uuid, _path(mount), label, now))
                    db.execute(
                        "INSERT OR REPLACE INTO former VALUES(?,?,?,?)", (d.uuid, mount, label, now)
                    )
                if d.has_uuid and mount != bytes(d.mount):
                    _follow(db, d.uuid, mount, bytes(d.mount))
                db.execute(
                    "INSERT INTO drive(uuid, label, filesystem, capacity, mount, transport, "
                    "seen_at, hardware) VALUES(?,?,?,?,?,?,?,?) ON CONFLICT(uuid) DO UPDATE SET "
                    "label=excluded.label, filesystem=excluded.filesystem, "
                    "capacity=excluded.capacity, mount=excluded.mount, seen_at=excluded.seen_at, "
                    "hardware=CASE WHEN excluded.hardware='' THEN hardware ELSE excluded.hardware "
                    "END",
                    (
                        d.uuid,
                        d.label,
                        d.filesystem,
                        d.capacity,
                        bytes(d.mount),
                        d.transport,
                        now,
                        d.hardware,
                    ),
                )
        return changed

    def former(self) -> dict[str, list[Former]]:
        """Where drives were mounted before, by UUID, latest first."""
        found: dict[str, list[Former]] = {}
        with self._open() as db:
            for uuid, mount, label, until in db.execute(
                "SELECT drive, mount, label, until FROM former ORDER BY until DESC"
            ):
                found.setdefault(uuid, []).append(Former(uuid, _path(mount), label, until))
        return found

    def hardware(self) -> dict[str, str]:
        """UUID → hardware of known drives; empty if there is no register yet."""
        return (
            {d.uuid: d.hardware for d in self.drives() if d.hardware} if self.path.exists() else {}
        )

    def mounts(self) -> set[str]:
        """Where known drives were mounted; empty if there is no register yet."""
        return {str(d.mount) for d in self.drives()} if self.path.exists() else set()

    def readings(self) -> list[str]:
        """The confirmed readings of documents of unknown make, as JSON."""
        with self._open() as db:
            return [said for (said,) in db.execute("SELECT said FROM reading ORDER BY shape")]

    def put_reading(self, shape: bytes, said: str) -> None:
        """Stores where documents of one shape keep their paths."""
        with self._open() as db:
            db.execute("INSERT OR REPLACE INTO reading VALUES(?,?)", (shape, said))

    def forget_reading(self, shape: bytes) -> bool:
        """Removes that; False if there was none."""
        with self._open() as db:
            return db.execute("DELETE FROM reading WHERE shape=?", (shape,)).rowcount > 0

    def proposed(self) -> dict[bytes, tuple[str, str]]:
        """Proposed readings of documents, by their paths.

        With their state then, and as JSON.
        """
        with self._open() as db:
            rows = db.execute("SELECT document, look, said FROM proposed")
            return {document: (look, said) for document, look, said in rows}

    def put_proposed(self, document: bytes, look: str, said: str) -> None:
        """Stores a proposed reading."""
        with self._open() as db:
            db.execute("INSERT OR REPLACE INTO proposed VALUES(?,?,?)", (document, look, said))

    def put_speed(self, uuid: str, write_mb_s: float, read_mb_s: float) -> None:
        """Stores a drive's speed, measured by a crossing or on request."""
        with self._open() as db:
            sql = "UPDATE drive SET write_mb_s=?, read_mb_s=?, measured_at=? WHERE uuid=?"
            db.execute(sql, (write_mb_s, read_mb_s, time.time(), uuid))


def root_now(register: Register, drives: Iterable[Drive], library: KnownLibrary) -> Path:
    """A library's present path, if its drive is mounted elsewhere than when last seen.

    Writes nothing.
    """
    before = next((d.mount for d in register.drives() if d.uuid == library.drive), None)
    now = next(
        (d.mount for d in drives if d.uuid == library.drive and d.connected and d.has_uuid), None
    )
    if before is None or now is None or not library.root.is_relative_to(before):
        return library.root
    return now / library.root.relative_to(before)


def _follow(db: sqlite3.Connection, drive: str, old: bytes, new: bytes) -> None:
    """Moves paths from a drive's old mount point to its new one."""
    before, after = old.rstrip(b"/"), new.rstrip(b"/")
    for table in ("library", "copy", "looked"):
        db.execute(
            f"UPDATE OR IGNORE {table} SET root=CAST(? || substr(root, ?) AS BLOB) WHERE drive=? "
            "AND substr(root, 1, ?)=?",
            (after, len(before) + 1, drive, len(before) + 1, before + b"/"),
        )


_NUMBER = (int, float)
_MAYBE = (int, float, type(None))


def _checked(row: tuple[Any, ...], *kinds: type | tuple[type, ...]) -> tuple[Any, ...]:
    """A row whose values have the expected types.

    SQLite itself does not enforce them.
    """
    if not all(isinstance(value, kind) for value, kind in zip(row, kinds, strict=True)):
        raise ValueError("a value of another kind")
    return row


def _object(text: str | None) -> dict[str, object]:
    found = json.loads(text or "{}")
    if not isinstance(found, dict):
        raise ValueError("no object")
    return found


def _path(raw: bytes) -> Path:
    return Path(raw.decode("utf-8", "surrogateescape"))
