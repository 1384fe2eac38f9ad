"""The journal: a crossing's memory, an SQLite file; the only place where progress is kept.

Every method that writes is one durable transaction (WAL, synchronous=FULL). The engine can be killed at any line.
The plan's columns are written once; what was seen later has columns of its own.
"""

from __future__ import annotations

import json
import os
import sqlite3
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from enum import IntEnum
from pathlib import Path
from typing import Any

from fascis.crossing.states import State, check_transition
from fascis.files.errors import Damaged, DriveFull, EnvironmentTrouble, told
from fascis.files.names import join, parent
from fascis.library.identity import OWN
from fascis.library.roles import ROLES, Role
from fascis.library.survey import Kind, Survey, strand_folder

APPLICATION_ID = 0x4641534A  # "FASJ"
VERSION = 2
BATCH = 1024
DOUBT_SECONDS, DOUBT_BYTES = 600.0, 4 << 30
ROOM_BYTES = (1 << 20, 640)  # room kept free for what a crossing writes: at least, and for each entry
_SCHEMA = """
CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE strand(id INTEGER PRIMARY KEY, folder BLOB NOT NULL, role INTEGER NOT NULL);
CREATE TABLE folder(id INTEGER PRIMARY KEY, place BLOB NOT NULL, mode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL);
CREATE TABLE entry(id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name BLOB NOT NULL, kind INTEGER NOT NULL,
  size INTEGER NOT NULL, allocated INTEGER NOT NULL, inode INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
  ctime_ns INTEGER NOT NULL, mode INTEGER NOT NULL, links INTEGER NOT NULL, role INTEGER NOT NULL, fate INTEGER NOT NULL,
  strand INTEGER NOT NULL, twin INTEGER,
  digest BLOB, seen_size INTEGER, seen_mtime_ns INTEGER, seen_ctime_ns INTEGER, seen_inode INTEGER,
  origin INTEGER NOT NULL DEFAULT 0, why TEXT);
CREATE TABLE copy(destination INTEGER NOT NULL, entry INTEGER NOT NULL, state INTEGER NOT NULL, size INTEGER, mtime_ns INTEGER,
  inode INTEGER, proven INTEGER NOT NULL DEFAULT 0, at REAL NOT NULL DEFAULT 0, PRIMARY KEY(destination, entry)) WITHOUT ROWID;
CREATE UNIQUE INDEX folder_place ON folder(place);
CREATE INDEX entry_folder ON entry(folder);
CREATE TABLE act(id INTEGER PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL, begun REAL NOT NULL, ended REAL, outcome TEXT);
CREATE TABLE attention(id INTEGER PRIMARY KEY, place BLOB NOT NULL, drive TEXT NOT NULL, meaning TEXT NOT NULL, at REAL NOT NULL);
"""


class Fate(IntEnum):
    """What the plan does with an entry."""

    COPY = 0
    LEFT_OUT = 1  # its role is left out
    SPECIAL = 2  # cannot be copied at all
    UNHOLDABLE = 3  # a link, and the destination has none
    OWN = 4  # Fascis's own record in the old library, crosses to as-it-was


class CopyState(IntEnum):
    """Where one copy is."""

    COPIED = 1  # written and flushed
    VERIFIED = 2  # read back and equal
    UNREADABLE = 3  # the source could not be read
    CHANGING = 4  # the source kept changing
    VANISHED = 5  # the source is no longer there
    MISMATCH = 6  # read back wrong three times
    SKIPPED = 7  # by the person's choice; its original is never released


class Origin(IntEnum):
    """Where one original is."""

    THERE = 0
    INTENDED = 1  # to be deleted in the running batch
    GONE = 2  # deleted by this crossing
    STAYS = 3  # not deleted, see ``why``


HINDRANCES = (CopyState.UNREADABLE, CopyState.CHANGING, CopyState.VANISHED)


