"""The copies on one destination, as the journal knows them.

Which are made, read back and proven, and how far that is.

Each destination has its own state, its own digests and its own sessions: it is fast or slow, fails
and goes on by itself.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any, NamedTuple

from fascis.crossing.journal.journal import BATCH, Journal
from fascis.crossing.journal.schema import joined, large_sum
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import CopySeen
from fascis.crossing.model.states import HINDRANCES, CopyState, Origin, State
from fascis.files.digests import Algorithm
from fascis.files.names import join, parent
from fascis.library.identity import IDENTITY, INVENTORY, MANIFEST, OWN
from fascis.library.roles import ROLES, Role
from fascis.library.survey import Kind

DOUBT_SECONDS, DOUBT_BYTES = 600.0, 4 << 30


_RECORDS = (IDENTITY, INVENTORY, MANIFEST)
_SIZE = "coalesce(c.seen_size, e.size)"
_NAME_THERE = "coalesce(e.there, e.name)"
# Its planned place there; without a folder there is no slash.
_PLACE_THERE = (
    f"CASE length(f.there) WHEN 0 THEN {_NAME_THERE} "
    f"ELSE CAST(f.there || '/' || {_NAME_THERE} AS BLOB) END"
)


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
    # size, mtime_ns, ctime_ns, inode when the digest was taken
    seen: tuple[int, int, int, int] | None
    origin: Origin
    copy: CopyState | None
    copy_seen: CopySeen | None
    # Read back from the drive itself, not perhaps from memory.
    proven: bool = False
    # the digest that a record in the library gives for this size and time
    known: bytes | None = None
    # The path of loose media, which is gathered from there.
    outside: bytes | None = None
    # the copy is kept as it was; at its place stands what was rewritten from it
    rewritten: bool = False
    # Its place in the new library: another one where names are kept apart.
    there: bytes = b""
    # Its copy is a file with equal content that stood there before.
    stood: bool = False


@dataclass(frozen=True, slots=True)
class Copied:
    """The outcome of copying one item."""

    item: int
    state: CopyState
    digest: bytes | None = None
    seen: tuple[int, int, int, int] | None = None
    copy_seen: CopySeen | None = None
    # nothing but zeros was read, in a file that says of itself that nothing is written in it
    zeros: bool = False
    # Names of extended attributes that its drive cannot hold.
    lost: tuple[str, ...] = ()
    # Digests that hash lists of others use.
    others: dict[Algorithm, bytes] = field(default_factory=dict)


class StoodThere(NamedTuple):
    """An entry whose equal stands there: its place there, and how the original looks."""

    id: int
    there: bytes
    size: int
    mtime_ns: int
    ctime_ns: int
    inode: int


class Trusted(NamedTuple):
    """A copy that was there before an update, as its inventory has it."""

    original: StoodThere
    size: int
    mtime_ns: int
    digest: bytes


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


# The plus keeps entries the outer table: read from the copies, each batch would sort all that is
# left.
_ITEM = """
SELECT e.id, f.place, e.name, e.kind, e.size, e.allocated, e.inode, e.mtime_ns, e.ctime_ns,
  e.mode, e.links, e.role, e.fate, e.strand, e.twin,
  c.digest, c.seen_size, c.seen_mtime_ns, c.seen_ctime_ns, c.seen_inode, e.origin,
  c.state, c.size, c.mtime_ns, c.inode, c.proven, e.known, e.outside, c.rewritten,
  f.there, e.there, c.ctime_ns, e.stands
