"""Which found file each lost one is: what evidence decides, and what is left to a person. Nothing is written.

A tie is made by itself only where the evidence is for one file, or for identical copies of one. The order of evidence:
content (digest) before name and size before name and length or capture time before name and folder before name alone.
"""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from pathlib import Path

import numpy as np

from fascis.files.names import name_key
from fascis.files.sizes import counted, number
from fascis.relink.contents import Contents
from fascis.relink.index import Index
from fascis.relink.lost import Lost
from fascis.relink.moves import LEAST, FolderMove, Move, Statements, choose, solid, statements
from fascis.relink.pairs import (
    DIFFERS,
    EQUAL,
    SAME_PLACE,
    UNKNOWN,
    Basis,
    Flags,
    Pairs,
    by_size,
    find_pairs,
    repeated_sizes,
    tail_of,
)

_MANY = 3  # other names of one size: from there on a size proves little
_FREE_READING = 2 << 30  # bytes that are read to compare digests where a tie is clear without
_PROBES = 3000  # files at most whose length or capture time is looked at
_FEW = 0.5  # of a folder's files: fewer may lie elsewhere too, and it still is that folder
_COUNTED = re.compile(rb"[A-Za-z_ -]{0,8}\d{4,}")  # names that cameras count
Nearness = Callable[[bytes], tuple[object, ...]]


class State(IntEnum):
    """What became of a lost file."""

    NOWHERE = 0  # nothing found that it may be
    FOUND = 1
    OPEN = 2  # there are candidates; a person decides
    LEFT = 3  # a person said that it is none of them


@dataclass(frozen=True, slots=True)
class Decisions:
    """What a person decided.

    Attributes:
        accepted: folder moves that are so; ``refused`` those that are not.
        chosen: lost path → the found path that it is, or None for none of them.
    """

    accepted: frozenset[Move] = frozenset()
    refused: frozenset[Move] = frozenset()
    chosen: Mapping[bytes, bytes | None] = field(default_factory=dict)


NOTHING_DECIDED = Decisions()


@dataclass(frozen=True, slots=True)
class Candidate:
    """A found file that a lost one may be, with what agrees and what differs, in words."""

    path: bytes
    row: int
    size: int
    mtime_ns: int
    basis: Basis
    agrees: tuple[str, ...]
    differs: tuple[str, ...]


