"""Folder moves.

The fewest statements "this folder is now that folder" that explain the most lost files. Chosen
greedily, as for set cover (Chvátal 1979): the statement that explains most comes first, then the
one that explains most of the rest. Of statements that explain the same files, the most general one
is taken, because a renamed folder moves everything in it.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Callable, Collection, Sequence

import numpy as np
from msgspec import Struct, field

from fascis.files.names import name_key
from fascis.files.route import Moved
from fascis.relink.index import Index
from fascis.relink.lost import Lost
from fascis.relink.pairs import EQUAL, Flags, Pairs, parts_of

# The number of files that a statement explains.
LEAST = 2


class FolderMove(Struct):
    """A statement with its evidence.

    Attributes:
        lost: numbers of the lost files that it explains.
        files: how many files that is, counting each frame; ``references`` to them.
        against: what contradicts it, in words.
        certain: it decides ties automatically; otherwise it is only offered.
        accepted: a person confirmed it.
    """

    move: Moved
    lost: list[int]
    files: int
    references: int
    against: list[str] = field(default_factory=list)
    certain: bool = True
    accepted: bool = False


def statements(old: bytes, new: bytes) -> list[Moved]:
    """Possible statements about a file that moved from ``old`` to ``new``, most general last."""
    before, after = parts_of(old), parts_of(new)
    found = []
    while before != after:
        found.append(Moved(b"/" + b"/".join(before), b"/" + b"/".join(after)))
        if min(len(before), len(after)) < 2 or (
            before[-1] != after[-1] and name_key(before[-1]) != name_key(after[-1])
        ):
            break
        before, after = before[:-1], after[:-1]
    return found


class Statements:
    """All statements that pairs make, and the pairs of each."""

    def __init__(self, lost: Sequence[Lost], index: Index, pairs: Pairs) -> None:
        folders: dict[bytes, int] = {}
        for x in lost:
            folders.setdefault(x.folder, len(folders))
        if len(pairs):
            old = np.array([folders[x.folder] for x in lost], np.int64)[pairs.lost]
        else:
            old = pairs.lost
        both = old * (len(index.folders) + 1) + index.folder[pairs.row]
        # The two folders of each pair.
        unique, self.kind = np.unique(both, return_inverse=True)
        names = list(folders)
        self.of_kind: list[list[Moved]] = [
            statements(
                names[int(u) // (len(index.folders) + 1)],
                index.folders[int(u) % (len(index.folders) + 1)],
            )
            for u in unique
        ]
        self.kinds: dict[Moved, list[int]] = defaultdict(list)
        for kind, moves in enumerate(self.of_kind):
            for move in moves:
                self.kinds[move].append(kind)
        order = np.argsort(self.kind, kind="stable")
        self._order = order
        if len(unique):
            self._ends = np.cumsum(np.bincount(self.kind, minlength=len(unique)))
        else:
            self._ends = np.zeros(0, np.int64)

    def pairs(self, move: Moved) -> np.ndarray:
        """The pairs that a statement explains."""
        kinds = self.kinds.get(move, [])
        parts = [
            self._order[int(self._ends[k - 1]) if k else 0 : int(self._ends[k])] for k in kinds
        ]
        return np.concatenate(parts) if parts else np.zeros(0, np.int64)

    def top(self, pair: int) -> Moved | None:
        """The most general statement of a pair; None if both lie in one folder."""
        moves = self.of_kind[int(self.kind[pair])]
        return moves[-1] if moves else None


def solid(pairs: Pairs, strong: Flags, made: Statements, mine: np.ndarray) -> np.ndarray:
    """Which pairs of one statement have enough evidence to take a found file from others.

    By more than a name, or for several folders.
    """
    several = len(np.unique(made.kind[mine])) > 1
    flags: np.ndarray = (pairs.size[mine] == EQUAL) | strong[mine] | several
    return flags


class Preference(Struct, frozen=True):
    """Which statements are preferred.

    Attributes:
        first: these come first, whatever they explain.
        prefer: the smallest value decides between statements that explain equally many.
        skip: these are not made.
    """

    first: Sequence[Moved]
    prefer: Callable[[Moved], tuple[object, ...]]
    skip: Collection[Moved]


def choose(
    pairs: Pairs, possible: Flags, weight: np.ndarray, made: Statements, preference: Preference
) -> list[tuple[Moved, np.ndarray]]:
    """Statements with the pairs that each explains.

    Every lost file is explained by at most one statement, and no found file twice.

    Args:
        possible: the pairs that count.
        weight: the number of files of each lost file.
        preference: which come first, and which are excluded.
    """
    explained = np.zeros(len(weight), np.bool_)
    taken = np.zeros(int(pairs.row.max()) + 1 if len(pairs) else 0, np.bool_)
    strong = pairs.strong()

    def reach(move: Moved) -> tuple[int, int, int, np.ndarray]:
        mine = made.pairs(move)
        mine = mine[possible[mine]]
        mine = mine[~explained[pairs.lost[mine]] & ~taken[pairs.row[mine]]]
        numbers = np.unique(pairs.lost[mine])
        return (
            int(weight[numbers].sum()),
            int(strong[mine].sum()),
            int(pairs.used[mine].sum()),
            mine,
        )

    def take(move: Moved, mine: np.ndarray) -> None:
        chosen.append((move, mine))
        explained[pairs.lost[mine]] = True
        taken[pairs.row[mine[solid(pairs, strong, made, mine)]]] = True

    chosen: list[tuple[Moved, np.ndarray]] = []
    for move in preference.first:
        *_, mine = reach(move)
        if len(mine):
            take(move, mine)

    def value(move: Moved) -> tuple[object, ...]:
        files, sure, used, _ = reach(move)
        return -files, -sure, used, *preference.prefer(move), move.old, move.new

    bounds = np.bincount(
        made.kind, weight[pairs.lost] * possible, minlength=len(made.of_kind)
    ).astype(np.int64)
    most = {
        m: int(bounds[kinds].sum()) for m, kinds in made.kinds.items() if m not in preference.skip
    }
    heap: list[tuple[tuple[object, ...], Moved]] = [
        ((-n, -n), m) for m, n in most.items() if n >= LEAST
    ]
    heap.sort(key=lambda e: e[0])
    while heap:
        before, move = heapq.heappop(heap)
        now = value(move)
        if -int(now[0]) < LEAST:  # type: ignore[call-overload]
            continue
        # It explains less than before, or was not examined closely yet.
        if now != before:
            heapq.heappush(heap, (now, move))
            continue
        *_, mine = reach(move)
        take(move, mine)
    return chosen