FROM entry e
JOIN folder f ON f.id=e.folder
LEFT JOIN copy c ON c.entry=+e.id AND c.destination=?"""


_KINDS, _FATES, _ORIGINS = tuple(Kind), tuple(Fate), tuple(Origin)
# By value: looking up is many times faster than calling an enum.
_COPIES = (None, *CopyState)


_ASKED_TOGETHER = (
    Which.GOING,
    Which.GOING_VERIFIED,
    Which.LEFT_OUT,
    Which.DISCARDED,
    Which.GATHERED,
    Which.GATHERED_VERIFIED,
)


def _if(which: Which, value: str) -> str:
    return f"CASE WHEN {which} THEN {value} END"


def _ends(endings: Iterable[bytes]) -> str:
    """A condition on the name of an entry."""
    some = ",".join(f"x'{ending.hex()}'" for ending in endings)
    return f"ending(e.name) IN ({some})"


def _item(r: Sequence[Any]) -> Item:
    seen = None if r[16] is None else (r[16], r[17], r[18], r[19])
    copied = None if r[22] is None else CopySeen(r[22], r[23], r[24], r[31])
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
        r[26],
        r[27],
        bool(r[28]),
        r[32] or join(r[1] if r[29] is None else r[29], r[2] if r[30] is None else r[30]),
        r[32] is not None,
    )


class Original(NamedTuple):
    """How an original looked when it was read, or when the plan was made.

    Numbers of :class:`~fascis.library.survey.Kind` and of
    :class:`~fascis.crossing.model.states.Origin`, size in bytes, times in ns.
    """

    kind: int
    size: int
    mtime_ns: int
    ctime_ns: int
    inode: int
    links: int
    origin: int
    digest: bytes | None

    @classmethod
    def of(cls, item: Item) -> Original:
        """That of an item."""
        seen = item.seen or (item.size, item.mtime_ns, item.ctime_ns, item.inode)
        return cls(item.kind, *seen, item.links, item.origin, item.digest)


class SmallFile(IntEnum):
    """The columns of :meth:`Copies.small_files`."""

    ENTRY = 0
    FOLDER = 1
    NAME = 2
    FOLDER_THERE = 3
    NAME_THERE = 4
    SIZE = 5
    MTIME_NS = 6
    KNOWN = 7
    INODE = 8
    STRAND = 9


class SmallCopy(IntEnum):
    """The columns for :meth:`Copies.record_small`; what the source looked like comes last."""

    ENTRY = 0
    SIZE = 1
    MTIME_NS = 2
    INODE = 3
    CTIME_NS = 4
    DIGEST = 5


class Copies:
    """One destination's copies.

    ``number`` 0 is the first of the plan, that is to be home. Safe to use from several threads.
    """

    def __init__(self, journal: Journal, number: int = 0) -> None:
        self.journal, self.number = journal, number
        self._session, self._begun = 0, time.monotonic()
        self._documents: dict[tuple[bytes, ...], str] = {}
        self._proven: tuple[tuple[int, int], bool] | None = None
        self._sums: dict[Which, tuple[tuple[int, int], tuple[int, int]]] = {}

    # -- what is kept of the destination itself ----------------------------------------------------

    def value(self, key: str, otherwise: Any = None) -> Any:
        """A value of this destination kept by :meth:`put`."""
        return self.journal.value(f"{key}.{self.number}", otherwise)

    def put(self, key: str, value: object) -> None:
        """Keeps a value (JSON) of this destination."""
        self.journal.put(f"{key}.{self.number}", value)

    @property
    def state(self) -> State:
        """How far this destination is: up to *settled*, or *undone* when it was given up."""
        return State(self.value("state", State.PLANNED.value))

    def enter(self, new: State) -> None:
        """Enters a state of this destination; entering the same again is nothing."""
        self.journal.enter(new, self.number)

    @property
    def amending(self) -> dict[int, list[Any] | None]:
        """What is being brought along.

        Entry → how its copy looked that is superseded, or None for a new one.
        """
        return {int(k): v for k, v in self.value("amending", {}).items()}

    def intend(self, kind: str, subject: str, now: float) -> int:
        """Writes down what is about to be done on this destination; gives the act's number."""
        return self.journal.intend(kind, subject, now, self.number)

    def open_act(self, kind: str) -> int | None:
        """The number of the last act of a kind on this destination when it has no outcome."""
        return self.journal.open_act(kind, self.number)

    # -- items -------------------------------------------------------------------------------------

    def items(self, which: Which, batch: int = BATCH, first_names: bool = False) -> Iterator[Item]:
        """Streams the items that are meant, in the order of the plan.

        Args:
            first_names: of hard-linked files only the first name.
        """
        yield from self._items(f"({which}) AND e.twin IS NULL" if first_names else which, batch)

    def named(self, which: Which, endings: Iterable[bytes]) -> Iterator[Item]:
        """Streams the items that are meant and whose names end in one of these ways.

        Args:
            endings: without the dot, in lower case.
        """
        yield from self._items(f"({which}) AND ({_ends(endings)})", BATCH)

    def in_states(self, states: Iterable[CopyState]) -> Iterator[Item]:
        """Streams the items whose copies are in one of the states."""
        yield from self._items(f"c.state IN ({_marks(states)})", BATCH)

    def _items(self, where: str, batch: int) -> Iterator[Item]:
        last = -1
        while True:
            rows = self.journal.read(
                f"{_ITEM} WHERE e.id>? AND ({where}) ORDER BY e.id LIMIT ?",
                (self.number, last, batch),
            )
            yield from map(_item, rows)
            if len(rows) < batch:
                return
            last = rows[-1][0]

    def item(self, id: int) -> Item:
        """One item."""
        return _item(self.journal.read(f"{_ITEM} WHERE e.id=?", (self.number, id))[0])

    def verified_files(self) -> Iterator[tuple[bytes, int, int, bytes, int, bytes]]:
        """Every verified file of the library, for its lists.

        Place there, size, mtime_ns, digest, role index, place before.

        The last is nothing where its name was never changed for a drive.
        """
        last = -1
        while True:
            rows = self.journal.read(
                "SELECT e.id, f.there, coalesce(e.there, e.name), "
                "coalesce(d.size, c.size), coalesce(d.mtime_ns, c.mtime_ns), coalesce(d.digest, "
                "c.digest), e.role, e.before, e.stands FROM entry e "
                "JOIN folder f ON f.id=e.folder JOIN copy c ON c.entry=+e.id AND c.destination=? "
                "LEFT JOIN derived d ON d.entry=e.id AND d.destination=c.destination "
                "AND c.rewritten=1 WHERE e.id>? AND e.kind=0 AND "
                "e.fate=0 AND c.state=2 AND (c.rewritten=0 OR d.entry IS NOT NULL) ORDER BY e.id "
                "LIMIT ?",
                (self.number, last, 4 * BATCH),
            )
            for _, folder, name, size, mtime, digest, role, before, stands in rows:
                place = stands or join(folder, name)
                yield place, size, mtime, digest, role, before or b""
            if len(rows) < 4 * BATCH:
                return
            last = rows[-1][0]

    def where_they_are(self) -> Iterator[tuple[bytes, bytes | None, bytes]]:
        """``(place, path outside or nothing, place there)`` of all that goes and is verified."""
        last = -1
        while True:
            rows = self.journal.read(
                "SELECT e.id, f.place, e.name, e.outside, f.there, coalesce(e.there, e.name), "
                "e.stands FROM entry e JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON "
                f"c.entry=+e.id AND c.destination=? WHERE e.id>? AND {Which.GOING_VERIFIED} "
                "ORDER BY e.id LIMIT ?",
                (self.number, last, 16 * BATCH),
            )
            for _, folder, name, outside, there, called, stands in rows:
                yield join(folder, name), outside, stands or join(there, called)
            if len(rows) < 16 * BATCH:
                return
            last = rows[-1][0]

    def verified_documents(self, endings: Iterable[bytes]) -> list[int]:
        """Entries that go along, are verified, and are documents, in the plan's order.

        By their role, or because their names end in one of these ways.

        Args:
            endings: without the dot, in lower case.
        """
        wanted = tuple(sorted(endings))
        if wanted not in self._documents:
            # What the plan has does not change, and is asked for again and again.
            rows = self.journal.read(
                "SELECT e.id FROM entry e WHERE e.kind=0 AND "
                f"(e.role={ROLES.index(Role.DOCUMENT)} OR {_ends(wanted)}) ORDER BY e.id"
            )
            self._documents[wanted] = json.dumps([entry for (entry,) in rows])
        rows = self.journal.read(
            "SELECT e.id FROM entry e JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            f"e.id IN (SELECT value FROM json_each(?)) AND {Which.GOING_VERIFIED} ORDER BY e.id",
            (self.number, self._documents[wanted]),
        )
        return [entry for (entry,) in rows]

    def smallest_of_strands(self, roles: Iterable[Role]) -> list[bytes]:
        """Places in the copy of the smallest verified file of every strand, of some roles."""
        marks = ",".join(str(ROLES.index(r)) for r in roles)
        rows = self.journal.read(
            "SELECT f.there, coalesce(e.there, e.name), min(e.size), e.stands FROM entry "
            "e JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND "
            f"c.destination=? WHERE e.kind=0 AND {Which.GOING_VERIFIED} AND e.size>0 AND e.role IN "
            f"({marks}) GROUP BY e.strand",
            (self.number,),
        )
        return [stands or join(folder, name) for folder, name, _, stands in rows]

    def in_folder(self, place: bytes) -> list[Item]:
        """The items of the library that lie directly in one folder; gathered ones are none."""
        return [
            _item(r)
            for r in self.journal.read(
                f"{_ITEM} WHERE f.place=? AND e.outside IS NULL", (self.number, place)
            )
        ]

    def originals_in(self, place: bytes) -> dict[bytes, Original]:
        """How the originals looked that lie directly in one folder, by name; no gathered ones."""
        rows = self.journal.read(
            "SELECT e.name, e.kind, coalesce(c.seen_size, e.size), "
            "coalesce(c.seen_mtime_ns, e.mtime_ns), coalesce(c.seen_ctime_ns, e.ctime_ns), "
            "coalesce(c.seen_inode, e.inode), e.links, e.origin, c.digest FROM entry e "
            "JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND c.destination=? "
            "WHERE f.place=? AND e.outside IS NULL",
            (self.number, place),
        )
        return {row[0]: Original(*row[1:]) for row in rows}

    def items_there(self, folder: bytes) -> list[Item]:
        """The entries whose place is directly in one folder of the new library.

        Those that stood there before are none of this crossing's making, and not among them.
        """
        rows = self.journal.read(
            f"{_ITEM} WHERE f.there=? AND e.stands IS NULL", (self.number, folder)
        )
        return [_item(r) for r in rows]

    def at(self, place: bytes) -> Item | None:
        """The item that arrives at a place, or None."""
        rows = self.journal.read(
            f"{_ITEM} WHERE f.place=? AND e.name=?",
            (self.number, parent(place), place.rpartition(b"/")[2]),
        )
        return _item(rows[0]) if rows else None

    def names_there(self, folder: bytes) -> list[tuple[int, bytes, int | None]]:
        """``(entry, name, state)`` of what the plan has in one folder of the copy.

        By its place there; the state is ``None`` for what is not copied. What stood elsewhere
        before is told by :meth:`standing_elsewhere`.
        """
        return self.journal.read(
            f"SELECT e.id, {_NAME_THERE}, c.state FROM entry e JOIN folder f ON "
            "f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            f"f.there=? AND e.fate<>4 AND (e.stands IS NULL OR e.stands={_PLACE_THERE})",
            (self.number, folder),
        )

    def standing_elsewhere(self) -> list[tuple[int, bytes, int | None]]:
        """``(entry, place, state)`` of what counts as arrived, as an equal file stood elsewhere."""
        return self.journal.read(
            "SELECT e.id, e.stands, c.state FROM entry e JOIN folder f ON f.id=e.folder LEFT JOIN "
            f"copy c ON c.entry=e.id AND c.destination=? WHERE e.stands<>{_PLACE_THERE}",
            (self.number,),
        )

    def record_copies(self, outcomes: Iterable[Copied]) -> None:
        """Writes outcomes of copying: what was seen of the source, and the state of the copy."""
        rows = [
            (
                self.number,
                o.item,
                o.state,
                *(o.copy_seen or (None,) * 4),
                o.digest,
                *(o.seen or (None,) * 4),
            )
            for o in outcomes
        ]
        self.journal.write(
            "copies",
            lambda db: db.executemany(
                "INSERT OR REPLACE INTO copy(destination, entry, state, size, mtime_ns, inode, "
                "ctime_ns, digest, seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode) "
                "VALUES(?,?,?,?,?,?,?,?,?,?,?,?)",
                rows,
            ),
        )

    def small_files(self, after: int, most: int) -> list[tuple[Any, ...]]:
        """Small files that are not copied yet, in the order of the plan.

        Returns:
            Rows with the columns of :class:`SmallFile`.
        """
        return self.journal.read(
            "SELECT e.id, f.place, e.name, f.there, coalesce(e.there, e.name), "
            "e.size, e.mtime_ns, e.known, e.inode, e.strand FROM entry e "
            "JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND c.destination=? "
            f"WHERE e.id>? AND {Which.SMALL_NOT_COPIED_YET} ORDER BY e.id LIMIT ?",
            (self.number, after, most),
        )

    def count_small(self) -> int:
        """How many small files are not copied yet."""
        rows = self.journal.read(
            "SELECT count(*) FROM entry e LEFT JOIN copy c ON c.entry=e.id AND c.destination=? "
            f"WHERE {Which.SMALL_NOT_COPIED_YET}",
            (self.number,),
        )
        return int(rows[0][0])

    def record_small(self, copies: Iterable[tuple[Any, ...]]) -> None:
        """Writes that small files were copied; rows with the columns of :class:`SmallCopy`."""
        self.journal.write(
            "copies",
            lambda db: db.executemany(
                "INSERT INTO copy(destination, state, entry, size, mtime_ns, inode, ctime_ns, "
                "digest, seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode) "
                f"VALUES({self.number},{int(CopyState.COPIED)},?,?,?,?,?,?,?,?,?,?)",
                copies,
            ),
        )

    def stood(self) -> Iterator[StoodThere]:
        """What stands there and has not been compared yet, in the order of the plan."""
        last = -1
        while True:
            rows = self.journal.read(
                "SELECT e.id, e.stands, e.size, e.mtime_ns, e.ctime_ns, e.inode FROM entry e LEFT "
                "JOIN copy c ON c.entry=e.id AND c.destination=? WHERE e.id>? AND "
                f"({Which.STOOD_NOT_COMPARED_YET}) ORDER BY e.id LIMIT ?",
                (self.number, last, 4 * BATCH),
            )
            yield from map(StoodThere._make, rows)
            if len(rows) < 4 * BATCH:
                return
            last = rows[-1][0]

    def record_trusted(self, rows: Iterable[Trusted]) -> None:
        """Writes that copies were there before, verified then; they are never doubted as recent."""
        number, verified = self.number, int(CopyState.VERIFIED)
        made = (
            (number, original[0], verified, size, mtime, digest, *original[2:])
            for original, size, mtime, digest in rows
        )
        sql = (
            "INSERT OR REPLACE INTO copy(destination, entry, state, size, mtime_ns, digest, "
            "seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode, at) VALUES(?,?,?,?,?,?,?,?,?,?,0)"
        )
        # All are looked at before the first is written.
        rows_made = list(made)
        self.journal.write("trusted", lambda db: db.executemany(sql, rows_made))

    def record_verified(self, items: Iterable[tuple[int, bool]]) -> None:
        """Writes that copies were read back equal; ``(item, proven)``."""
        at = self._at()
        entries: dict[bool, list[int]] = {False: [], True: []}
        for item, proven in items:
            entries[proven].append(item)
        self.journal.write(
            "verified",
            lambda db: db.executemany(
                "UPDATE copy SET state=?, proven=?, at=? "
                "WHERE destination=? AND entry IN (SELECT value FROM json_each(?))",
                [
                    (CopyState.VERIFIED, proven, at, self.number, json.dumps(some))
                    for proven, some in entries.items()
                ],
            ),
        )

    def record_moved(self, items: Iterable[tuple[int, int]]) -> None:
        """Writes the time of change (ns) that originals have since they were renamed and back."""
        rows = [(ctime, self.number, item) for item, ctime in items]
        self.journal.write(
            "moved",
            lambda db: db.executemany(
                "UPDATE copy SET seen_ctime_ns=? WHERE destination=? AND entry=? AND "
                "seen_ctime_ns IS NOT NULL",
                rows,
            ),
        )

    # -- what was rewritten ---------------------------------------------------------------------

    def begin_rewriting(self, item: int) -> None:
        """Notes that an item's copy is kept as it was, and something else takes its place."""
        self.journal.write(
            "rewriting",
            lambda db: db.execute(
                "UPDATE copy SET rewritten=1 WHERE destination=? AND entry=?", (self.number, item)
            ),
        )

    def record_derived(self, item: int, seen: CopySeen, digest: bytes) -> None:
        """Notes what stands in an item's place, and the digest it was read back with."""
        self.journal.write(
            "derived",
            lambda db: db.execute(
                "INSERT OR REPLACE INTO derived(destination, entry, size, mtime_ns, inode, "
                "ctime_ns, digest) VALUES(?,?,?,?,?,?,?)",
                (self.number, item, *seen, digest),
            ),
        )

    def stands_anew(self, item: int) -> bool:
        """True when something was rewritten in an item's place."""
        rows = self.journal.read(
            "SELECT 1 FROM derived WHERE destination=? AND entry=?", (self.number, item)
        )
        return bool(rows)

    def derived(self) -> dict[int, tuple[CopySeen, bytes]]:
        """What was rewritten: entry → how it looked, digest."""
        rows = self.journal.read(
            "SELECT entry, digest, size, mtime_ns, inode, ctime_ns FROM derived WHERE "
            "destination=?",
            (self.number,),
        )
        return {entry: (CopySeen(*seen), digest) for entry, digest, *seen in rows}

    # -- sessions: how a run ended -----------------------------------------------------------------

    def _at(self) -> float:
        """When, for the order of things only: sessions one after the other, seconds within one.

        Clocks may be set.
        """
        return self._session * 1e9 + time.monotonic() - self._begun

    def begin_session(self, boot: str, mount: str) -> None:
        """A run begins.

        Notes the machine's boot and the destination's mount, and doubts what an unclean end left
        doubtful.

        An end is unclean when the run before was cut off (or its drive vanished) and the machine
        was started again, or the drive mounted again, since: drives acknowledge flushes that they
        have not done. What was verified in the last ``DOUBT_SECONDS`` or the last ``DOUBT_BYTES``
        of that run, whichever is more, is then read again.
        """
        before = self.value("session", {})
        if before and not before["clean"] and (before["boot"], before["mount"]) != (boot, mount):
            self._doubt()
        self._session, self._begun = int(before.get("number", 0)) + 1, time.monotonic()
        self.put("session", {"number": self._session, "boot": boot, "mount": mount, "clean": False})

    def end_session(self) -> None:
        """A run ended by itself, its drive flushed and there."""
        self.put("session", {**self.value("session", {}), "clean": True})

    def doubt_all(self) -> None:
        """Every copy that was read back is read again.

        What is on the drive is not what could be there.
        """
        self.journal.write(
            "doubt",
            lambda db: db.execute(
                "UPDATE copy SET state=1, proven=0 WHERE destination=? AND state=2", (self.number,)
            ),
        )

    def doubt_some(self, items: Iterable[int]) -> None:
        """Some copies that were read back are read again: something touched them since."""
        rows = [(self.number, i) for i in items]
        self.journal.write(
            "doubt",
            lambda db: db.executemany(
                "UPDATE copy SET state=1, proven=0 WHERE destination=? AND entry=?", rows
            ),
        )

    def _doubt(self) -> None:
        last = self.journal.read(
            "SELECT max(at) FROM copy WHERE destination=? AND state=2", (self.number,)
        )[0][0]
        if last is None:
            return
        rows = self.journal.read(
            "SELECT c.entry, c.at, c.size FROM copy c WHERE c.destination=? AND c.state=2 ORDER "
            "BY c.at DESC, c.entry DESC",
            (self.number,),
        )
        # Meanwhile the rest is in the library, where a person may have changed it: only unproven.
        amending = self.amending
        doubtful, total = [], 0
        for entry, at, size in rows:
            if at < last - DOUBT_SECONDS and total >= DOUBT_BYTES:
                break
            read_again = not amending or entry in amending
            doubtful.append(
                (CopyState.COPIED if read_again else CopyState.VERIFIED, self.number, entry)
            )
            total += size or 0
        self.journal.write(
            "doubt",
            lambda db: db.executemany(
                "UPDATE copy SET state=?, proven=0 WHERE destination=? AND entry=?", doubtful
            ),
        )

    def skip_hindered(self) -> int:
        """Goes on without the files that could not be copied; gives how many."""
        count = self.count_copies(HINDRANCES)
        if not count:
            return 0
        marks = _marks(HINDRANCES)
        self.journal.write(
            "skip",
            lambda db: db.execute(
                f"UPDATE copy SET state=? WHERE destination=? AND state IN ({marks})",
                (CopyState.SKIPPED, self.number),
            ),
        )
        return count

    def retry_hindered(self) -> None:
        """Forgets hindrances, so that those files are tried again."""
        if not self.count_copies((*HINDRANCES, CopyState.MISMATCH)):
            return
        marks = _marks((*HINDRANCES, CopyState.MISMATCH))
        self.journal.write(
            "retry",
            lambda db: db.execute(
                f"DELETE FROM copy WHERE destination=? AND state IN ({marks})", (self.number,)
            ),
        )

    def forget_copies(self) -> None:
        """Forgets all copies: the staging folder is gone."""
        if self.journal.read("SELECT 1 FROM copy WHERE destination=? LIMIT 1", (self.number,)):
            self.journal.write(
                "forget",
                lambda db: db.execute("DELETE FROM copy WHERE destination=?", (self.number,)),
            )

    def forget_some(self, items: Iterable[int]) -> None:
        """Forgets some copies, which are then made again."""
        rows = [(self.number, i) for i in items]
        self.journal.write(
            "forget",
            lambda db: db.executemany("DELETE FROM copy WHERE destination=? AND entry=?", rows),
        )

    def count_copies(self, states: Iterable[CopyState]) -> int:
        """How many copies are in one of the states."""
        marks = _marks(states)
        return int(
            self.journal.read(
                f"SELECT count(*) FROM copy WHERE destination=? AND state IN ({marks})",
                (self.number,),
            )[0][0]
        )

    # -- sums --------------------------------------------------------------------------------------

    def sums(self, which: Which) -> tuple[int, int]:
        """``(files, bytes)`` of the regular files that are meant.

        Sizes as copied where that is known. Receipts and scales ask the same several times:
        nothing is counted again while nothing was written.
        """
        version = self.journal.version()
        known = self._sums.get(which)
        if known and known[0] == version:
            return known[1]
        # One pass over all entries costs more than what is added up in it.
        together = _ASKED_TOGETHER if which in _ASKED_TOGETHER else (which,)
        columns = ",".join(  # for programs
            f"count({_if(some, '1')}), {large_sum(_if(some, _SIZE))}" for some in together
        )
        row = self.journal.read(
            f"SELECT {columns} FROM entry e LEFT JOIN copy c ON c.entry=e.id "
            "AND c.destination=? WHERE e.kind=0",
            (self.number,),
        )[0]
        for number, some in enumerate(together):
            files, high, low = row[3 * number : 3 * number + 3]
            self._sums[some] = (version, (int(files), joined(high, low)))
        return self._sums[which][1]

    def anything_stays(self) -> bool:
        """True when a file or link of the old library does not go with the others.

        Left out, not to be held there, not verified.
        """
        rows = self.journal.read(
            "SELECT 1 FROM entry e LEFT JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            "e.outside IS NULL AND e.kind<>2 AND (e.fate IN (1,3) OR (e.fate IN (0,4) AND (c.state "
            "IS NULL OR c.state<>2))) LIMIT 1",
            (self.number,),
        )
        return bool(rows)

    def going(self) -> tuple[int, int]:
        """``(files, bytes)`` that go along, with the sizes as they were copied."""
        return self.sums(Which.GOING)

    def demanded(self) -> tuple[int, int]:
        """``(files, bytes)`` that must be copied here: what goes, without what was skipped."""
        files, total = self.going()
        gone = self.sums(Which.GOING_SKIPPED)
        return files - gone[0], total - gone[1]

    def must_hold(self) -> tuple[int, int]:
        """``(files, bytes)`` that the new library must hold now.

        A document that was rewritten counts as it is now; the journal of a database that went
        into it no longer counts.
        """
        files, total = self.demanded()
        rewritten = self.sums(Which.GOING_WRITTEN_ANEW)
        anew = [seen.size for seen, _ in self.derived().values()]
        return files - rewritten[0] + len(anew), total - rewritten[1] + sum(anew)

    def verified(self) -> tuple[int, int]:
        """``(files, bytes)`` read back and equal."""
        return self.sums(Which.GOING_VERIFIED)

    def proven(self) -> bool:
        """True when every verified file was proven to be read from the drive."""
        version = self.journal.version()
        if self._proven and self._proven[0] == version:
            return self._proven[1]
        row = self.journal.read(
            "SELECT count(*), coalesce(min(c.proven), 1) FROM copy c JOIN entry e ON e.id=c.entry "
            "WHERE c.destination=? AND c.state=2 AND NOT (e.stands IS NOT NULL AND c.at=0)",
            (self.number,),
        )[0]
        self._proven = version, bool(row[1])
        return self._proven[1]

    def strands(self) -> list[StrandProgress]:
        """Progress of each strand that goes along, largest first."""
        rows = self.journal.read(
            "SELECT s.id, s.folder, s.role, count(*), sum(c.state IN (1,2)), sum(c.state=2), "
            f"{large_sum(_SIZE)}, "
            f"{large_sum(f'CASE WHEN c.state IN (1,2) THEN {_SIZE} ELSE 0 END')}, "
            f"{large_sum(f'CASE WHEN c.state=2 THEN {_SIZE} ELSE 0 END')} FROM entry e JOIN strand "
            "s ON s.id=e.strand LEFT JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            "e.kind=0 AND e.fate=0 GROUP BY s.id ORDER BY s.id",
            (self.number,),
        )
        found = [
            StrandProgress(
                r[0],
                r[1],
                ROLES[r[2]],
                r[3],
                joined(r[6], r[7]),
                r[4] or 0,
                joined(r[8], r[9]),
                r[5] or 0,
                joined(r[10], r[11]),
            )
            for r in rows
        ]
        return sorted(found, key=lambda s: -s.bytes)


def _marks(states: Iterable[CopyState]) -> str:
    return ",".join(str(int(s)) for s in states)


# What is on record for a file of which a hash list of others says otherwise: no content has it.
LISTED_OTHERWISE = bytes(32)


def is_damaged(item: Item, seen: tuple[int, int, int, int], digest: bytes) -> bool:
    """True when a source has the size and time on the library's own record, but other content."""
    return (
        item.known is not None and digest != item.known and seen[:2] == (item.size, item.mtime_ns)
    )


def own_place(place: bytes, crossing: str) -> bytes:
    """Where a record of the old library's own folder crosses to.

    Receipts keep their place, the rest is kept as it was.

    Whatever else lies in that folder keeps its whole path, so that it never takes the place of a
    document of the library.
    """
    if place.startswith((OWN + b"/receipts/", OWN + b"/as-it-was/")):
        return place
    return as_it_was(place[len(OWN) + 1 :] if place in _RECORDS else place, crossing)


def arrives_at(item: Item, crossing: str) -> bytes:
    """Where the verified copy of an item is, or will be, in the new library."""
    if item.fate is Fate.OWN:
        return own_place(item.there, crossing)
    return as_it_was(item.there, crossing) if item.rewritten else item.there


def as_it_was(place: bytes, crossing: str) -> bytes:
    """Where the bytes that something had before stand in the new library."""
    return OWN + b"/as-it-was/" + crossing.encode() + b"/" + place
