"""The journal: a crossing's memory, an SQLite file; progress is stored only here.

Every method that writes is one durable transaction (WAL, synchronous=FULL). The engine can be
killed at any line. The plan's columns are written once; later observations have columns of their
own.
"""

from __future__ import annotations

import json
import logging
import os
import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from fascis.crossing.journal.amendment import (
    Found,
    add_entries,
    add_folders,
    copies_superseded,
    forget_copies,
)
from fascis.crossing.journal.header import Header, parse_header
from fascis.crossing.journal.leads import LeadRows, Led, read_led, with_kept
from fascis.crossing.journal.opening import (
    UNREADABLE,
    bring_up,
    connect,
    connect_with_room,
    meaning_of,
)
from fascis.crossing.journal.schema import ALIKE, APPLICATION_ID, SCHEMA, VERSION, joined, large_sum
from fascis.crossing.model.states import CopyState, Origin, State, check_transition
from fascis.files.disk.door import delete_state
from fascis.files.errors import told
from fascis.files.names import join
from fascis.files.own.private import make_private
from fascis.library.references.uses import led_outside
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

BATCH = 1024
# The value with the documents that were updated to the new place.
LED = "led"
# For an update: place in the copy → its present place (hex); and files that go to earlier first.
MOVES, EARLIER = "moves", "earlier"
# The value with the places of a part that were set aside; a folder's place stands for its contents.
ASIDE = "aside"
# Room reserved for what a crossing writes: at least, and for each entry, in bytes.
ROOM_BYTES = (1 << 20, 640)

_INSERT = (
    "INSERT INTO entry(id, folder, name, kind, size, allocated, inode, mtime_ns, ctime_ns, mode, "
    "links, role, fate, strand, twin, outside, there, before, stands) "
    "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"
)


class PlanRows(Protocol):
    """The rows of a plan for the tables. Each is requested once, in this order."""

    @property
    def leads(self) -> LeadRows:
        """Where every reference leads."""

    def folders(self) -> Iterable[tuple[Any, ...]]:
        """Number, place, mode, mtime in ns, place in the copy."""

    def entries(self) -> Iterable[tuple[Any, ...]]:
        """One for each entry, in the order of ``_INSERT``."""

    def strands(self) -> Iterable[tuple[int, bytes, int]]:
        """Number, folder and role of every strand that an entry names."""

    def aliases(self) -> Iterable[tuple[bytes, bytes]]:
        """Paths that documents use for gathered files, and the places of these."""


