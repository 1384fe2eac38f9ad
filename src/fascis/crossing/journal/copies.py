"""The copies on one destination, as the journal knows them.

Which are made, read back and proven, and the progress. Each destination has its own state, its own
digests and its own runs: it is fast or slow, fails and resumes independently.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterable, Iterator, Sequence
from enum import IntEnum
from typing import Any, NamedTuple

from msgspec import Struct, field

from fascis.crossing.journal import alike
from fascis.crossing.journal.journal import BATCH, Journal
from fascis.crossing.journal.schema import joined, large_sum
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import CopySeen
from fascis.crossing.model.states import HINDRANCES, CopyState, Origin, State
from fascis.files.digests import Algorithm
from fascis.files.names import join, parent
from fascis.library.own import IDENTITY, INVENTORY, MANIFEST, OWN
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


class Item(Struct, frozen=True):
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


class Copied(Struct, frozen=True):
    """The outcome of copying one item."""

    item: int
    state: CopyState
    digest: bytes | None = None
    seen: tuple[int, int, int, int] | None = None
    copy_seen: CopySeen | None = None
    # Only zeros were read, from a file that reports that nothing is written in it.
    zeros: bool = False
    # Names of extended attributes that its drive cannot store.
    lost: tuple[str, ...] = ()
    # Digests that other hash lists use.
    others: dict[Algorithm, bytes] = field(default_factory=dict)


StoodRow = tuple[int, bytes, int, int, int, int]
"""An entry with an equal existing file: its id, that file's place, and how the original looks.

Size in bytes, mtime and ctime in ns, inode. A plain tuple: an update has one for nearly every file.
"""

TrustedRow = tuple[int, int, int, bytes, int, int, int, int]
"""A copy from before an update, as its inventory lists it: the entry, size, mtime in ns, digest.

Then how the original looks, as in :data:`StoodRow`.
"""


class StrandProgress(Struct, frozen=True):
    """The progress of one strand on one destination: counts and bytes of regular files."""

    id: int
    folder: bytes
    role: Role
    files: int
    bytes: int
    copied_files: int
    copied_bytes: int
    verified_files: int
    verified_bytes: int


# The plus keeps entries the outer table: starting from the copies, each batch would sort all that
# is left.
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
# By value: a lookup is many times faster than calling an enum.
_COPIES = (None, *CopyState)


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
    """An original as it was when it was read, or when the plan was made.

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
        """The original of an item."""
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
    """The columns for :meth:`Copies.record_small`; those of the source come last."""

    ENTRY = 0
    SIZE = 1
    MTIME_NS = 2
    INODE = 3
    CTIME_NS = 4
    DIGEST = 5