@dataclass(frozen=True, slots=True)
class Item:
    """One entry of the plan and what is known of it; sizes in bytes, times in ns."""

    id: int
    place: bytes
    kind: Kind
    size: int
    allocated: int
    inode: int
    mtime_ns: int
    ctime_ns: int
    mode: int
    links: int
    role: Role
    fate: Fate
    strand: int
    twin: int | None
    digest: bytes | None
    seen: tuple[int, int, int, int] | None  # size, mtime_ns, ctime_ns, inode when the digest was taken
    origin: Origin
    copy: CopyState | None
    copy_seen: tuple[int, int, int] | None  # size, mtime_ns, inode of the copy when it was verified
    proven: bool = False  # read back from the drive itself, not perhaps from memory


@dataclass(frozen=True, slots=True)
class Copied:
    """The outcome of copying one item."""

    item: int
    state: CopyState
    digest: bytes | None = None
    seen: tuple[int, int, int, int] | None = None
    copy_seen: tuple[int, int, int] | None = None


@dataclass(frozen=True, slots=True)
class Found:
    """What appeared at the old place after the plan was made."""

    place: bytes
    status: os.stat_result
    kind: Kind = Kind.FILE
    role: Role = Role.OTHER
    fate: Fate = Fate.COPY


@dataclass(frozen=True, slots=True)
class StrandProgress:
    """How far one strand is on one destination: counts and bytes of regular files."""

    id: int
    folder: bytes
    role: Role
    files: int
    bytes: int
    copied_files: int
    copied_bytes: int
    verified_files: int
    verified_bytes: int


_ITEM = """SELECT e.id, f.place, e.name, e.kind, e.size, e.allocated, e.inode, e.mtime_ns, e.ctime_ns, e.mode, e.links, e.role,
 e.fate, e.strand, e.twin, e.digest, e.seen_size, e.seen_mtime_ns, e.seen_ctime_ns, e.seen_inode, e.origin, c.state, c.size,
 c.mtime_ns, c.inode, c.proven FROM entry e JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND c.destination=?"""


_KINDS, _FATES, _ORIGINS = tuple(Kind), tuple(Fate), tuple(Origin)
_COPIES = (None, *CopyState)  # by value: looking up is many times faster than calling an enum


def _item(r: Sequence[Any]) -> Item:
    seen = None if r[16] is None else (r[16], r[17], r[18], r[19])
    copied = None if r[22] is None else (r[22], r[23], r[24])
    return Item(
        r[0],
        join(r[1], r[2]),
        _KINDS[r[3]],
        r[4],
        r[5],
        r[6],
        r[7],
        r[8],
        r[9],
        r[10],
        ROLES[r[11]],
        _FATES[r[12]],
        r[13],
        r[14],
        r[15],
        seen,
        _ORIGINS[r[20]],
        _COPIES[r[21] or 0],
        copied,
        bool(r[25]),
    )