class Journal:
    """An open journal. Safe to use from several threads; transactions are serialised."""

    def __init__(self, path: Path, db: sqlite3.Connection, step: Callable[[str], None]) -> None:
        self.path = path
        self._db = db
        self._entries_written = 0
        self._alike: dict[int, tuple[int, int]] = {}
        self._lock = threading.RLock()
        self._step = step
        self._planned: tuple[int, int] | None = None
        self._outside: dict[int, bytes] | None = None
        self._header: Header | None = None

    @classmethod
    def create(cls, path: Path, step: Callable[[str], None] = lambda _: None) -> Journal:
        """Creates a journal at a free path; SQLite makes and flushes the folder."""
        make_private(path.parent)
        db = connect(path)
        db.executescript(
            f"BEGIN; {SCHEMA} PRAGMA application_id={APPLICATION_ID}; PRAGMA "
            f"user_version={VERSION}; COMMIT;"
        )
        return cls(path, db, step)

    @classmethod
    def open(cls, path: Path, step: Callable[[str], None] = lambda _: None) -> Journal:
        """Opens a journal.

        Raises:
            Damaged: it is none, is damaged, or of a newer version.
            EnvironmentTrouble: its drive is full or fails, or another program holds it.
        """
        try:
            db = connect_with_room(path)
        except UNREADABLE as error:  # SQLite's message about a damaged name may not even be text.
            raise meaning_of(path, error) from error
        try:
            bring_up(path, db)
        except BaseException as error:
            # Otherwise it would keep its locks.
            db.close()
            if not isinstance(error, UNREADABLE):
                raise
            raise meaning_of(path, error) from error
        return cls(path, db, step)

    def close(self) -> None:
        """Closes it; closing commits nothing."""
        with self._lock:
            self._db.close()

    def write(
        self, what: str, work: Callable[[sqlite3.Connection], object], entries: bool = True
    ) -> None:
        """One durable transaction.

        For :class:`~fascis.crossing.journal.copies.Copies` and this class alone.

        Args:
            entries: False if no entry and no copy is written, so that counts remain valid.

        Raises:
            DriveFull: there is no room for it, though what was kept free was given up.
        """
        with self._lock:
            self._step(f"before journal {what}")  # for programs
            try:
                self._transact(work)
            except sqlite3.Error as error:
                if (
                    getattr(error, "sqlite_errorcode", 0) != sqlite3.SQLITE_FULL
                    or not self.room.exists()
                ):
                    raise meaning_of(self.path, error) from error
                # The reserved room is for this.
                delete_state(self.room)
                try:
                    self._transact(work)
                except sqlite3.Error as again:
                    raise meaning_of(self.path, again) from again
            if entries:
                self._entries_written += 1
            self._step(f"after journal {what}")  # for programs

    def _transact(self, work: Callable[[sqlite3.Connection], object]) -> None:
        with self._db:
            self._db.execute("BEGIN IMMEDIATE")
            work(self._db)

    # -- room --------------------------------------------------------------------------------------

    @property
    def room(self) -> Path:
        """The file that reserves room for the journal.

        The internal drive is nearly full; that is why people use Fascis.
        """
        return self.path.with_suffix(".room")

    def keep_room(self) -> None:
        """Reserves room for everything that the crossing may still write.

        Raises:
            DriveFull: there is not enough.
        """
        least, each = ROOM_BYTES
        rows = int(self.read("SELECT count(*) FROM entry")[0][0]) * len(self.header.destinations)
        size = least + each * rows
        fd = os.open(self.room, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            os.posix_fallocate(fd, 0, size)
            os.fsync(fd)
        except OSError as error:
            delete_state(self.room)
            raise told(
                error, tr("keep room for the journal"), os.fsencode(self.path.parent)
            ) from error
        finally:
            os.close(fd)

    def free_room(self) -> None:
        """The crossing writes no more: releases the room."""
        delete_state(self.room)

    def _version(self) -> tuple[int, int]:
        """Changes when an entry may have changed, and when another program wrote something."""
        return self._entries_written, self.read("PRAGMA data_version")[0][0]

    def alike(self, number: int) -> str:
        """The table of counts for one destination, see :mod:`.alike`.

        Made again if something was written since.
        """
        table = f"alike_{number}"
        with self._lock:
            version = self._version()
            if self._alike.get(number) != version:
                self.read(f"DROP TABLE IF EXISTS temp.{table}")
                self.read(f"CREATE TEMP TABLE {table} AS {ALIKE}", (number,))
                self._alike[number] = version
        return table

    def knows_alike(self, number: int) -> bool:
        """True if that table exists and nothing was written since."""
        with self._lock:
            return self._alike.get(number) == self._version()

    def read(self, sql: str, arguments: Sequence[Any] = ()) -> list[Any]:
        """All rows of a query.

        For :class:`~fascis.crossing.journal.copies.Copies` and this class alone.

        Raises:
            Damaged: the journal is.
            EnvironmentTrouble: its drive fails, or another program holds it.
        """
        with self._lock:
            try:
                return self._db.execute(sql, arguments).fetchall()
            except (sqlite3.Error, UnicodeDecodeError) as error:
                raise meaning_of(self.path, error) from error

    # -- the plan, once ----------------------------------------------------------------------------

    def write_plan(
        self,
        header: Header,
        rows: PlanRows,
        more: Mapping[str, Any],
        listed: Iterable[tuple[int, str]] = (),
    ) -> None:
        """Writes header and items, and the state *planned*, in one transaction.

        Args:
            more: other values of the plan, by key.
            listed: from other hash lists: ``(entry, as text)``, see ``Listed.as_text``.
        """

        def work(db: sqlite3.Connection) -> None:
            for key, value in more.items():
                self._set(db, key, json.dumps(value))
            db.executemany("INSERT INTO listed VALUES(?,?)", listed)
            self._set(db, "plan", json.dumps(header.as_json()))
            self._set(db, "state", State.PLANNED.value)
            db.executemany("INSERT INTO folder VALUES(?,?,?,?,?)", rows.folders())
            db.executemany(_INSERT, rows.entries())
            db.executemany("INSERT INTO strand VALUES(?,?,?)", rows.strands())
            db.executemany("INSERT OR IGNORE INTO alias VALUES(?,?)", rows.aliases())
            self._put_leads(db, rows.leads)

        self.write("plan", work)

    @staticmethod
    def _put_leads(db: sqlite3.Connection, leads: LeadRows) -> None:
        first = db.execute("SELECT coalesce(max(id), -1) + 1 FROM outside").fetchone()[0]
        assert first == 0 or not leads.outside, "paths are numbered from 0"
        db.executemany("INSERT INTO outside VALUES(?,?)", enumerate(leads.outside))
        db.executemany("INSERT OR REPLACE INTO lead VALUES(?,?,?,?)", leads.rows)

    def put_leads(self, leads: LeadRows) -> None:
        """Records where references lead, replacing earlier records.

        Records of documents that were not read are kept.
        """

        def work(db: sqlite3.Connection) -> None:
            mine = {entry for entry, *_ in leads.rows}
            kept = [
                r
                for r in db.execute("SELECT entry, seen, leads, photos FROM lead")
                if r[0] not in mine
            ]
            paths = dict(db.execute("SELECT id, path FROM outside"))
            db.execute("DELETE FROM lead")
            db.execute("DELETE FROM outside")
            self._put_leads(db, with_kept(leads, kept, paths))

        self.write("leads", work)
        self._outside = None

    def led(self, entry: int) -> Led | None:
        """Where the references of a document or link led when it was read.

        None if that was not recorded.
        """
        if self._outside is None:
            self._outside = {
                led_outside(i): path for i, path in self.read("SELECT id, path FROM outside")
            }
        rows = self.read("SELECT seen, leads, photos FROM lead WHERE entry=?", (entry,))
        return read_led(rows[0], self._outside) if rows else None

    def led_entries(self) -> dict[int, bytes]:
        """The documents for which this is recorded, and their state then."""
        return dict(self.read("SELECT entry, seen FROM lead"))

    def gathered_into(self) -> list[tuple[bytes, bytes]]:
        """``(path it is gathered from, folder it is gathered to)`` of every loose file."""
        return self.read(
            "SELECT e.outside, f.place FROM entry e JOIN folder f ON f.id=e.folder WHERE e.outside "
            "IS NOT NULL"
        )

    def entries(self) -> dict[bytes, int]:
        """Every entry of the plan by its place."""
        rows = self.read("SELECT f.place, e.name, e.id FROM entry e JOIN folder f ON f.id=e.folder")
        return {join(folder, name): id for folder, name, id in rows}

    def crossed_to(self, destination: int) -> list[tuple[bytes, int]]:
        """``(name, size in bytes)`` of every verified file of one destination."""
        return self.read(
            "SELECT e.name, e.size FROM entry e JOIN copy c ON c.entry=e.id WHERE c.destination=? "
            "AND c.state=?",
            (destination, CopyState.VERIFIED),
        )

    def names_of_files(self, folder: bytes) -> set[bytes]:
        """The names of all files of the plan directly in one old folder."""
        rows = self.read(
            "SELECT e.name FROM entry e JOIN folder f ON f.id=e.folder WHERE f.place=?", (folder,)
        )
        return {name for (name,) in rows}

    def aliases(self) -> dict[bytes, bytes]:
        """Other paths by which documents may name a file of the new library.

        Absolute path → place there.
        """
        return dict(self.read("SELECT path, place FROM alias"))

    def renamed(self) -> tuple[dict[bytes, bytes], dict[bytes, bytes]]:
        """Renamed entries: folder → its place in the copy, file → its name there."""
        folders = dict(self.read("SELECT place, there FROM folder WHERE there<>place"))
        files = self.read(
            "SELECT f.place, e.name, e.there FROM entry e JOIN folder f ON f.id=e.folder WHERE "
            "e.there IS NOT NULL"
        )
        return folders, {join(folder, name): there for folder, name, there in files}

    def standing(self) -> dict[bytes, bytes]:
        """Entries whose equal file is at another place: place → that file's place."""
        rows = self.read(
            "SELECT f.place, e.name, e.stands FROM entry e JOIN folder f ON f.id=e.folder WHERE "
            "e.stands IS NOT NULL AND e.stands<>CASE length(f.place) WHEN 0 THEN e.name ELSE "
            "CAST(f.place || '/' || e.name AS BLOB) END"
        )
        return {join(folder, name): stands for folder, name, stands in rows}

    def has_renamed(self) -> bool:
        """True if some file has, or had before an earlier crossing, another name in the copy."""
        return bool(self.read("SELECT 1 FROM entry WHERE before IS NOT NULL LIMIT 1"))

    def names_there(self, folder: bytes) -> list[bytes]:
        """The names in the copy of everything the plan has in one old folder, with folders."""
        names = self.read(
            "SELECT coalesce(e.there, e.name) FROM entry e JOIN folder f ON f.id=e.folder WHERE "
            "f.place=? AND e.fate IN (0,3,4)",
            (folder,),
        )
        below = folder + b"/" if folder else b""
        folders = self.read(
            "SELECT place, there FROM folder WHERE place>=? AND place<?",
            (below, below[:-1] + b"0" if below else b"\xff" * 9),
        )
        direct = [there for p, there in folders if p and b"/" not in p[len(below) :]]
        return [n for (n,) in names] + [p.rpartition(b"/")[2] for p in direct]

    def names_in(self, folder: bytes) -> list[tuple[int, bytes, int, int]]:
        """``(entry, name, size, mtime_ns)`` of the plan's files directly in one folder."""
        return self.read(
            "SELECT e.id, e.name, e.size, e.mtime_ns FROM entry e JOIN folder f ON f.id=e.folder "
            "WHERE f.place=? AND e.kind=0 AND e.outside IS NULL",
            (folder,),
        )

    def record_known(self, rows: list[tuple[bytes, int]]) -> None:
        """Records the digests from the library's own records: ``(digest, entry)``."""
        if rows:
            self.write(
                "known", lambda db: db.executemany("UPDATE entry SET known=? WHERE id=?", rows)
            )

    def record_otherwise(self, entry: int, known: bytes) -> None:
        """Records that a hash list contradicts an entry, for all names of that file."""
        sql = "UPDATE entry SET known=? WHERE id=? OR twin=?"
        self.write("known", lambda db: db.execute(sql, (known, entry, entry)))

    def listed(self) -> dict[int, list[str]]:
        """The digests of other hash lists, by entry."""
        found: dict[int, list[str]] = {}
        for entry, said in self.read("SELECT entry, said FROM listed"):
            found.setdefault(entry, []).append(said)
        return found

    @staticmethod
    def _set(db: sqlite3.Connection, key: str, value: str) -> None:
        db.execute(
            "INSERT INTO meta VALUES(?,?) ON CONFLICT(key) DO UPDATE SET value=excluded.value",
            (key, value),
        )

    @property
    def header(self) -> Header:
        """The plan's header, as it was written.

        Raises:
            ValueError: it was not written, or makes no sense.
        """
        if self._header is None:
            self._header = parse_header(self.get("plan"))
        if self._header is None:
            raise ValueError("the plan was not written")
        return self._header

    @property
    def has_plan(self) -> bool:
        """False if it was interrupted before the plan was written: nothing was done."""
        return self.get("plan") is not None

    def get(self, key: str) -> str | None:
        """A value of the crossing itself."""
        rows = self.read("SELECT value FROM meta WHERE key=?", (key,))
        return rows[0][0] if rows else None

    def put(self, key: str, value: object) -> None:
        """Stores a value (JSON)."""
        self.write(key, lambda db: self._set(db, key, json.dumps(value)), entries=False)

    def value(self, key: str, otherwise: Any = None) -> Any:
        """A value stored by :meth:`put`."""
        found = self.get(key)
        return otherwise if found is None else json.loads(found)

    # -- state and acts ----------------------------------------------------------------------------

    @property
    def state(self) -> State:
        """The present state."""
        return State(self.get("state") or "refused")

    def enter(self, new: State, destination: int | None = None, **values: object) -> None:
        """Enters a state, and stores values in the same transaction.

        Entering the same again does nothing.

        Args:
            destination: the state is this destination's own, not the crossing's.
        """
        key = "state" if destination is None else f"state.{destination}"
        kept = self.get(key)
        now = State(kept.strip('"')) if kept else State.PLANNED
        if now is not new:
            check_transition(now, new)

        def work(db: sqlite3.Connection) -> None:
            self._set(db, key, new.value if destination is None else json.dumps(new.value))
            for name, value in values.items():
                self._set(db, name, json.dumps(value))

        if now is not new or values:
            self.write(f"state {new.value}", work, entries=False)
        if now is not new:
            _LOG.info("state of %s %s: %s", self.path.stem, key, new.value)

    def intend(self, kind: str, subject: str, now: float, destination: int = 0) -> int:
        """Records an intent; returns the act's number."""
        act = 0

        def work(db: sqlite3.Connection) -> None:
            nonlocal act
            row = (kind, subject, now, destination)
            done = db.execute(
                "INSERT INTO act(kind, subject, begun, destination) VALUES(?,?,?,?)", row
            )
            act = done.lastrowid or 0

        self.write(f"intent {kind}", work, entries=False)
        return act

    def conclude(self, act: int, outcome: str, now: float) -> None:
        """Records the outcome of an act."""
        self.write(
            "outcome",
            lambda db: db.execute(
                "UPDATE act SET ended=?, outcome=? WHERE id=?", (now, outcome, act)
            ),
            entries=False,
        )

    def acts(self) -> list[tuple[str, str, float, float | None, str | None]]:
        """``(kind, subject, begun, ended, outcome)`` of every act, in order."""
        return self.read("SELECT kind, subject, begun, ended, outcome FROM act ORDER BY id")

    def open_act(self, kind: str, destination: int = 0) -> int | None:
        """The number of the last act of a kind if it has no outcome."""
        rows = self.read(
            "SELECT id, ended FROM act WHERE kind=? AND destination=? ORDER BY id DESC LIMIT 1",
            (kind, destination),
        )
        return rows[0][0] if rows and rows[0][1] is None else None

    # -- items -------------------------------------------------------------------------------------

    def why(self, id: int) -> str | None:
        """Why an original stays."""
        found: str | None = self.read("SELECT why FROM entry WHERE id=?", (id,))[0][0]
        return found

    def plan_rows(self) -> Iterator[tuple[bytes, int, int, int, int, int, bytes | None]]:
        """Everything in the plan, in its order; for an update, what changes in the copy.

        Rows of ``(place, kind, size, mtime_ns, role index, fate, path it is gathered from)``.
        """
        last, some = -1, " AND e.stands IS NULL" if self.header.update else ""
        while rows := self.read(
            "SELECT e.id, f.place, e.name, e.kind, e.size, e.mtime_ns, e.role, e.fate, e.outside "
            f"FROM entry e JOIN folder f ON f.id=e.folder WHERE e.id>?{some} ORDER BY e.id LIMIT ?",
            (last, 4 * BATCH),
        ):
            for _, folder, name, *rest in rows:
                yield (join(folder, name), *rest)
            last = rows[-1][0]

    def folders(self) -> list[tuple[bytes, bytes]]:
        """``(place, place in the copy)`` of every folder, parents first."""
        return self.read("SELECT place, there FROM folder ORDER BY id")

    def folders_that_cross(self) -> list[tuple[bytes, bytes]]:
        """The same for the folders that a crossing makes.

        Those of its part, if it is not the whole library.
        """
        out = {os.fsencode(f) for f in self.header.folders_out}
        return [f for f in self.folders() if f[0] not in out]

    # -- amendments --------------------------------------------------------------------------------

    def amend(
        self,
        changed: Sequence[int],
        folders: Sequence[Found],
        entries: Sequence[Found],
        destinations: Sequence[int],
    ) -> None:
        """An amendment: changed entries are copied again, new ones are added.

        The plan's own rows do not change. The crossing and its destinations enter *copying* in the
        same transaction.
        """
        check_transition(self.state, State.COPYING)

        def work(db: sqlite3.Connection) -> None:
            superseded = {n: copies_superseded(db, changed, n) for n in destinations}
            forget_copies(db, changed)
            ids = add_folders(db, folders)
            for entry in add_entries(db, entries, ids):
                for copies in superseded.values():
                    copies[entry] = None
            for n, copies in superseded.items():
                self._set(db, f"amending.{n}", json.dumps(copies))
                self._set(db, f"state.{n}", json.dumps(State.COPYING.value))
            self._set(db, "state", State.COPYING.value)

        self.write("amendment", work)

    # -- the originals -----------------------------------------------------------------------------

    def record_origin(self, rows: Iterable[tuple[int, Origin, str | None]]) -> None:
        """Records the state of originals: ``(item, origin, why)``."""
        values = [(o, why, i) for i, o, why in rows]
        self.write(
            "origin",
            lambda db: db.executemany("UPDATE entry SET origin=?, why=? WHERE id=?", values),
        )

    def part_twins(self, ids: Iterable[int]) -> None:
        """Entries that were second names of a file, and are separate files now."""
        self.write(
            "parted",
            lambda db: db.executemany("UPDATE entry SET twin=NULL WHERE id=?", [(i,) for i in ids]),
        )

    def followers(self) -> list[dict[str, Any]]:
        """Documents that stay and were updated to the new place; before that, those that will be.

        Each with its ``path`` for messages, its ``format``, and its number of ``references``.
        """
        led: list[dict[str, Any]] = self.value(LED, []) or self.value("followers", [])
        return led

    # -- sums --------------------------------------------------------------------------------------

    def aside(self) -> dict[bytes, int]:
        """Places of a part that are set aside; a folder's place stands for its contents.

        With the change time (ns) of a file at that moment; 0 if not known.
        """
        return {bytes.fromhex(text): ctime for text, ctime in self.value(ASIDE) or []}

    def planned(self) -> tuple[int, int]:
        """``(files, bytes)`` to be copied, by the plan, which never changes."""
        if self._planned is None:
            row = self.read(
                f"SELECT count(*), {large_sum('size')} FROM entry WHERE kind=0 AND fate=0"
            )[0]
            self._planned = int(row[0]), joined(*row[1:])
        return self._planned

    def note(self, place: bytes, drive: str, meaning: str, now: float) -> None:
        """Records something that needs attention."""
        self.write(
            "attention",
            lambda db: db.execute(
                "INSERT INTO attention(place, drive, meaning, at) VALUES(?,?,?,?)",
                (place, drive, meaning, now),
            ),
            entries=False,
        )

    def attentions(self) -> list[tuple[bytes, str, str, float]]:
        """``(place, drive, meaning, at)`` of everything that needed attention."""
        return self.read("SELECT place, drive, meaning, at FROM attention ORDER BY id")