class Copies:
    """The copies of one destination.

    ``number`` 0 is the first of the plan, which becomes home. Safe to use from several threads.
    """

    def __init__(self, journal: Journal, number: int = 0) -> None:
        self.journal, self.number = journal, number
        self._session, self._begun = 0, time.monotonic()
        self._documents: dict[tuple[bytes, ...], str] = {}

    # -- what is kept of the destination itself ----------------------------------------------------

    def value(self, key: str, otherwise: Any = None) -> Any:
        """A value of this destination stored by :meth:`put`."""
        return self.journal.value(f"{key}.{self.number}", otherwise)

    def put(self, key: str, value: object) -> None:
        """Stores a value (JSON) of this destination."""
        self.journal.put(f"{key}.{self.number}", value)

    @property
    def state(self) -> State:
        """The progress of this destination: up to *settled*, or *undone* if it was given up."""
        return State(self.value("state", State.PLANNED.value))

    def enter(self, new: State) -> None:
        """Enters a state of this destination; entering the same again does nothing."""
        self.journal.enter(new, self.number)

    @property
    def amending(self) -> dict[int, list[Any] | None]:
        """Later changes that are being copied.

        Entry → how its replaced copy looked, or None for a new one.
        """
        return {int(k): v for k, v in self.value("amending", {}).items()}

    def intend(self, kind: str, subject: str, now: float) -> int:
        """Records an intent on this destination; returns the act's number."""
        return self.journal.intend(kind, subject, now, self.number)

    def open_act(self, kind: str) -> int | None:
        """The number of the last act of a kind on this destination if it has no outcome."""
        return self.journal.open_act(kind, self.number)

    # -- items -------------------------------------------------------------------------------------

    def items(self, which: Which, batch: int = BATCH, first_names: bool = False) -> Iterator[Item]:
        """Streams the selected items, in the order of the plan.

        Args:
            first_names: only the first name of hard-linked files.
        """
        yield from self._some(f"({which}) AND e.twin IS NULL" if first_names else which, batch)

    def named(self, which: Which, endings: Iterable[bytes]) -> Iterator[Item]:
        """Streams the selected items whose names have one of these endings.

        Args:
            endings: without the dot, in lower case.
        """
        yield from self._items(f"({which}) AND ({_ends(endings)})", BATCH)

    def in_states(self, states: Iterable[CopyState]) -> Iterator[Item]:
        """Streams the items whose copies are in one of the states."""
        yield from self._some(f"c.state IN ({_marks(states)})", BATCH)

    def count(self) -> None:
        """Counts the entries, for all who ask for some until the next is written."""
        self.journal.alike(self.number)

    def _some(self, where: str, batch: int) -> Iterator[Item]:
        # Reading the counts costs nothing compared with reading every entry.
        counted = self.journal.knows_alike(self.number)
        if counted and alike.is_none(self.journal, self.number, where):
            return
        yield from self._items(where, batch)

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

        Place there, size, mtime_ns, digest, role index, place before. The last is empty if its name
        was never changed for a drive.
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
        """``(place, path outside or None, place there)`` of all copied and verified files."""
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
        """Entries that are copied and verified documents, in the plan's order.

        By their role, or because their names have one of these endings.

        Args:
            endings: without the dot, in lower case.
        """
        wanted = tuple(sorted(endings))
        if wanted not in self._documents:
            # The plan does not change, and this is needed again and again.
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
        """The smallest verified file of every strand with one of these roles, as places there."""
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
        """The items of the library directly in one folder, without gathered ones."""
        return [
            _item(r)
            for r in self.journal.read(
                f"{_ITEM} WHERE f.place=? AND e.outside IS NULL", (self.number, place)
            )
        ]

    def originals_in(self, place: bytes) -> dict[bytes, Original]:
        """How the originals directly in one folder looked, by name, without gathered ones."""
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

        Without existing files, which this crossing did not make.
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
        """``(entry, name, state)`` of the plan's entries in one folder of the copy.

        By its place there; the state is ``None`` if not copied. :meth:`standing_elsewhere` has
        equal files at other places.
        """
        return self.journal.read(
            f"SELECT e.id, {_NAME_THERE}, c.state FROM entry e JOIN folder f ON "
            "f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            f"f.there=? AND e.fate<>4 AND (e.stands IS NULL OR e.stands={_PLACE_THERE})",
            (self.number, folder),
        )

    def standing_elsewhere(self) -> list[tuple[int, bytes, int | None]]:
        """``(entry, place, state)`` of entries whose equal file is at another place there."""
        return self.journal.read(
            "SELECT e.id, e.stands, c.state FROM entry e JOIN folder f ON f.id=e.folder LEFT JOIN "
            f"copy c ON c.entry=e.id AND c.destination=? WHERE e.stands<>{_PLACE_THERE}",
            (self.number,),
        )

    def record_copies(self, outcomes: Iterable[Copied]) -> None:
        """Records copies: how the source looked, and the state of the copy."""
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
        """Records copies of small files; rows with the columns of :class:`SmallCopy`."""
        self.journal.write(
            "copies",
            lambda db: db.executemany(
                "INSERT INTO copy(destination, state, entry, size, mtime_ns, inode, ctime_ns, "
                "digest, seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode) "
                f"VALUES({self.number},{int(CopyState.COPIED)},?,?,?,?,?,?,?,?,?,?)",
                copies,
            ),
        )

    def stood(self) -> Iterator[list[StoodRow]]:
        """Existing files that have not been compared yet, many at once, in the plan's order."""
        last, most = -1, 16 * BATCH
        while rows := self.journal.read(
            "SELECT e.id, e.stands, e.size, e.mtime_ns, e.ctime_ns, e.inode FROM entry e LEFT "
            "JOIN copy c ON c.entry=e.id AND c.destination=? WHERE e.id>? AND "
            f"({Which.STOOD_NOT_COMPARED_YET}) ORDER BY e.id LIMIT ?",
            (self.number, last, most),
        ):
            yield rows
            last = rows[-1][0]

    def record_trusted(self, rows: Iterable[TrustedRow]) -> None:
        """Records copies from before, verified then; they are never doubted as recent."""
        sql = (
            "INSERT OR REPLACE INTO copy(destination, state, at, entry, size, mtime_ns, digest, "
            "seen_size, seen_mtime_ns, seen_ctime_ns, seen_inode) "
            f"VALUES({self.number:d},{CopyState.VERIFIED:d},0,?,?,?,?,?,?,?,?)"
        )
        # All are checked before the first is written.
        checked = list(rows)
        self.journal.write("trusted", lambda db: db.executemany(sql, checked))

    def record_verified(self, items: Iterable[tuple[int, bool]]) -> None:
        """Records that copies were read back equal; ``(item, proven)``."""
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
        """Records the change time (ns) of originals after they were renamed and back."""
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
        """Records that an item's copy is kept as it was, and that another file takes its place."""
        self.journal.write(
            "rewriting",
            lambda db: db.execute(
                "UPDATE copy SET rewritten=1 WHERE destination=? AND entry=?", (self.number, item)
            ),
        )

    def record_derived(self, item: int, seen: CopySeen, digest: bytes) -> None:
        """Records the file that takes an item's place, and its digest as read back."""
        self.journal.write(
            "derived",
            lambda db: db.execute(
                "INSERT OR REPLACE INTO derived(destination, entry, size, mtime_ns, inode, "
                "ctime_ns, digest) VALUES(?,?,?,?,?,?,?)",
                (self.number, item, *seen, digest),
            ),
        )

    def stands_anew(self, item: int) -> bool:
        """True if an item has a rewritten file."""
        rows = self.journal.read(
            "SELECT 1 FROM derived WHERE destination=? AND entry=?", (self.number, item)
        )
        return bool(rows)

    def derived(self) -> dict[int, tuple[CopySeen, bytes]]:
        """The rewritten files: entry → size and times, digest."""
        rows = self.journal.read(
            "SELECT entry, digest, size, mtime_ns, inode, ctime_ns FROM derived WHERE "
            "destination=?",
            (self.number,),
        )
        return {entry: (CopySeen(*seen), digest) for entry, digest, *seen in rows}

    # -- sessions: how a run ended -----------------------------------------------------------------

    def _at(self) -> float:
        """A time for ordering only: runs one after the other, seconds within one.

        Clocks may be changed.
        """
        return self._session * 1e9 + time.monotonic() - self._begun

    def begin_session(self, boot: str, mount: str) -> None:
        """Starts a run.

        Records the machine's boot and the destination's mount, and doubts copies after an unclean
        end. An end is unclean if the previous run was interrupted (or its drive vanished) and since
        then the machine was started again, or the drive mounted again: drives confirm flushes that
        they have not done. Files verified in the last ``DOUBT_SECONDS`` or the last ``DOUBT_BYTES``
        of that run, whichever is more, are then read again.
        """
        before = self.value("session", {})
        if before and not before["clean"] and (before["boot"], before["mount"]) != (boot, mount):
            self._doubt()
        self._session, self._begun = int(before.get("number", 0)) + 1, time.monotonic()
        self.put("session", {"number": self._session, "boot": boot, "mount": mount, "clean": False})

    def end_session(self) -> None:
        """Ends a run normally, with its drive flushed and connected."""
        self.put("session", {**self.value("session", {}), "clean": True})

    def doubt_all(self) -> None:
        """Marks every verified copy to be read again.

        The drive may have other content now.
        """
        self.journal.write(
            "doubt",
            lambda db: db.execute(
                "UPDATE copy SET state=1, proven=0 WHERE destination=? AND state=2", (self.number,)
            ),
        )

    def doubt_some(self, items: Iterable[int]) -> None:
        """Marks some verified copies to be read again: something touched them since."""
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
        # Meanwhile the others are in the library, where a person may have changed them: only
        # unproven.
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
        """Continues without the files that could not be copied; returns how many."""
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
        """Forgets some copies; they are made again."""
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
        """``(files, bytes)`` of the selected regular files.

        Sizes as copied, if known.
        """
        return alike.sums(self.journal, self.number, which)

    def anything_stays(self) -> bool:
        """True if a file or link of the old library is not copied with the others.

        Left out, not possible there, or not verified.
        """
        rows = self.journal.read(
            "SELECT 1 FROM entry e LEFT JOIN copy c ON c.entry=e.id AND c.destination=? WHERE "
            "e.outside IS NULL AND e.kind<>2 AND (e.fate IN (1,3) OR (e.fate IN (0,4) AND (c.state "
            "IS NULL OR c.state<>2))) LIMIT 1",
            (self.number,),
        )
        return bool(rows)

    def going(self) -> tuple[int, int]:
        """``(files, bytes)`` to be copied, with the sizes as copied."""
        return self.sums(Which.GOING)

    def demanded(self) -> tuple[int, int]:
        """``(files, bytes)`` that must be copied here, without skipped files."""
        files, total = self.going()
        gone = self.sums(Which.GOING_SKIPPED)
        return files - gone[0], total - gone[1]

    def must_hold(self) -> tuple[int, int]:
        """``(files, bytes)`` that the new library must contain now.

        A rewritten document counts with its new size; the journal that went into a database no
        longer counts.
        """
        files, total = self.demanded()
        rewritten = self.sums(Which.GOING_WRITTEN_ANEW)
        anew = [seen.size for seen, _ in self.derived().values()]
        return files - rewritten[0] + len(anew), total - rewritten[1] + sum(anew)

    def verified(self) -> tuple[int, int]:
        """``(files, bytes)`` read back and equal."""
        # Before anything is copied, no entry has to be counted.
        begun = self.journal.read("SELECT 1 FROM copy WHERE destination=? LIMIT 1", (self.number,))
        return self.sums(Which.GOING_VERIFIED) if begun else (0, 0)

    def proven(self) -> bool:
        """True if every verified file was proven to be read from the drive."""
        return alike.is_none(self.journal, self.number, Which.PERHAPS_FROM_MEMORY)

    def strands(self) -> list[StrandProgress]:
        """Progress of each copied strand, largest first."""
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


# Recorded for a file that a hash list contradicts: no content has this digest.
LISTED_OTHERWISE = bytes(32)


def is_damaged(item: Item, seen: tuple[int, int, int, int], digest: bytes) -> bool:
    """True if a source has the size and time of the library's own record but other content."""
    return (
        item.known is not None and digest != item.known and seen[:2] == (item.size, item.mtime_ns)
    )


def own_place(place: bytes, crossing: str) -> bytes:
    """The new place of a record in the old library's own folder.

    Receipts keep their place, the others are kept in ``as-it-was``. Everything else in that folder
    keeps its whole path, so that it never takes the place of a document of the library.
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
    """Where the earlier bytes of something are kept in the new library."""
    return OWN + b"/as-it-was/" + crossing.encode() + b"/" + place