@dataclass(slots=True)
class Match:
    """The outcome. Lists are by the numbers of the lost files.

    Attributes:
        state: a :class:`State` each.
        row: the found file's row, or -1; ``path`` for those that a person located, by number.
        basis: what the tie rests on, or what its candidates have.
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
        """Where a lost file was found: a path; of a sequence its folder and pattern. None when it was not."""
        if self.state[i] is not State.FOUND:
            return None
        found = self.path.get(i) or self.index.path(self.row[i])
        return self.shown_as(i, found)

    def shown_as(self, i: int, path: bytes) -> bytes:
        """A found path; of a sequence its folder and pattern."""
        x = self.lost[i]
        return path.rpartition(b"/")[0] + x.path[len(x.folder.rstrip(b"/")) :] if x.frames else path

    def ties(self) -> dict[bytes, bytes]:
        """Lost path → found path of every file that was found, frame by frame."""
        ties: dict[bytes, bytes] = {}
        for i, x in enumerate(self.lost):
            if self.state[i] is State.FOUND:
                found = self.path.get(i) or self.index.path(self.row[i])
                there = found.rpartition(b"/")[0]
                names = [n for r in x.references for n in r.frames] if x.frames else []
                ties |= {x.folder + b"/" + n: there + b"/" + n for n in names} or {x.path: found}
        return ties

    def files(self, *states: State) -> int:
        """How many lost files are in these states, frames counted one by one."""
        return sum(x.files for x, s in zip(self.lost, self.state, strict=True) if s in states)

    def candidates(self, i: int) -> list[Candidate]:
        """Everything that a lost file may be, the strongest first; also what speaks against it."""
        rank = self.pairs.rank()
        ordered = sorted(
            self.pairs.of(i), key=lambda p: (-rank[p], -self.pairs.tail[p], self.index.path(int(self.pairs.row[p])))
        )
        return [self._candidate(i, p) for p in ordered]

    def _candidate(self, i: int, p: int) -> Candidate:
        pairs, row = self.pairs, int(self.pairs.row[p])
        agrees: list[str] = []
        differs: list[str] = []
        for column, words in (
            (pairs.digest, "content"), (pairs.size, "size"), (pairs.length, "length"), (pairs.captured, "capture time"),
            (pairs.time, "date of change"),
        ):  # fmt: skip
            if column[p] != UNKNOWN:
                (agrees if column[p] == EQUAL else differs).append(words)
        if pairs.tail[p] == SAME_PLACE:
            agrees.append("place, but for how it is written")
        elif pairs.tail[p]:
            agrees.append(counted(int(pairs.tail[p]), "folder") + " above it")
        if pairs.renamed[p]:
            differs.append("name")
        if pairs.proxy[p]:
            smaller = 0 < int(self.index.size[row]) < self.lost[i].size
            differs.append(
                "probably its proxy" if smaller or not self.lost[i].size else "lies among what can be made again"
            )
        if pairs.used[p]:
            differs.append("in use already as another file")
        if pairs.refused[p]:
            differs.append("you refused its folder")
        size, time = int(self.index.size[row]), int(self.index.mtime_ns[row])
        return Candidate(self.index.path(row), row, size, time, _basis(pairs, p), tuple(agrees), tuple(differs))


def _basis(pairs: Pairs, p: int) -> Basis:
    if pairs.digest[p] == EQUAL:
        return Basis.DIGEST
    if pairs.size[p] == EQUAL and not pairs.renamed[p]:
        return Basis.SIZE
    if EQUAL in (pairs.length[p], pairs.captured[p]):
        return Basis.LENGTH
    return Basis.FOLDER if pairs.tail[p] else Basis.NAME


def match(
    lost: Sequence[Lost],
    index: Index,
    contents: Contents,
    decisions: Decisions = Decisions(),
    used: Collection[bytes] = frozenset(),
    standing_folders: Mapping[bytes, int] | None = None,
    near: Nearness = lambda _path: (),
    checked: bool = False,
) -> Match:
    """Ties lost files to found ones.

    Args:
        contents: reads found files, where that is needed.
        used: absolute paths of files that the library uses and finds.
        standing_folders: folders whose files are where they should be, and how many of them are used.
        near: of identical copies the one with the smallest value is taken.
        checked: every tie is checked by content where its digest is known, and by length and capture time where these are.

    Raises:
        Cancelled: when ``contents`` was told so.
    """
    matching = _Matching(lost, index, contents, decisions, used, standing_folders or {}, near)
    return matching.run(checked)


class _Matching:
    """One pass of matching, with more evidence fetched in between where it is asked for."""

    def __init__(
        self,
        lost: Sequence[Lost],
        index: Index,
        contents: Contents,
        decisions: Decisions,
        used: Collection[bytes],
        standing: Mapping[bytes, int],
        near: Nearness,
    ) -> None:
        self.lost, self.index, self.contents = lost, index, contents
        self.decisions, self.used, self.standing, self.near = decisions, used, standing, near
        self.weight = np.array([x.files for x in lost], np.int64)
        self.repeats = repeated_sizes(lost, index, _MANY)
        self.pairs = find_pairs(lost, index, used)
        self._exists: dict[bytes, bool] = {}
        self._digested: set[int] = set()
        self._probed: set[int] = set()

    def run(self, checked: bool) -> Match:
        """Decides, fetches what evidence that asks for, and decides again."""
        self._read_cheap_digests()
        decided = _Deciding(self).run()
        if self._fetch(decided):
            decided = _Deciding(self).run()
        while checked and self._check(decided):  # what fails the check may leave another one to be checked
            decided = _Deciding(self).run()
        return decided

    def _check(self, decided: Match) -> bool:
        """Reads what every tie can be checked by; True when there was anything new."""
        tied = [
            p
            for i, state in enumerate(decided.state)
            if state is State.FOUND
            for p in self.pairs.of(i)
            if int(self.pairs.row[p]) == decided.row[i]
        ]
        done = self._digest(tied)
        return self._probe(tied) or done

    # -- more evidence --------------------------------------------------------------------------------------------

    def _read_cheap_digests(self) -> None:
        """Where digests are known and little is to be read, everything is compared."""
        pairs = self.pairs
        known = np.array([bool(x.digest) for x in self.lost], np.bool_)
        wanted = np.flatnonzero(known[pairs.lost] & (pairs.size != DIFFERS)) if len(pairs) else np.zeros(0, np.int64)
        if int(self.index.size[pairs.row[wanted]].sum()) <= _FREE_READING:
            self._digest(wanted.tolist())

    def _fetch(self, decided: Match) -> bool:
        """Fetches digests, lengths and capture times where a decision waits for them; True when there is anything new."""
        open = [i for i, s in enumerate(decided.state) if s in (State.OPEN, State.NOWHERE)]
        digests = [p for i in open if self.lost[i].digest for p in self.pairs.of(i) if self.pairs.size[p] != DIFFERS]
        fetched = self._digest(digests)
        fetched |= self._look_for_renamed([i for i in open if not self._has_equal(i)])
        possible = self.pairs.possible()
        probes = [p for i in open for p in self.pairs.of(i) if possible[p]]
        for move in decided.moves:  # a few of each move that rests on names, or on sizes that prove little
            few = [i for i in move.lost if self.lost[i].length or self.lost[i].captured]
            for i in few[:: max(1, len(few) // 3)][:3]:
                weak = self.repeats[i] or not self.lost[i].size
                probes += [p for p in self.pairs.of(i) if possible[p] and weak]
        return self._probe(probes[:_PROBES]) or fetched

    def _has_equal(self, i: int) -> bool:
        return any(self.pairs.digest[p] == EQUAL for p in self.pairs.of(i))

    def _digest(self, wanted: Iterable[int]) -> bool:
        """Compares digests of some pairs; True when there was one to compare."""
        done = False
        for p in wanted:
            x, row = self.lost[int(self.pairs.lost[p])], int(self.pairs.row[p])
            if self.pairs.digest[p] != UNKNOWN or not x.digest or (x.size and int(self.index.size[row]) != x.size):
                continue
            if found := self.contents.digest(self.index.path(row)):
                self.pairs.digest[p] = EQUAL if found == x.digest else DIFFERS
                done = True
        return done

    def _look_for_renamed(self, wanted: list[int]) -> bool:
        """Looks for files of the same size and another name, where content or time can tell whether they are the same."""
        wanted = [
            i
            for i in wanted
            if self.lost[i].size and (self.lost[i].digest or self.lost[i].mtime_ns) and not self.lost[i].frames
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
            ~renamed | (self.pairs.digest == EQUAL) | ((self.pairs.time == EQUAL) & (self.pairs.digest == UNKNOWN)),
            len(self.lost),
        )
        return len(self.pairs) != before

    def _probe(self, wanted: list[int]) -> bool:
        """Compares lengths and capture times of some pairs."""
        wanted = [
            p for p in wanted
            if self.pairs.length[p] == UNKNOWN == self.pairs.captured[p] and (x := self.lost[int(self.pairs.lost[p])]) and (x.length or x.captured)
        ]  # fmt: skip
        if not wanted:
            return False
        paths = {p: self.index.path(int(self.pairs.row[p])) for p in wanted}
        facts = self.contents.facts(paths.values())
        for p, path in paths.items():
            x, said = self.lost[int(self.pairs.lost[p])], facts[path]
            if x.length and said.seconds:
                frame = 1 / x.length.rate if x.length.rate else 0.05
                self.pairs.length[p] = EQUAL if abs(said.seconds - x.length.seconds) <= frame * 1.01 else DIFFERS
            if x.captured and said.captured_at:
                self.pairs.captured[p] = EQUAL if x.captured[:19] == said.captured_at[:19] else DIFFERS
        return True

    def exists(self, folder: bytes) -> bool:
        """True for a folder that is still there."""
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
    return Pairs(start=np.searchsorted(columns["lost"], np.arange(count + 1)).astype(np.int64), **columns)


class _Disputed:
    """How much of what one statement explains could be explained by others too."""

    def __init__(self, deciding: _Deciding, best: Mapping[int, int], move: Move) -> None:
        self._deciding, self._best, self._own = deciding, best, move
        self._tops: dict[bytes, Counter[frozenset[Move | None]]] | None = None

    def share(self, i: int, own: list[int]) -> float:
        """Which part of a file's old folder has an equal one elsewhere, other than where the pairs ``own`` lead."""
        d = self._deciding
        if self._tops is None:
            self._tops = defaultdict(Counter)
            kinds = set(d.made.kinds.get(self._own, ()))
            for j, p in self._best.items():
                equal = d.equals(j, p, list(d.pairs.of(j)), len(self._best))
                tops = frozenset(d.made.top(q) for q in equal if int(d.made.kind[q]) not in kinds)
                self._tops[d.lost[j].folder][tops] += 1
        mine = {d.made.top(p) for p in own}
        some = self._tops[d.lost[i].folder]
        return sum(n for tops, n in some.items() if tops - mine) / some.total()


