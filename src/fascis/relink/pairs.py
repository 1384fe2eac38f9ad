"""Pairs of a lost and a found file that may be the same, with the evidence, in columns."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from enum import StrEnum

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from fascis.files.names import name_key
from fascis.library.roles import RoleRule
from fascis.relink.index import Index, Ints, key_of
from fascis.relink.lost import Lost
from fascis.words.speech import tr

Flags = NDArray[np.bool_]
# Candidates of one lost file that are examined: of its size, and of another.
_MOST_ALIKE, _MOST_OTHER = (500, 9)
# An odd number that mixes a size into a key.
_MIX = np.int64(-7046029254386353131)


class Basis(StrEnum):
    """The basis of a tie, strongest first."""

    DIGEST = "digest"
    SIZE = "name+size"
    LENGTH = "name+duration"
    FOLDER = "name+folder"
    NAME = "name"

    @property
    def words(self) -> str:
        """The text for people."""
        return _BASES[self]


_BASES = {
    Basis.DIGEST: tr("same content"),
    Basis.SIZE: tr("same name and size"),
    Basis.LENGTH: tr("same name and length"),
    Basis.FOLDER: tr("same name, in folders of the same names"),
    Basis.NAME: tr("same name"),
}


UNKNOWN, EQUAL, DIFFERS = 0, 1, 2


class Pairs(Struct):
    """Pairs in columns, in the order of their lost files.

    Attributes:
        lost: numbers of the lost files; ``row`` the found files' rows.
        start: where each lost file's pairs begin, and at its end their number.
        size, time, digest, length, captured: ``UNKNOWN``, ``EQUAL`` or ``DIFFERS``.
        tail: how many trailing folders the two paths have in common.
        proxy: the found file lies among proxies or similar files, and the lost one did not.
        used: the library uses the found file already as another one.
        renamed: the names differ.
        refused: a person said that they differ.
    """

    lost: Ints
    row: Ints
    start: Ints
    size: NDArray[np.int8]
    time: NDArray[np.int8]
    digest: NDArray[np.int8]
    length: NDArray[np.int8]
    captured: NDArray[np.int8]
    tail: NDArray[np.int8]
    proxy: Flags
    used: Flags
    renamed: Flags
    refused: Flags
    move: Ints = field(default_factory=lambda: np.zeros(0, np.int64))

    def __len__(self) -> int:
        return len(self.lost)

    def of(self, number: int) -> range:
        """The pairs of one lost file."""
        return range(int(self.start[number]), int(self.start[number + 1]))

    def possible(self) -> Flags:
        """Pairs without contradicting evidence."""
        told = (self.size, self.digest, self.length, self.captured)
        against = self.proxy | self.refused
        for column in told:
            against |= column == DIFFERS
        proven = (self.digest == EQUAL) & ~self.refused
        renamed = self.renamed & (self.digest != EQUAL)
        good: Flags = (~against & ~renamed) | proven
        return good

    def strong(self) -> Flags:
        """Pairs with more evidence than a name and a size.

        Content, length, a time, or the same path in another spelling.
        """
        sure = (self.digest == EQUAL) | (self.length == EQUAL) | (self.captured == EQUAL)
        same_place = (self.tail == SAME_PLACE) & (self.size != DIFFERS)
        strong: Flags = sure | same_place | ((self.time == EQUAL) & (self.size == EQUAL))
        return strong

    def rank(self) -> NDArray[np.int8]:
        """How strong the evidence for each is, 0 (none) to 4 (digest)."""
        rank = np.where(self.size == EQUAL, 2, 1).astype(np.int8)
        rank[(self.size != EQUAL) & self.strong()] = 2
        rank[(self.size == EQUAL) & self.strong()] = 3
        rank[self.digest == EQUAL] = 4
        rank[~self.possible()] = 0
        return rank


def find_pairs(lost: Sequence[Lost], index: Index, used: Collection[bytes]) -> Pairs:
    """Pairs by name, and the evidence that costs nothing.

    Args:
        used: absolute paths of files that the library uses and finds.
    """
    keys = np.array([key_of(x.name) for x in lost], np.int64)
    sizes = np.array([x.size for x in lost], np.int64)
    order, rows = index.by_key()
    with np.errstate(over="ignore"):
        mixed = index.key ^ (index.size * _MIX)
        exact = _matches(
            *_sorted(mixed), keys ^ (sizes * _MIX), np.where(sizes > 0, _MOST_ALIKE, 0)
        )
    loose = _matches(order, rows, keys, np.where(sizes > 0, _MOST_OTHER, _MOST_ALIKE))
    most = len(index) + 1
    whole = np.unique(np.concatenate([exact[0] * most + exact[1], loose[0] * most + loose[1]]))
    both = np.stack([whole // most, whole % most])
    same = _same_names(lost, index, both)
    same &= ~_not_its_own(lost, index, both, same)
    return _with_evidence(lost, index, both[:, same], used, np.zeros(int(same.sum()), np.bool_))


def _sorted(keys: Ints) -> tuple[Ints, Ints]:
    order = np.argsort(keys, kind="stable")
    return keys[order], order.astype(np.int64)


def _matches(keys: Ints, rows: Ints, wanted: Ints, most: Ints) -> Ints:
    """``[[number in wanted], [row]]`` for equal keys.

    At most ``most`` for each wanted one.
    """
    low, high = np.searchsorted(keys, wanted, "left"), np.searchsorted(keys, wanted, "right")
    counts = np.minimum(high - low, most)
    numbers = np.repeat(np.arange(len(wanted)), counts)
    begun = np.repeat(np.cumsum(counts) - counts, counts)
    at = np.repeat(low, counts) + np.arange(len(numbers)) - begun
    return np.stack([numbers, rows[at] if len(at) else np.zeros(0, np.int64)]).astype(np.int64)


def _same_names(lost: Sequence[Lost], index: Index, both: Ints) -> Flags:
    """Which pairs really have the same name, not only the same key.

    A sequence needs all of its frames.
    """
    names = [x.name.lower() if x.name.isascii() else name_key(x.name) for x in lost]
    folders: dict[int, set[bytes]] = {}
    by_folder: tuple[Ints, Ints] | None = None
    same = np.zeros(both.shape[1], np.bool_)
    for at, (number, row) in enumerate(both.T.tolist()):
        name = index.name(row)
        same[at] = names[number] == (name.lower() if name.isascii() else name_key(name))
        if same[at] and lost[number].frames:
            by_folder = by_folder or _sorted(index.folder)
            same[at] = set(lost[number].frames) <= _names_in(
                index, int(index.folder[row]), by_folder, folders
            )
    return same


def _not_its_own(lost: Sequence[Lost], index: Index, both: Ints, same: Flags) -> Flags:
    """Pairs of names that differ in case or normal form, if the folder has the exact name too.

    Each reference keeps its own.
    """
    pairs = list(zip(both[0].tolist(), both[1].tolist(), same.tolist(), strict=True))
    exact = {
        (i, int(index.folder[row]))
        for i, row, good in pairs
        if good and index.name(row) == lost[i].name
    }
    return np.array(
        [
            index.name(row) != lost[i].name and (i, int(index.folder[row])) in exact
            for i, row, _ in pairs
        ],
        np.bool_,
    )


def _names_in(
    index: Index, folder: int, by_folder: tuple[Ints, Ints], known: dict[int, set[bytes]]
) -> set[bytes]:
    if folder not in known:
        low, high = (int(np.searchsorted(by_folder[0], folder, side)) for side in ("left", "right"))
        known[folder] = {index.name(row) for row in by_folder[1][low:high].tolist()}
    return known[folder]


def _with_evidence(
    lost: Sequence[Lost], index: Index, both: Ints, used: Collection[bytes], renamed: Flags
) -> Pairs:
    numbers, rows = both
    count = len(numbers)
    start = np.searchsorted(numbers, np.arange(len(lost) + 1)).astype(np.int64)
    sizes = np.array([x.size for x in lost], np.int64)[numbers] if count else numbers
    times = np.array([x.mtime_ns for x in lost], np.int64)[numbers] if count else numbers
    found_sizes, found_times = index.size[rows], index.mtime_ns[rows]
    size = np.where(sizes == 0, UNKNOWN, np.where(sizes == found_sizes, EQUAL, DIFFERS)).astype(
        np.int8
    )
    apart = np.abs(times - found_times)
    # exFAT and FAT store times like this.
    coarse = (times % 10_000_000 == 0) | (found_times % 10_000_000 == 0)
    same_time = (apart < 100) | (
        coarse & (apart <= 2_000_000_000)
    )  # NTFS counts in units of 100 ns.
    time = np.where(times == 0, UNKNOWN, np.where(same_time, EQUAL, DIFFERS)).astype(np.int8)
    tail, proxy = _places(lost, index, numbers, rows)
    if used:
        taken = _per_row(index, rows, lambda row: index.path(row) in used)
    else:
        taken = np.zeros(count, np.bool_)
    none = np.zeros(count, np.int8)
    return Pairs(
        numbers,
        rows,
        start,
        size,
        time,
        none,
        none.copy(),
        none.copy(),
        tail,
        proxy,
        taken,
        renamed,
        np.zeros(count, np.bool_),
    )


def _per_row(index: Index, rows: Ints, ask: Callable[[int], bool]) -> Flags:
    unique, back = np.unique(rows, return_inverse=True)
    if len(unique):
        return np.array([ask(int(r)) for r in unique], np.bool_)[back]
    return np.zeros(0, np.bool_)


def _places(
    lost: Sequence[Lost], index: Index, numbers: Ints, rows: Ints
) -> tuple[NDArray[np.int8], Flags]:
    """Common folders of each pair, and whether the found one is among proxies or similar files."""
    rule = RoleRule()
    roles = {f: rule.of_folder(index.folders[f]) for f in np.unique(index.folder[rows]).tolist()}
    known: dict[tuple[bytes, int], int] = {}
    tail, proxy = np.zeros(len(rows), np.int8), np.zeros(len(rows), np.bool_)
    for at, (number, folder) in enumerate(
        zip(numbers.tolist(), index.folder[rows].tolist(), strict=True)
    ):
        key = lost[number].folder, folder
        if (common := known.get(key)) is None:
            common = known[key] = _tail(key[0], index.folders[folder])
        tail[at] = common
        role = roles[folder]
        proxy[at] = role is not None and role is not lost[number].role
    return tail, proxy


# All folders in common: the same path in another spelling.
SAME_PLACE = 100


def _tail(one: bytes, other: bytes) -> int:
    common = tail_of(one, other)
    whole = common == len(parts_of(one)) == len(parts_of(other))
    return SAME_PLACE if whole else min(common, SAME_PLACE - 1)


def parts_of(folder: bytes) -> list[bytes]:
    """The names of a path."""
    return [p for p in folder.split(b"/") if p]


def tail_of(one: bytes, other: bytes) -> int:
    """The number of common trailing folders of two paths, ignoring case and normal form."""
    common = 0
    for a, b in zip(reversed(parts_of(one)), reversed(parts_of(other)), strict=False):
        if a != b and name_key(a) != name_key(b):
            break
        common += 1
    return common


def by_size(
    lost: Sequence[Lost], index: Index, pairs: Pairs, wanted: Sequence[int], used: Collection[bytes]
) -> Pairs:
    """Adds pairs with other names and the same size, same types first, for some lost files."""
    ordered, rows = _sorted(index.size)
    sizes = np.array([lost[i].size for i in wanted], np.int64)
    new = _matches(ordered, rows, sizes, np.full(len(wanted), _MOST_OTHER, np.int64))
    new[0] = np.array(wanted, np.int64)[new[0]] if len(wanted) else new[0]
    known = set(zip(pairs.lost.tolist(), pairs.row.tolist(), strict=True))
    fresh = [
        at
        for at, (number, row) in enumerate(new.T.tolist())
        if (number, row) not in known
        and _extension(lost[number].name) == _extension(index.name(row))
    ]
    added = _with_evidence(
        lost, index, _ordered(new[:, fresh]), used, np.ones(len(fresh), np.bool_)
    )
    return joined(pairs, added, len(lost))


def _extension(name: bytes) -> bytes:
    return name.rpartition(b".")[2].lower() if b"." in name else b""


def _ordered(both: Ints) -> Ints:
    return both[:, np.argsort(both[0], kind="stable")]


def joined(one: Pairs, other: Pairs, count: int) -> Pairs:
    """Two sets of pairs as one, for ``count`` lost files."""
    numbers = np.concatenate([one.lost, other.lost])
    order = np.argsort(numbers, kind="stable")

    def column(name: str) -> NDArray[np.generic]:
        return np.concatenate([getattr(one, name), getattr(other, name)])[order]

    names = (
        "row",
        "size",
        "time",
        "digest",
        "length",
        "captured",
        "tail",
        "proxy",
        "used",
        "renamed",
        "refused",
    )
    columns = {name: column(name) for name in names}
    start = np.searchsorted(numbers[order], np.arange(count + 1)).astype(np.int64)
    return Pairs(lost=numbers[order], start=start, **columns)  # type: ignore[arg-type]


def repeated_sizes(lost: Sequence[Lost], index: Index, many: int) -> Flags:
    """Which lost files have a size shared by ``many`` other names of their type, lost or found.

    The size proves little then.
    """
    sizes = np.array([x.size for x in lost], np.int64)
    names: dict[tuple[bytes, int], set[bytes]] = defaultdict(set)
    for x in lost:
        if x.size:
            names[_extension(x.name), x.size].add(x.name.lower())
    for row in np.flatnonzero(np.isin(index.size, sizes[sizes > 0])).tolist():
        name = index.name(row)
        alike = names.get((_extension(name), int(index.size[row])))
        if alike is not None and len(alike) <= many:
            alike.add(name.lower())
    return np.array(
        [x.size > 0 and len(names[_extension(x.name), x.size]) > many for x in lost], np.bool_
    )
