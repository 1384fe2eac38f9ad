"""The evidence for all pairs of one matching.

Columns that cost nothing, and contents that are read if a decision needs them.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from pathlib import Path

import numpy as np
from msgspec import Struct, field

from fascis.relink.contents import Contents
from fascis.relink.index import Index
from fascis.relink.lost import Lost
from fascis.relink.outcome import Decisions, Match, State
from fascis.relink.pairs import (
    DIFFERS,
    EQUAL,
    UNKNOWN,
    Flags,
    Pairs,
    by_size,
    find_pairs,
    repeated_sizes,
)

# Names of one size: from this number on a size proves little.
_MANY = 3
# Bytes that are read to compare digests even if a tie is clear.
_FREE_READING = 2 << 30
# The most files whose length or capture time is read.
_PROBES = 3000
Nearness = Callable[[bytes], tuple[object, ...]]


def _equally_near(_path: bytes) -> tuple[object, ...]:
    return ()


class InUse(Struct, frozen=True):
    """The files that a library uses and finds.

    Attributes:
        used: absolute paths of these files.
        standing: folders whose files are at their paths, and how many of them are used.
        near: the smallest value decides between identical copies.
    """

    used: Collection[bytes] = frozenset()
    standing: Mapping[bytes, int] = field(default_factory=dict)
    near: Nearness = _equally_near


class Evidence:
    """The evidence for and against each pair, including file contents on request."""

    def __init__(
        self,
        lost: Sequence[Lost],
        index: Index,
        contents: Contents,
        decisions: Decisions,
        in_use: InUse,
    ) -> None:
        self.lost, self.index, self.contents = lost, index, contents
        self.decisions, self.used, self.near = decisions, in_use.used, in_use.near
        self.standing = in_use.standing
        self.weight = np.array([x.files for x in lost], np.int64)
        self.repeats = repeated_sizes(lost, index, _MANY)
        self.pairs = find_pairs(lost, index, in_use.used)
        self._exists: dict[bytes, bool] = {}
        self._digested: set[int] = set()
        self._probed: set[int] = set()

    # -- more evidence -----------------------------------------------------------------------------

    def read_cheap_digests(self) -> None:
        """Compares everything with known digests if little must be read."""
        pairs = self.pairs
        known = np.array([bool(x.digest) for x in self.lost], np.bool_)
        if len(pairs):
            wanted = np.flatnonzero(known[pairs.lost] & (pairs.size != DIFFERS))
        else:
            wanted = np.zeros(0, np.int64)
        if int(self.index.size[pairs.row[wanted]].sum()) <= _FREE_READING:
            self._digest(wanted.tolist())

    def fetch(self, decided: Match) -> bool:
        """Reads digests, lengths and capture times if a decision needs them.

        True if there is anything new.
        """
        open = [i for i, s in enumerate(decided.state) if s in (State.OPEN, State.NOWHERE)]
        digests = [
            p
            for i in open
            if self.lost[i].digest
            for p in self.pairs.of(i)
            if self.pairs.size[p] != DIFFERS
        ]
        fetched = self._digest(digests)
        fetched |= self._look_for_renamed([i for i in open if not self._has_equal(i)])
        possible = self.pairs.possible()
        probes = [p for i in open for p in self.pairs.of(i) if possible[p]]
        # A few of each move based on names, or on sizes that prove little.
        for move in decided.moves:
            few = [i for i in move.lost if self.lost[i].length or self.lost[i].captured]
            for i in few[:: max(1, len(few) // 3)][:3]:
                weak = self.repeats[i] or not self.lost[i].size
                probes += [p for p in self.pairs.of(i) if possible[p] and weak]
        return self._probe(probes[:_PROBES]) or fetched

    def check(self, decided: Match) -> bool:
        """Reads everything by which each tie can be checked; True if there was anything new."""
        tied = [
            p
            for i, state in enumerate(decided.state)
            if state is State.FOUND
            for p in self.pairs.of(i)
            if int(self.pairs.row[p]) == decided.row[i]
        ]
        done = self._digest(tied)
        return self._probe(tied) or done

    def _has_equal(self, i: int) -> bool:
        return any(self.pairs.digest[p] == EQUAL for p in self.pairs.of(i))

    def _digest(self, wanted: Iterable[int]) -> bool:
        """Compares digests of some pairs; True if there was one to compare."""
        done = False
        for p in wanted:
            x, row = self.lost[int(self.pairs.lost[p])], int(self.pairs.row[p])
            if (
                self.pairs.digest[p] != UNKNOWN
                or not x.digest
                or (x.size and int(self.index.size[row]) != x.size)
            ):
                continue
            if found := self.contents.digest(self.index.path(row)):
                self.pairs.digest[p] = EQUAL if found == x.digest else DIFFERS
                done = True
        return done

    def _look_for_renamed(self, wanted: list[int]) -> bool:
        """Searches for files of one size and another name, where content or time can decide."""
        wanted = [
            i
            for i in wanted
            if self.lost[i].size
            and (self.lost[i].digest or self.lost[i].mtime_ns)
            and not self.lost[i].frames
        ]
        if not wanted:
            return False
        before = len(self.pairs)
        more = by_size(self.lost, self.index, self.pairs, wanted, self.used)
        keep = (
            ~more.renamed
            | (more.time == EQUAL)
            | np.array([bool(self.lost[i].digest) for i in more.lost.tolist()], np.bool_)
        )
        self.pairs = _chosen(more, keep, len(self.lost))
        self._digest(p for i in wanted for p in self.pairs.of(i) if self.lost[i].digest)
        renamed = self.pairs.renamed
        self.pairs = _chosen(
            self.pairs,
            ~renamed
            | (self.pairs.digest == EQUAL)
            | ((self.pairs.time == EQUAL) & (self.pairs.digest == UNKNOWN)),
            len(self.lost),
        )
        return len(self.pairs) != before

    def _may_tell(self, pair: int) -> bool:
        """True if length or capture time is known from a document and not read yet."""
        if not self.pairs.length[pair] == UNKNOWN == self.pairs.captured[pair]:
            return False
        lost = self.lost[int(self.pairs.lost[pair])]
        return bool(lost.length or lost.captured)

    def _probe(self, wanted: list[int]) -> bool:
        """Compares lengths and capture times of some pairs."""
        wanted = [p for p in wanted if self._may_tell(p)]
        if not wanted:
            return False
        paths = {p: self.index.path(int(self.pairs.row[p])) for p in wanted}
        facts = self.contents.facts(paths.values())
        for p, path in paths.items():
            x, said = self.lost[int(self.pairs.lost[p])], facts[path]
            if x.length and said.seconds:
                frame = 1 / x.length.rate if x.length.rate else 0.05
                self.pairs.length[p] = (
                    EQUAL if abs(said.seconds - x.length.seconds) <= frame * 1.01 else DIFFERS
                )
            if x.captured and said.captured_at:
                self.pairs.captured[p] = (
                    EQUAL if x.captured[:19] == said.captured_at[:19] else DIFFERS
                )
        return True

    def exists(self, folder: bytes) -> bool:
        """True for an existing folder."""
        if folder not in self._exists:
            self._exists[folder] = Path(os.fsdecode(folder)).is_dir()
        return self._exists[folder]


def _chosen(pairs: Pairs, keep: Flags, count: int) -> Pairs:
    names = (
        "lost",
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
    columns = {name: getattr(pairs, name)[keep] for name in names}
    return Pairs(
        start=np.searchsorted(columns["lost"], np.arange(count + 1)).astype(np.int64), **columns
    )