class _Deciding:
    """Decides for every lost file, from the evidence that is there."""

    def __init__(self, matching: _Matching) -> None:
        self.m = matching
        self.lost, self.index, self.pairs = matching.lost, matching.index, matching.pairs
        self.decisions = matching.decisions
        count = len(self.lost)
        self.state = [State.NOWHERE] * count
        self.row, self.move = [-1] * count, [-1] * count
        self.basis, self.why = [Basis.NAME] * count, [""] * count
        self.path: dict[int, bytes] = {}
        self.moves: list[FolderMove] = []
        self.made = Statements(self.lost, self.index, self.pairs)
        self._claimed: dict[int, int] = {}  # row → the lost file that it is
        self._moved: set[bytes] = set()
        self._refuse()
        self.rank = self.pairs.rank()
        self.strong = self.pairs.strong()
        self.possible = self.rank > 0
        self.by_path = {x.path: i for i, x in enumerate(self.lost)}
        self.by_folder: dict[bytes, list[int]] = defaultdict(list)
        for i, x in enumerate(self.lost):
            self.by_folder[x.folder].append(i)

    def run(self) -> Match:
        """Everything: a person's word, folder moves, the rest one by one, and no found file twice."""
        self._take_choices()
        self._find_moves()
        for i in range(len(self.lost)):
            if self.state[i] is State.NOWHERE:
                self._alone(i)
        self._once_only()
        self._count_moves()
        return Match(
            self.lost, self.index, self.pairs, self.state, self.row, self.path, self.basis, self.why, self.moves, self.move
        )  # fmt: skip

    def _tie(self, i: int, p: int, why: str, basis: Basis | None = None) -> None:
        self.state[i], self.row[i] = State.FOUND, int(self.pairs.row[p])
        self.basis[i], self.why[i] = basis or _basis(self.pairs, p), why

    def _leave_open(self, i: int, why: str) -> None:
        self.state[i], self.why[i], self.row[i] = State.OPEN, why, -1
        first = max(self.pairs.of(i), key=lambda p: (self.rank[p], self.pairs.tail[p]))
        self.basis[i] = _basis(self.pairs, first)

    # -- what a person said ---------------------------------------------------------------------------------------

    def _refuse(self) -> None:
        for move in self.decisions.refused:
            self.pairs.refused[self.made.pairs(move)] = True

    def _take_choices(self) -> None:
        for path, found in self.decisions.chosen.items():
            i = self.by_path.get(path)
            if i is None:
                continue
            if found is None:
                self.state[i], self.why[i] = State.LEFT, "You said that it is none of them."
                continue
            self.state[i], self.why[i], self.path[i] = State.FOUND, "You said that this is it.", found
            mine = next((p for p in self.pairs.of(i) if self.index.path(int(self.pairs.row[p])) == found), None)
            self.basis[i] = Basis.NAME if mine is None else _basis(self.pairs, mine)

    def _hinted(self) -> list[Move]:
        """Folder moves that the files which a person located imply."""
        found = []
        for path, there in self.decisions.chosen.items():
            if there is not None and (i := self.by_path.get(path)) is not None:
                made = statements(self.lost[i].folder, there.rpartition(b"/")[0])
                found += [m for m in reversed(made) if not self.m.exists(m.old)] or made[:1]
        return list(dict.fromkeys(found))

    # -- folder moves ---------------------------------------------------------------------------------------------

    def _find_moves(self) -> None:
        hinted = self._hinted()
        free = np.array([s is State.NOWHERE for s in self.state], np.bool_)
        most = np.zeros(len(self.lost), np.int8)
        np.maximum.at(most, self.pairs.lost, self.rank)
        best = self.possible & (self.rank == most[self.pairs.lost])  # what has less for it than another says nothing
        usable = best & free[self.pairs.lost] if len(self.pairs) else best
        accepted = sorted(self.decisions.accepted)
        chosen = choose(
            self.pairs, usable, self.m.weight, self.made, [*accepted, *hinted], self._preferred, self.decisions.refused
        )
        self._claim(chosen)
        for move, mine in chosen:
            sure = move in self.decisions.accepted
            if not sure and move in hinted:
                sure = not self._denied(move)
            self._take_move(move, mine, sure)
        self.moves.sort(key=lambda f: -f.files)
        for at, folder_move in enumerate(self.moves):
            for i in folder_move.lost:
                self.move[i] = at
        self._moved = self._moved_whole()
        self._claimed = {  # what was left open claims nothing
            row: i for row, i in self._claimed.items() if self.state[i] is State.FOUND and self.row[i] == row
        }

    def _moved_whole(self) -> set[bytes]:
        """Old folders of moves that explain half or more of what is lost below them."""
        lost = Counter(x.folder for x in self.lost)
        found = set()
        for made in self.moves:
            if made.certain:
                old = made.move.old.rstrip(b"/") + b"/"
                below = sum(n for folder, n in lost.items() if (folder + b"/").startswith(old))
                tied = sum(self.state[i] is State.FOUND for i in made.lost)
                if 2 * tied >= below:
                    found.add(made.move.old)
        return found

    def _claim(self, chosen: Sequence[tuple[Move, np.ndarray]]) -> None:
        """What a statement says a lost file is, is no other lost file: the statement that explains most comes first."""
        for _, mine in chosen:
            for p in mine[solid(self.pairs, self.strong, self.made, mine)].tolist():
                self._claimed.setdefault(int(self.pairs.row[p]), int(self.pairs.lost[p]))

    def _preferred(self, move: Move) -> tuple[object, ...]:
        there = self.m.exists(move.old)
        return there, -len(move.old) if there else len(move.old), self.m.near(move.new)

    def _denied(self, move: Move) -> bool:
        """True when a file lies where a statement leads and is another one for sure."""
        mine = self.made.pairs(move)
        return bool((~self.possible[mine]).any())

    def _take_move(self, move: Move, mine: np.ndarray, sure: bool) -> None:
        numbers = self.pairs.lost[mine]
        best: dict[int, int] = {}
        for p, i in zip(mine.tolist(), numbers.tolist(), strict=True):
            if i not in best or self.rank[p] > self.rank[best[i]]:
                best[i] = p
        made = FolderMove(move, list(best), sum(self.lost[i].files for i in best), 0, accepted=sure)
        self._weigh(made, best)
        if sure:
            made.certain = True
        disputed = _Disputed(self, best, move)
        for i, p in best.items():
            if made.certain:
                self._tie_by_move(i, p, made, disputed, sure)
        doubted = {self.lost[i].folder for i in best if not made.certain or self.state[i] is State.OPEN}
        if doubted and not sure:  # where files lie in two places some differ: it may be an old copy of the folder
            self._doubt_members(made, best, doubted)
            contested = made.certain
            made.certain = any(self.state[i] is State.FOUND for i in best)
            if contested and not made.certain:
                return  # others explain as much: a person decides about one file, and that settles its neighbours
        made.lost = [i for i in best if self.state[i] is not State.NOWHERE]
        if made.lost:
            self.moves.append(made)

    def _doubt_members(self, made: FolderMove, best: Mapping[int, int], folders: Collection[bytes]) -> None:
        """What a statement explains of some folders is left open; what has more for it than that is not."""
        for i, p in best.items():
            others = any(self.possible[q] and self.pairs.row[q] != self.pairs.row[p] for q in self.pairs.of(i))
            enough = self.strong[p] or (others and self.pairs.size[p] == EQUAL)  # identical copies of its size
            doubted = self.state[i] is State.NOWHERE or (self.state[i] is State.FOUND and not enough)
            if doubted and self.lost[i].folder in folders:
                self._leave_open(i, "Its folder may have moved; against it: " + made.against[0] + ".")

    def _weigh(self, made: FolderMove, best: dict[int, int]) -> None:
        """Whether a statement settles ties by itself, and what speaks against it."""
        pairs = self.pairs
        members = np.array(list(best.values()), np.int64)
        numbers = pairs.lost[members]
        strong = self.strong[members]
        denied = self.made.pairs(made.move)
        denied = denied[~self.possible[denied] & ~pairs.renamed[denied]]
        for column, words in ((pairs.length, "length"), (pairs.captured, "capture time"), (pairs.digest, "content")):
            if others := int((column[denied] == DIFFERS).sum()):
                made.against.append(f"{counted(others, 'file')} there of another {words}")
        doubtful = bool(made.against) and not strong.any()
        if others := int((pairs.size[denied] == DIFFERS).sum()):
            made.against.append(f"{counted(others, 'file')} there of another size")
        if strong.any():
            return
        if elsewhere := self._found_elsewhere(made, numbers):
            doubtful = True
            made.against.insert(0, elsewhere)
        unsized = pairs.size[members] != EQUAL
        alike = bool(self.m.repeats[numbers].all())
        told = pairs.time[members] == DIFFERS
        if pairs.used[members].all() and (unsized.all() or alike):
            doubtful = True
            made.against.insert(0, "all of these files are in use already")
        elif alike and any(self.m.standing.get(self.lost[i].folder, 0) >= LEAST for i in made.lost):
            doubtful = True
            made.against.insert(0, "all are of one size, and others of their folder are where they were")
        elif alike and not unsized.any() and told.all():
            doubtful = True
            made.against.insert(0, "all are of one size, and none is of the same date")
        elif alike and not unsized.any() and not pairs.tail[members].any() and len(best) < 3:
            doubtful = True
            made.against.insert(0, "all are of one size")
        elif unsized.all() and self._prove_little(numbers, made.move):
            doubtful = True
            made.against.insert(0, "cameras give such names again and again")
        elif unsized.all() and int((pairs.size[denied] == DIFFERS).sum()) > len(best):
            doubtful = True
        made.certain = not doubtful

    def _prove_little(self, numbers: np.ndarray, move: Move) -> bool:
        """True for a few names, or a part of a folder's, that cameras count: another folder has them too."""
        if not all(_COUNTED.fullmatch(self.lost[i].name.rpartition(b".")[0]) for i in numbers.tolist()):
            return False
        mine = int(self.m.weight[numbers].sum())
        old = move.old.rstrip(b"/") + b"/"
        below = sum(int(self.m.weight[some].sum()) for f, some in self.by_folder.items() if (f + b"/").startswith(old))
        return mine < 3 or 2 * mine < below

    def _found_elsewhere(self, made: FolderMove, numbers: np.ndarray) -> str:
        """Says so when most of an old folder was found elsewhere, and this place is no other part of it but a second copy."""
        folders = {self.lost[i].folder for i in numbers.tolist()}
        mine = [i for f in folders for i in self.by_folder[f]]
        tied = [i for i in mine if self.state[i] is State.FOUND and i not in self.path]
        if 2 * len(tied) < len(mine):
            return ""
        pairs, here = self.pairs, set(self.made.pairs(made.move).tolist())
        twice = [
            i
            for i in tied
            if any(p in here and self.possible[p] and int(pairs.row[p]) != self.row[i] for p in pairs.of(i))
        ]
        if twice:
            return f"{counted(len(twice), 'file')} of that folder lie here too, and were found elsewhere"
        timed = any(pairs.time[p] == EQUAL for i in tied for p in pairs.of(i) if int(pairs.row[p]) == self.row[i])
        own = [p for i in numbers.tolist() for p in pairs.of(i) if p in here and self.possible[p]]
        if timed and own and all(pairs.time[p] == DIFFERS for p in own):
            return "the others of that folder kept their date, and these did not"
        return ""

    def _tie_by_move(self, i: int, p: int, made: FolderMove, disputed: _Disputed, sure: bool) -> None:
        words = f"Its folder moved; that explains {counted(made.files, 'file')}."
        basis = _basis(self.pairs, p)
        basis = Basis.FOLDER if basis is Basis.NAME else basis
        others = [q for q in self.pairs.of(i) if self.possible[q] and self.pairs.row[q] != self.pairs.row[p]]
        most = max((self.rank[q] for q in others), default=0)
        if sure:
            self._tie(i, p, "Its folder moved, as you said.", basis)
        elif self.rank[p] < most:
            return  # another one has more for it: looked at alone
        elif self.rank[p] > most or not (equal := self.equals(i, p, others, len(made.lost))):
            self._tie(i, p, words, basis)
        else:
            same = [q for q in equal if self._alike([p, q]) is not None]
            if len(same) == len(equal):
                self._tie(i, self._nearest([p, *equal]), "Identical copies; the nearest was taken.", basis)
            elif (share := disputed.share(i, [p, *same])) < _FEW:
                self._tie(i, p, f"{words} Elsewhere there are {round(100 * share)} % of them.", basis)
            else:
                made.against = made.against or ["other folders have files of their names too"]
                self._leave_open(i, f"{number(len(equal) + 1)} files of equal evidence and different content.")

    def equals(self, i: int, p: int, others: list[int], members: int) -> list[int]:
        """Other candidates with as much for them; those in use as other files count no more beside a folder of unused ones."""
        equal = [q for q in others if self.rank[q] == self.rank[p] and self._is_free(i, q)]
        if members >= 3 and not self.pairs.used[p] and self.pairs.size[p] == EQUAL:
            equal = [q for q in equal if not self.pairs.used[q]]
        return equal

    def _alike(self, some: list[int]) -> int | None:
        """Of identical copies the one to take; None when they are not identical."""
        rows = [int(self.pairs.row[p]) for p in some]
        if len({int(self.index.size[r]) for r in rows}) > 1 or self.lost[int(self.pairs.lost[some[0]])].frames:
            return None
        return self._nearest(some) if self.m.contents.alike(map(self.index.path, rows)) else None

    def _nearest(self, some: list[int]) -> int:
        """Of identical copies the one to take."""
        old = self.lost[int(self.pairs.lost[some[0]])].folder

        def distance(p: int) -> tuple[object, ...]:
            path = self.index.path(int(self.pairs.row[p]))
            return *self.m.near(path), -_common(old, path), -int(self.pairs.tail[p]), path

        return min(some, key=distance)

    # -- one by one -----------------------------------------------------------------------------------------------

    def _alone(self, i: int) -> None:
        mine = list(self.pairs.of(i))
        if not mine:
            self.why[i] = "No file of its name was found."
            return
        good = [p for p in mine if self.possible[p]]
        free = [p for p in good if self._is_free(i, p)]
        if good and not free:
            self._leave_open(i, "What it may be is another lost file, found by its folder.")
            return
        good = free
        if not good:
            self._leave_open(i, self._why_none(i, mine))
            return
        top = max(self.rank[p] for p in good)
        best = [p for p in good if self.rank[p] == top]
        if top == 4:
            same = self._alike(best) if len(best) > 1 else best[0]
            self._tie(i, best[0] if same is None else same, "Its content is the same, by its digest.", Basis.DIGEST)
        elif len(best) > 1:
            self._several(i, best)
        else:
            self._sole(i, best[0], len(good))

    def _is_free(self, i: int, p: int) -> bool:
        """False for a found file that is another lost one already."""
        holder = self._claimed.get(int(self.pairs.row[p]))
        return holder is None or same_file(self.lost[holder], self.lost[i])

    def _why_none(self, i: int, mine: list[int]) -> str:
        if any(self.pairs.proxy[p] for p in mine):
            return "Only found among what can be made again: probably its proxy."
        if any(self.pairs.refused[p] for p in mine):
            return "You refused the folder that it would be in."
        if any(self.pairs.renamed[p] for p in mine):
            return "A file of another name, of the same size and date."
        known = self.lost[i].size and all(self.pairs.size[p] == DIFFERS for p in mine)
        return "Found by its name, but of another size." if known else "Found by its name, but it is another file."

    def _several(self, i: int, best: list[int]) -> None:
        if (same := self._alike(best)) is not None:
            self._checked(i, same, f"{number(len(best))} identical copies; the nearest was taken.")
            return
        tails = sorted((int(self.pairs.tail[p]) for p in best), reverse=True)
        enough = 1 if self.lost[i].size == 0 else 2
        if tails[0] >= enough and tails[0] > tails[1]:
            p = max(best, key=lambda q: int(self.pairs.tail[q]))
            self._checked(
                i,
                p,
                "Of several the one in folders of the same names.",
                Basis.FOLDER if not self.lost[i].size else None,
            )
            return
        self._leave_open(i, f"{number(len(best))} files of equal evidence and different content.")

    def _sole(self, i: int, p: int, good: int) -> None:
        words = {2: "The only file of its name and size.", 3: "Its name, its size, and more are the same."}
        why = words.get(int(self.rank[p]), "The only file of its name.")
        if good > 1:
            why = "It has more for it than the others of its name."
        self._checked(i, p, why)

    def _checked(self, i: int, p: int, why: str, basis: Basis | None = None) -> None:
        """Ties unless what there is proves too little for one file alone."""
        doubt = "" if self.strong[p] else self._doubt(i, p)
        if doubt:
            self._leave_open(i, doubt)
        else:
            self._tie(i, p, why, basis)

    def _doubt(self, i: int, p: int) -> str:
        x = self.lost[i]
        folder = self.index.folders[int(self.index.folder[int(self.pairs.row[p])])]
        if folder == x.folder:
            return ""  # only its name is written otherwise
        if self.m.repeats[i]:
            return "Many files of its kind are of this size: that and its name prove little."
        if self.pairs.used[p] and not x.size:
            return "The only one found is in use already, as another file."
        if self.m.standing.get(x.folder, 0) >= LEAST:
            return "The others of its folder are where they were; this one is found elsewhere."
        if self._has_moved(x.folder):
            return "The others of its folder are elsewhere; the only one of its name does not lie with them."
        if self.pairs.tail[p]:
            return ""
        stem = x.name.rpartition(b".")[0]
        if not x.size and not x.frames and _COUNTED.fullmatch(stem):
            return "Its name is one that cameras give again and again, and its size is not known."
        return ""

    def _has_moved(self, folder: bytes) -> bool:
        """True when a folder, or one above it, has moved for certain."""
        while folder:
            if folder in self._moved:
                return True
            folder = folder.rpartition(b"/")[0]
        return False

    # -- no found file twice --------------------------------------------------------------------------------------

    def _once_only(self) -> None:
        """Two lost files are tied to one found file only when they are the same file."""
        holders: dict[bytes, list[int]] = defaultdict(list)
        for i, s in enumerate(self.state):
            if s is State.FOUND:
                holders[self.path.get(i) or self.index.path(self.row[i])].append(i)
        for some in holders.values():
            if len(some) < 2 or all(same_file(self.lost[some[0]], self.lost[i]) for i in some[1:]):
                continue
            said = [i for i in some if i in self.path]
            strength = {i: self._strength(i) for i in some}
            most = max(strength.values())
            keep = said or [i for i in some if strength[i] == most]
            keep = keep if len(keep) == 1 or said else []
            for i in some:
                if i not in keep and not (keep and same_file(self.lost[keep[0]], self.lost[i])):
                    self._leave_open(i, "Another lost file may be the same found file.")

    def _strength(self, i: int) -> tuple[int, bool, int]:
        p = next((q for q in self.pairs.of(i) if int(self.pairs.row[q]) == self.row[i]), None)
        return (0, False, 0) if p is None else (int(self.rank[p]), self.move[i] >= 0, int(self.pairs.tail[p]))

    def _count_moves(self) -> None:
        for made in self.moves:
            made.files = sum(self.lost[i].files for i in made.lost)
            made.references = sum(len(self.lost[i].references) for i in made.lost)
        order = sorted(range(len(self.moves)), key=lambda at: -self.moves[at].files)
        place = {old: new for new, old in enumerate(order)}
        self.moves = [self.moves[at] for at in order]
        self.move = [place.get(at, -1) for at in self.move]


def _common(one: bytes, other: bytes) -> int:
    """How many leading folders two paths have in common."""
    common = 0
    for a, b in zip(one.split(b"/"), other.split(b"/"), strict=False):
        if a != b:
            break
        common += 1
    return common


def same_file(one: Lost, other: Lost) -> bool:
    """True when two lost paths are for the same file: one place written in two ways, or one content."""
    if one.digest and other.digest:
        return one.digest == other.digest
    if one.size and other.size and one.size != other.size:
        return False
    a, b = (name_key(x.path.replace(b"\\", b"/")) for x in (one, other))
    if a == b:
        return True
    if name_key(one.name) != name_key(other.name):
        return False
    known = bool(one.size and one.size == other.size)
    timed = known and bool(one.mtime_ns) and one.mtime_ns == other.mtime_ns
    return timed or tail_of(one.folder, other.folder) >= (1 if known else 2)