class Journal:
    """An open journal. Safe to use from several threads; transactions are serialised."""

    def __init__(self, path: Path, db: sqlite3.Connection, step: Callable[[str], None]) -> None:
        self.path = path
        self._db = db
        self._lock = threading.RLock()
        self._step = step
        self._planned: tuple[int, int] | None = None
        self._session, self._begun = 0, time.monotonic()

    @classmethod
    def create(cls, path: Path, step: Callable[[str], None] = lambda _: None) -> Journal:
        """Creates a journal that nothing has; the folder is made and flushed by SQLite."""
        path.parent.mkdir(parents=True, exist_ok=True)
        db = _connect(path)
        db.executescript(
            f"BEGIN; {_SCHEMA} PRAGMA application_id={APPLICATION_ID}; PRAGMA user_version={VERSION}; COMMIT;"
        )
        return cls(path, db, step)

    @classmethod
    def open(cls, path: Path, step: Callable[[str], None] = lambda _: None) -> Journal:
        """Opens a journal.

        Raises:
            Damaged: it is none, is damaged, or of a newer version.
        """
        meaning = "The originals are untouched by this; what was copied stays where it is. Nothing was changed."
        try:
            db = _connect(path)
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if version > VERSION:
                db.close()
                raise Damaged(
                    path, f"this journal was written by a newer version ({version}, this one knows {VERSION})", meaning
                )
            if version == 1:
                db.executescript(
                    "BEGIN IMMEDIATE; ALTER TABLE copy ADD COLUMN at REAL NOT NULL DEFAULT 0; PRAGMA user_version=2; COMMIT;"
                )
                version = VERSION
            if version != VERSION or db.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
                db.close()
                raise Damaged(path, "this is no journal of a crossing", meaning)
            if (said := db.execute("PRAGMA quick_check(1)").fetchone()[0]) != "ok":
                db.close()
                raise Damaged(path, f"the journal is damaged ({said})", meaning)
        except sqlite3.DatabaseError as error:
            raise Damaged(path, f"the journal is damaged ({error})", meaning) from error
        return cls(path, db, step)

    def close(self) -> None:
        """Closes it; nothing is committed by closing."""
        with self._lock:
            self._db.close()

    def _write(self, what: str, work: Callable[[sqlite3.Connection], object]) -> None:
        with self._lock:
            self._step(f"before journal {what}")
            try:
                self._transact(work)
            except sqlite3.OperationalError as error:
                if error.sqlite_errorcode != sqlite3.SQLITE_FULL or not self.room.exists():
                    raise self._trouble(error) from error
                self.room.unlink()  # this is what it was kept for
                try:
                    self._transact(work)
                except sqlite3.OperationalError as again:
                    raise self._trouble(again) from again
            self._step(f"after journal {what}")

    def _transact(self, work: Callable[[sqlite3.Connection], object]) -> None:
        with self._db:
            self._db.execute("BEGIN IMMEDIATE")
            work(self._db)

    def _trouble(self, error: sqlite3.OperationalError) -> EnvironmentTrouble:
        kind = DriveFull if error.sqlite_errorcode == sqlite3.SQLITE_FULL else EnvironmentTrouble
        return kind(
            f"The journal cannot be written ({error}): {self.path.parent} needs room. What is verified is kept; make room"
            " there and resume. The originals are untouched by this."
        )

    # -- room -----------------------------------------------------------------------------------------------------

    @property
    def room(self) -> Path:
        """The file that keeps room free for the journal: the internal drive is full, that is why they are here."""
        return self.path.with_suffix(".room")

    def keep_room(self) -> None:
        """Keeps room for all that the crossing may still write.

        Raises:
            DriveFull: there is not enough.
        """
        least, each = ROOM_BYTES
        size = least + each * int(self._read("SELECT count(*) FROM entry")[0][0])
        fd = os.open(self.room, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            os.posix_fallocate(fd, 0, size)
            os.fsync(fd)
        except OSError as error:
            self.room.unlink()
            raise told(error, "keep room for the journal", os.fsencode(self.path.parent)) from error
        finally:
            os.close(fd)

    def free_room(self) -> None:
        """The crossing writes no more: the room is given back."""
        self.room.unlink(missing_ok=True)

    def _read(self, sql: str, arguments: Sequence[Any] = ()) -> list[Any]:
        with self._lock:
            return self._db.execute(sql, arguments).fetchall()

    # -- the plan, once -------------------------------------------------------------------------------------------

    def write_plan(self, header: dict[str, Any], survey: Survey, leave_out: frozenset[Role], links: bool) -> None:
        """Writes header and items, and the state *planned*, in one transaction."""

        def work(db: sqlite3.Connection) -> None:
            self._set(db, "plan", json.dumps(header))
            self._set(db, "state", State.PLANNED.value)
            db.executemany(
                "INSERT INTO folder VALUES(?,?,?,?)",
                ((i, f.place, f.mode, f.mtime_ns) for i, f in enumerate(survey.folders)),
            )
            strands: dict[tuple[bytes, int], int] = {}
            db.executemany(
                "INSERT INTO entry(id, folder, name, kind, size, allocated, inode, mtime_ns, ctime_ns, mode, links, role, fate,"
                " strand, twin) VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
                _entries(survey, leave_out, links, strands),
            )
            db.executemany("INSERT INTO strand VALUES(?,?,?)", ((i, f, r) for (f, r), i in strands.items()))

        self._write("plan", work)

    @staticmethod
    def _set(db: sqlite3.Connection, key: str, value: str) -> None:
        db.execute("INSERT INTO meta VALUES(?,?) ON CONFLICT(key) DO UPDATE SET value=excluded.value", (key, value))

    @property
    def header(self) -> dict[str, Any]:
        """The plan's header, as it was written; empty when the plan was not."""
        found = self.get("plan")
        return dict(json.loads(found)) if found else {}

    def get(self, key: str) -> str | None:
        """A value of the crossing's own."""
        rows = self._read("SELECT value FROM meta WHERE key=?", (key,))
        return rows[0][0] if rows else None

    def put(self, key: str, value: object) -> None:
        """Keeps a value (JSON)."""
        self._write(key, lambda db: self._set(db, key, json.dumps(value)))

    def value(self, key: str, otherwise: Any = None) -> Any:
        """A value kept by :meth:`put`."""
        found = self.get(key)
        return otherwise if found is None else json.loads(found)

    # -- state and acts -------------------------------------------------------------------------------------------

    @property
    def state(self) -> State:
        """The state now."""
        return State(self.get("state") or "refused")

    def enter(self, new: State, **values: object) -> None:
        """Enters a state, keeping values in the same transaction; entering the same again is nothing."""
        now = self.state
        if now is not new:
            check_transition(now, new)

        def work(db: sqlite3.Connection) -> None:
            self._set(db, "state", new.value)
            for key, value in values.items():
                self._set(db, key, json.dumps(value))

        if now is not new or values:
            self._write(f"state {new.value}", work)

    def intend(self, kind: str, subject: str, now: float) -> int:
        """Writes down what is about to be done; gives the act's number."""
        act = 0

        def work(db: sqlite3.Connection) -> None:
            nonlocal act
            act = db.execute("INSERT INTO act(kind, subject, begun) VALUES(?,?,?)", (kind, subject, now)).lastrowid or 0

        self._write(f"intent {kind}", work)
        return act

    def conclude(self, act: int, outcome: str, now: float) -> None:
        """Writes down what came of an act."""
        self._write(
            "outcome", lambda db: db.execute("UPDATE act SET ended=?, outcome=? WHERE id=?", (now, outcome, act))
        )

    def acts(self) -> list[tuple[str, str, float, float | None, str | None]]:
        """``(kind, subject, begun, ended, outcome)`` of every act, in order."""
        return self._read("SELECT kind, subject, begun, ended, outcome FROM act ORDER BY id")

    def open_act(self, kind: str) -> int | None:
        """The number of the last act of a kind when it has no outcome."""
        rows = self._read("SELECT id, ended FROM act WHERE kind=? ORDER BY id DESC LIMIT 1", (kind,))
        return rows[0][0] if rows and rows[0][1] is None else None

    # -- items ----------------------------------------------------------------------------------------------------

    def items(
        self, where: str, arguments: Sequence[Any] = (), destination: int = 0, batch: int = BATCH
    ) -> Iterator[Item]:
        """Streams items for which the SQL condition holds, in the order of the plan."""
        last = -1
        while True:
            rows = self._read(
                f"{_ITEM} WHERE e.id>? AND ({where}) ORDER BY e.id LIMIT ?", (destination, last, *arguments, batch)
            )
            yield from map(_item, rows)
            if len(rows) < batch:
                return
            last = rows[-1][0]

    def item(self, id: int, destination: int = 0) -> Item:
        """One item."""
        return _item(self._read(f"{_ITEM} WHERE e.id=?", (destination, id))[0])

    def why(self, id: int) -> str | None:
        """Why an original stays."""
        found: str | None = self._read("SELECT why FROM entry WHERE id=?", (id,))[0][0]
        return found

    def verified_files(self, destination: int = 0) -> Iterator[tuple[bytes, int, int, bytes, int]]:
        """``(place, size, mtime_ns, digest, role index)`` of every verified file of the library, for its lists."""
        last = -1
        while True:
            rows = self._read(
                "SELECT e.id, f.place, e.name, c.size, c.mtime_ns, e.digest, e.role FROM entry e JOIN folder f ON f.id=e.folder"
                " JOIN copy c ON c.entry=e.id AND c.destination=? WHERE e.id>? AND e.kind=0 AND e.fate=0 AND c.state=2 ORDER BY e.id LIMIT ?",
                (destination, last, 4 * BATCH),
            )
            for _, folder, name, size, mtime, digest, role in rows:
                yield join(folder, name), size, mtime, digest, role
            if len(rows) < 4 * BATCH:
                return
            last = rows[-1][0]

    def plan_rows(self) -> Iterator[tuple[bytes, int, int, int, int, int]]:
        """``(place, kind, size, mtime_ns, role index, fate)`` of everything in the plan, in its order."""
        last = -1
        while rows := self._read(
            "SELECT e.id, f.place, e.name, e.kind, e.size, e.mtime_ns, e.role, e.fate FROM entry e JOIN folder f ON f.id=e.folder"
            " WHERE e.id>? ORDER BY e.id LIMIT ?",
            (last, 4 * BATCH),
        ):
            for _, folder, name, *rest in rows:
                yield (join(folder, name), *rest)
            last = rows[-1][0]

    def in_folder(self, place: bytes) -> list[Item]:
        """The items that lie directly in one folder."""
        return [_item(r) for r in self._read(f"{_ITEM} WHERE f.place=?", (0, place))]

    def folders(self) -> list[tuple[bytes, int, int]]:
        """``(place, mode, mtime_ns)`` of every folder, parents first."""
        return self._read("SELECT place, mode, mtime_ns FROM folder ORDER BY id")

    def record_copies(self, outcomes: Iterable[Copied], destination: int = 0) -> None:
        """Writes outcomes of copying: what was seen of the source, and the state of the copy."""
        rows = list(outcomes)

        def work(db: sqlite3.Connection) -> None:
            db.executemany(
                "UPDATE entry SET digest=?, seen_size=?, seen_mtime_ns=?, seen_ctime_ns=?, seen_inode=? WHERE id=?",
                [(o.digest, *o.seen, o.item) for o in rows if o.seen],
            )
            db.executemany(
                "INSERT OR REPLACE INTO copy VALUES(?,?,?,?,?,?,0,0)",
                [(destination, o.item, o.state, *(o.copy_seen or (None, None, None))) for o in rows],
            )

        self._write("copies", work)

    def record_verified(self, items: Iterable[tuple[int, bool]], destination: int = 0) -> None:
        """Writes that copies were read back equal; ``(item, proven)``."""
        at = self._at()
        rows = [(CopyState.VERIFIED, proven, at, destination, i) for i, proven in items]
        self._write(
            "verified",
            lambda db: db.executemany("UPDATE copy SET state=?, proven=?, at=? WHERE destination=? AND entry=?", rows),
        )

    # -- amendments -----------------------------------------------------------------------------------------------

    @property
    def amending(self) -> dict[int, list[int] | None]:
        """What is being brought along: entry → how its copy looked that is superseded, or None for a new one."""
        return {int(k): v for k, v in self.value("amending", {}).items()}

    def amend(self, changed: Sequence[Item], folders: Sequence[Found], entries: Sequence[Found]) -> None:
        """An amendment: entries that changed are copied anew, what appeared is added. The plan's own rows stay as they are.

        The state goes to *copying* in the same transaction.
        """
        check_transition(self.state, State.COPYING)

        def work(db: sqlite3.Connection) -> None:
            amending: dict[int, list[int] | None] = {i.id: list(i.copy_seen) if i.copy_seen else None for i in changed}
            db.executemany("DELETE FROM copy WHERE entry=?", [(i.id,) for i in changed])
            number = db.execute("SELECT coalesce(max(id), -1) FROM folder").fetchone()[0]
            known = dict(db.execute("SELECT place, id FROM folder"))
            for f in folders:
                if f.place not in known:
                    number += 1
                    known[f.place] = number
                    db.execute(
                        "INSERT INTO folder VALUES(?,?,?,?)", (number, f.place, f.status.st_mode, f.status.st_mtime_ns)
                    )
            last = db.execute("SELECT coalesce(max(id), -1) FROM entry").fetchone()[0]
            strands = {(bytes(f), r): i for i, f, r in db.execute("SELECT id, folder, role FROM strand")}
            for e in entries:
                last += 1
                key, s = (strand_folder(parent(e.place)), ROLES.index(e.role)), e.status
                if key not in strands:
                    strands[key] = max(strands.values(), default=-1) + 1
                    db.execute("INSERT INTO strand VALUES(?,?,?)", (strands[key], *key))
                db.execute(
                    "INSERT INTO entry(id, folder, name, kind, size, allocated, inode, mtime_ns, ctime_ns, mode, links, role,"
                    " fate, strand) VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
                    (last, known[parent(e.place)], e.place.rpartition(b"/")[2], int(e.kind), s.st_size, s.st_blocks * 512,
                     inode_key(s.st_ino), s.st_mtime_ns, s.st_ctime_ns, s.st_mode, 1, key[1], int(e.fate), strands[key]),
                )  # fmt: skip
                if e.fate is Fate.COPY:
                    amending[last] = None
            self._set(db, "amending", json.dumps(amending))
            self._set(db, "state", State.COPYING.value)

        self._write("amendment", work)

    # -- sessions: how a run ended --------------------------------------------------------------------------------

    def _at(self) -> float:
        """When, for the order of things only: sessions one after the other, seconds within one. Clocks may be set."""
        return self._session * 1e9 + time.monotonic() - self._begun

    def begin_session(self, boot: str, mount: str) -> None:
        """A run begins: notes the machine's boot and the destination's mount, and doubts what an unclean end left doubtful.

        An end is unclean when the run before was cut off (or its drive vanished) and the machine was started again, or the
        drive mounted again, since: drives acknowledge flushes that they have not done. What was verified in the last
        ``DOUBT_SECONDS`` or the last ``DOUBT_BYTES`` of that run, whichever is more, is then read again.
        """
        before = self.value("session", {})
        if before and not before["clean"] and (before["boot"], before["mount"]) != (boot, mount):
            self._doubt()
        self._session, self._begun = int(before.get("number", 0)) + 1, time.monotonic()
        self.put("session", {"number": self._session, "boot": boot, "mount": mount, "clean": False})

    def end_session(self) -> None:
        """A run ended by itself, its drive flushed and there."""
        self.put("session", {**self.value("session", {}), "clean": True})

    def _doubt(self, destination: int = 0) -> None:
        last = self._read("SELECT max(at) FROM copy WHERE destination=? AND state=2", (destination,))[0][0]
        if last is None:
            return
        rows = self._read(
            "SELECT c.entry, c.at, c.size FROM copy c WHERE c.destination=? AND c.state=2 ORDER BY c.at DESC, c.entry DESC",
            (destination,),
        )
        amending = (
            self.amending
        )  # meanwhile the rest is in the library, where a person may have changed it: only unproven
        doubtful, total = [], 0
        for entry, at, size in rows:
            if at < last - DOUBT_SECONDS and total >= DOUBT_BYTES:
                break
            read_again = not amending or entry in amending
            doubtful.append((CopyState.COPIED if read_again else CopyState.VERIFIED, destination, entry))
            total += size or 0
        self._write(
            "doubt",
            lambda db: db.executemany("UPDATE copy SET state=?, proven=0 WHERE destination=? AND entry=?", doubtful),
        )

    def record_origin(self, rows: Iterable[tuple[int, Origin, str | None]]) -> None:
        """Writes where originals are: ``(item, origin, why)``."""
        values = [(o, why, i) for i, o, why in rows]
        self._write("origin", lambda db: db.executemany("UPDATE entry SET origin=?, why=? WHERE id=?", values))

    def skip_hindered(self, destination: int = 0) -> int:
        """Goes on without the files that could not be copied; gives how many."""
        count = self.count_copies(HINDRANCES, destination)
        if not count:
            return 0
        marks = ",".join(str(int(s)) for s in HINDRANCES)
        self._write(
            "skip",
            lambda db: db.execute(
                f"UPDATE copy SET state=? WHERE destination=? AND state IN ({marks})", (CopyState.SKIPPED, destination)
            ),
        )
        return count

    def retry_hindered(self, destination: int = 0) -> None:
        """Forgets hindrances, so that those files are tried again."""
        if not self.count_copies((*HINDRANCES, CopyState.MISMATCH), destination):
            return
        marks = ",".join(str(int(s)) for s in (*HINDRANCES, CopyState.MISMATCH))
        self._write(
            "retry",
            lambda db: db.execute(f"DELETE FROM copy WHERE destination=? AND state IN ({marks})", (destination,)),
        )

    def forget_copies(self, destination: int = 0) -> None:
        """Forgets all copies: the staging folder is gone."""
        if self._read("SELECT 1 FROM copy WHERE destination=? LIMIT 1", (destination,)):
            self._write("forget", lambda db: db.execute("DELETE FROM copy WHERE destination=?", (destination,)))

    def forget_some(self, items: Iterable[int], destination: int = 0) -> None:
        """Forgets some copies, which are then made anew."""
        rows = [(destination, i) for i in items]
        self._write("forget", lambda db: db.executemany("DELETE FROM copy WHERE destination=? AND entry=?", rows))

    def count_copies(self, states: Iterable[CopyState], destination: int = 0) -> int:
        """How many copies are in one of the states."""
        marks = ",".join(str(int(s)) for s in states)
        return int(
            self._read(f"SELECT count(*) FROM copy WHERE destination=? AND state IN ({marks})", (destination,))[0][0]
        )

    # -- sums -----------------------------------------------------------------------------------------------------

    def sums(self, where: str, arguments: Sequence[Any] = (), destination: int = 0) -> tuple[int, int]:
        """``(files, bytes)`` of regular files for which the condition holds; sizes as copied where that is known."""
        row = self._read(
            "SELECT count(*), coalesce(sum(coalesce(e.seen_size, e.size)), 0) FROM entry e LEFT JOIN copy c ON c.entry=e.id AND c.destination=?"
            f" WHERE e.kind=0 AND ({where})",
            (destination, *arguments),
        )[0]
        return int(row[0]), int(row[1])

    def planned(self) -> tuple[int, int]:
        """``(files, bytes)`` that go along, by the plan, which never changes."""
        if self._planned is None:
            row = self._read("SELECT count(*), coalesce(sum(size), 0) FROM entry WHERE kind=0 AND fate=0")[0]
            self._planned = int(row[0]), int(row[1])
        return self._planned

    def going(self) -> tuple[int, int]:
        """``(files, bytes)`` that go along, with the sizes as they were copied."""
        return self.sums("e.fate=0")

    def verified(self, destination: int = 0) -> tuple[int, int]:
        """``(files, bytes)`` read back and equal."""
        return self.sums("e.fate=0 AND c.state=2", (), destination)

    def proven(self, destination: int = 0) -> bool:
        """True when every verified file was proven to be read from the drive."""
        row = self._read(
            "SELECT count(*), coalesce(min(proven), 1) FROM copy WHERE destination=? AND state=2", (destination,)
        )[0]
        return bool(row[1])

    def strands(self, destination: int = 0) -> list[StrandProgress]:
        """Progress of each strand that goes along, largest first."""
        rows = self._read(
            "SELECT s.id, s.folder, s.role, count(*), sum(coalesce(e.seen_size, e.size)), sum(c.state IN (1,2)),"
            " sum(CASE WHEN c.state IN (1,2) THEN coalesce(e.seen_size, e.size) ELSE 0 END), sum(c.state=2),"
            " sum(CASE WHEN c.state=2 THEN coalesce(e.seen_size, e.size) ELSE 0 END)"
            " FROM entry e JOIN strand s ON s.id=e.strand LEFT JOIN copy c ON c.entry=e.id AND c.destination=?"
            " WHERE e.kind=0 AND e.fate=0 GROUP BY s.id ORDER BY 5 DESC, s.id",
            (destination,),
        )
        return [StrandProgress(r[0], r[1], ROLES[r[2]], r[3], r[4], r[5] or 0, r[6], r[7] or 0, r[8]) for r in rows]

    def note(self, place: bytes, drive: str, meaning: str, now: float) -> None:
        """Keeps what needed attention."""
        self._write(
            "attention",
            lambda db: db.execute(
                "INSERT INTO attention(place, drive, meaning, at) VALUES(?,?,?,?)", (place, drive, meaning, now)
            ),
        )

    def attentions(self) -> list[tuple[bytes, str, str, float]]:
        """``(place, drive, meaning, at)`` of what needed attention."""
        return self._read("SELECT place, drive, meaning, at FROM attention ORDER BY id")


def _connect(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, timeout=30, isolation_level=None, check_same_thread=False)
    db.execute("PRAGMA journal_mode=WAL")
    db.execute("PRAGMA synchronous=FULL")
    db.execute("PRAGMA cache_size=-8000")
    return db


def _entries(
    survey: Survey, leave_out: frozenset[Role], links: bool, strands: dict[tuple[bytes, int], int]
) -> Iterator[tuple[Any, ...]]:
    out = {ROLES.index(r) for r in leave_out}
    first_of: dict[int, int] = {}
    for index, folder in enumerate(survey.folders):
        own, top = survey.is_own(folder), strand_folder(folder.place)
        for row in range(folder.first, folder.end):
            kind, role, name = survey.kind(row), survey.role[row], survey.name(row)
            fate = Fate.COPY
            if kind is Kind.SPECIAL:
                fate = Fate.SPECIAL
            elif kind is Kind.LINK and not links:
                fate = Fate.UNHOLDABLE
            elif own:
                fate = Fate.OWN
            elif role in out and kind is Kind.FILE:
                fate = Fate.LEFT_OUT
            twin = None
            if kind is Kind.FILE and survey.link_count[row] > 1 and links and fate in (Fate.COPY, Fate.OWN):
                twin = first_of.setdefault(survey.inode[row], row)
                twin = None if twin == row else twin
            strand = strands.setdefault((top, role), len(strands))
            yield (
                row,
                index,
                name,
                int(kind),
                survey.size[row],
                survey.allocated[row],
                inode_key(survey.inode[row]),
                survey.mtime_ns[row],
                survey.ctime_ns[row],
                survey.mode[row],
                survey.link_count[row],
                role,
                int(fate),
                strand,
                twin,
            )


def inode_key(inode: int) -> int:
    """An inode number as SQLite can hold it: 63 bits."""
    return inode & 0x7FFF_FFFF_FFFF_FFFF


def own_place(place: bytes, crossing: str) -> bytes:
    """Where a record of the old library's own folder crosses to: receipts keep their place, the rest is kept as it was."""
    inner = place[len(OWN) + 1 :]
    if inner.startswith((b"receipts/", b"as-it-was/")):
        return place
    return OWN + b"/as-it-was/" + crossing.encode() + b"/" + inner


def arrives_at(item: Item, crossing: str) -> bytes:
    """Where an item is, or will be, in the new library."""
    return own_place(item.place, crossing) if item.fate is Fate.OWN else item.place


def read_header(path: Path) -> dict[str, Any] | None:
    """The plan's header of a journal, without opening it for work; None when it is not readable as one."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as db:
            row = db.execute("SELECT value FROM meta WHERE key='plan'").fetchone()
            return dict(json.loads(row[0])) if row else None
    except (sqlite3.Error, ValueError):
        return None
