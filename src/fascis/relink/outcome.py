"""The result of matching: a state for every lost file, its tie, and the reasons.

Also a person's decisions.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import IntEnum

from msgspec import Struct, field

from fascis.files.route import Moved
from fascis.relink.index import Index
from fascis.relink.lost import Lost
from fascis.relink.moves import FolderMove
from fascis.relink.pairs import EQUAL, SAME_PLACE, UNKNOWN, Basis, Pairs
from fascis.words.speech import tr, trn


class State(IntEnum):
    """The state of a lost file."""

    # No candidate was found.
    NOWHERE = 0
    FOUND = 1
    # There are candidates; a person decides.
    OPEN = 2
    # A person rejected all candidates.
    LEFT = 3


def evidence_words(evidence: str) -> str:
    """The text for something that agrees or differs."""
    words = {
        "content": tr("content"),
        "size": tr("size"),
        "length": tr("length"),
        "capture time": tr("capture time"),
        "date of change": tr("date of change"),
        "name": tr("name"),
        "probably its proxy": tr("probably its proxy"),
    }
    return words.get(evidence, evidence)


class Decisions(Struct, frozen=True):
    """A person's decisions.

    Attributes:
        accepted: confirmed folder moves; ``refused``: rejected ones.
        chosen: lost path → the chosen path, or None if all were rejected.
    """

    accepted: frozenset[Moved] = frozenset()
    refused: frozenset[Moved] = frozenset()
    chosen: Mapping[bytes, bytes | None] = field(default_factory=dict)


NOTHING_DECIDED = Decisions()


class Candidate(Struct, frozen=True):
    """A candidate for a lost file, with what agrees and what differs, in words."""

    path: bytes
    row: int
    size: int
    mtime_ns: int
    basis: Basis
    agrees: tuple[str, ...]
    differs: tuple[str, ...]


class Match(Struct):
    """The result. Lists are by the numbers of the lost files.

    Attributes:
        state: a :class:`State` each.
        row: the found file's row, or -1; ``path`` for those that a person located, by number.
        basis: the basis of the tie, or of its candidates.
        why: which evidence decided, or why none did.
        moves: folder moves, those that explain most first.
        move: for each lost file the number of the move that explains it, or -1.
    """

    lost: Sequence[Lost]
    index: Index
    pairs: Pairs
    state: list[State]
    row: list[int]
    path: dict[int, bytes]
    basis: list[Basis]
    why: list[str]
    moves: list[FolderMove]
    move: list[int]

    def found(self, i: int) -> bytes | None:
        """The path of a found file; for a sequence its folder and pattern.

        None if it was not found.
        """
        if self.state[i] is not State.FOUND:
            return None
        found = self.path.get(i) or self.index.path(self.row[i])
        return self.shown_as(i, found)

    def shown_as(self, i: int, path: bytes) -> bytes:
        """A found path; for a sequence its folder and pattern."""
        x = self.lost[i]
        return path.rpartition(b"/")[0] + x.path[len(x.folder.rstrip(b"/")) :] if x.frames else path

    def ties(self) -> dict[bytes, bytes]:
        """Lost path → found path of every found file (every frame)."""
        ties: dict[bytes, bytes] = {}
        for i, x in enumerate(self.lost):
            if self.state[i] is State.FOUND:
                found = self.path.get(i) or self.index.path(self.row[i])
                there = found.rpartition(b"/")[0]
                names = [n for r in x.references for n in r.frames] if x.frames else []
                ties |= {x.folder + b"/" + n: there + b"/" + n for n in names} or {x.path: found}
        return ties

    def files(self, *states: State) -> int:
        """How many lost files are in these states, counting each frame."""
        return sum(x.files for x, s in zip(self.lost, self.state, strict=True) if s in states)

    def candidates(self, i: int) -> list[Candidate]:
        """All candidates of a lost file, strongest first, including contradicting evidence."""
        rank = self.pairs.rank()
        ordered = sorted(
            self.pairs.of(i),
            key=lambda p: (-rank[p], -self.pairs.tail[p], self.index.path(int(self.pairs.row[p]))),
        )
        return [self._candidate(i, p) for p in ordered]

    def _candidate(self, i: int, p: int) -> Candidate:
        pairs, row = self.pairs, int(self.pairs.row[p])
        agrees: list[str] = []
        differs: list[str] = []
        for column, words in (
            (pairs.digest, "content"),
            (pairs.size, "size"),
            (pairs.length, "length"),
            (pairs.captured, "capture time"),  # for programs
            (pairs.time, "date of change"),  # for programs
        ):
            if column[p] != UNKNOWN:
                (agrees if column[p] == EQUAL else differs).append(words)
        if pairs.tail[p] == SAME_PLACE:
            agrees.append(tr("place, but for how it is written"))
        elif pairs.tail[p]:
            agrees.append(trn("{n} folder above it", "{n} folders above it", int(pairs.tail[p])))
        if pairs.renamed[p]:
            differs.append("name")
        if pairs.proxy[p]:
            smaller = 0 < int(self.index.size[row]) < self.lost[i].size
            likely = smaller or not self.lost[i].size
            if likely:
                differs.append("probably its proxy")  # for programs
            else:
                differs.append(tr("lies among what can be made again"))
        if pairs.used[p]:
            differs.append(tr("in use already as another file"))
        if pairs.refused[p]:
            differs.append(tr("you refused its folder"))
        size, time = int(self.index.size[row]), int(self.index.mtime_ns[row])
        return Candidate(
            self.index.path(row), row, size, time, basis_of(pairs, p), tuple(agrees), tuple(differs)
        )


def basis_of(pairs: Pairs, p: int) -> Basis:
    """The basis of one pair's evidence."""
    if pairs.digest[p] == EQUAL:
        return Basis.DIGEST
    if pairs.size[p] == EQUAL and not pairs.renamed[p]:
        return Basis.SIZE
    if EQUAL in (pairs.length[p], pairs.captured[p]):
        return Basis.LENGTH
    return Basis.FOLDER if pairs.tail[p] else Basis.NAME
