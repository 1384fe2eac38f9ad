"""Decides every lost file by the available evidence.

Folder moves first, then the rest one by one.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Collection, Mapping, Sequence

import numpy as np

from fascis.files.names import name_key
from fascis.files.route import Moved
from fascis.relink.evidence import Evidence
from fascis.relink.lost import Lost
from fascis.relink.moves import LEAST, FolderMove, Preference, Statements, choose, solid, statements
from fascis.relink.outcome import Match, State, basis_of
from fascis.relink.pairs import DIFFERS, EQUAL, Basis, tail_of
from fascis.words.figures import number
from fascis.words.speech import tr, trn

# The share of a folder's files: fewer can also exist elsewhere without doubt about the folder.
_FEW = 0.5
_COUNTED = re.compile(rb"[A-Za-z_ -]{0,8}\d{4,}")  # Names that cameras count.


class _Disputed:
    """How many of the files explained by one statement could be explained by others too."""

    def __init__(self, deciding: Deciding, best: Mapping[int, int], move: Moved) -> None:
        self._deciding, self._best, self._own = deciding, best, move
        self._tops: dict[bytes, Counter[frozenset[Moved | None]]] | None = None

    def share(self, i: int, own: list[int]) -> float:
        """The share of an old folder with equal files elsewhere than in the pairs ``own``."""
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


class Deciding:
    """Decides every lost file by the available evidence."""

    def __init__(self, evidence: Evidence) -> None:
        self.m = evidence
        self.lost, self.index, self.pairs = evidence.lost, evidence.index, evidence.pairs
        self.decisions = evidence.decisions
        count = len(self.lost)
        self.state = [State.NOWHERE] * count
        self.row, self.move = [-1] * count, [-1] * count
        self.basis, self.why = [Basis.NAME] * count, [""] * count
        self.path: dict[int, bytes] = {}
        self.moves: list[FolderMove] = []
        self.made = Statements(self.lost, self.index, self.pairs)
        # Row → its lost file.
        self._claimed: dict[int, int] = {}
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
        """Decides everything.

        A person's answers, folder moves, the rest one by one, and no found file twice.
        """
        self._take_choices()
        self._find_moves()
        for i in range(len(self.lost)):
            if self.state[i] is State.NOWHERE:
                self._alone(i)
        self._once_only()
        self._count_moves()
        return Match(
            self.lost,
            self.index,
            self.pairs,
            self.state,
            self.row,
            self.path,
            self.basis,
            self.why,
            self.moves,
            self.move,
        )

    def _tie(self, i: int, p: int, why: str, basis: Basis | None = None) -> None:
        self.state[i], self.row[i] = State.FOUND, int(self.pairs.row[p])
        self.basis[i], self.why[i] = basis or basis_of(self.pairs, p), why

    def _leave_open(self, i: int, why: str) -> None:
        self.state[i], self.why[i], self.row[i] = State.OPEN, why, -1
        first = max(self.pairs.of(i), key=lambda p: (self.rank[p], self.pairs.tail[p]))
        self.basis[i] = basis_of(self.pairs, first)

    # -- what a person said ------------------------------------------------------------------------

    def _refuse(self) -> None:
        for move in self.decisions.refused:
            self.pairs.refused[self.made.pairs(move)] = True

    def _take_choices(self) -> None:
        for path, found in self.decisions.chosen.items():
            i = self.by_path.get(path)
            if i is None:
                continue
            if found is None:
                self.state[i], self.why[i] = State.LEFT, tr("You said that it is not any of them.")
                continue
            self.state[i], self.why[i], self.path[i] = (
                State.FOUND,
                tr("You said that this is it."),
                found,
            )
            mine = next(
                (p for p in self.pairs.of(i) if self.index.path(int(self.pairs.row[p])) == found),
                None,
            )
            self.basis[i] = Basis.NAME if mine is None else basis_of(self.pairs, mine)

    def _hinted(self) -> list[Moved]:
        """Folder moves implied by files that a person located."""
        found = []
        for path, there in self.decisions.chosen.items():
            if there is not None and (i := self.by_path.get(path)) is not None:
                made = statements(self.lost[i].folder, there.rpartition(b"/")[0])
                found += [m for m in reversed(made) if not self.m.exists(m.old)] or made[:1]
        return list(dict.fromkeys(found))

    # -- folder moves ------------------------------------------------------------------------------

    def _find_moves(self) -> None:
        hinted = self._hinted()
        free = np.array([s is State.NOWHERE for s in self.state], np.bool_)
        most = np.zeros(len(self.lost), np.int8)
        np.maximum.at(most, self.pairs.lost, self.rank)
        # A file with less evidence than another means nothing.
        best = self.possible & (self.rank == most[self.pairs.lost])
        usable = best & free[self.pairs.lost] if len(self.pairs) else best
        accepted = sorted(self.decisions.accepted)
        preference = Preference([*accepted, *hinted], self._preferred, self.decisions.refused)
        chosen = choose(self.pairs, usable, self.m.weight, self.made, preference)
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
        # Open statements claim nothing.
        self._claimed = {
            row: i
            for row, i in self._claimed.items()
            if self.state[i] is State.FOUND and self.row[i] == row
        }

    def _moved_whole(self) -> set[bytes]:
        """Old folders of moves that explain half or more of the lost files below them."""
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

    def _claim(self, chosen: Sequence[tuple[Moved, np.ndarray]]) -> None:
        """A file claimed by a statement cannot be another lost file.

        The statement that explains most comes first.
        """
        for _, mine in chosen:
            for p in mine[solid(self.pairs, self.strong, self.made, mine)].tolist():
                self._claimed.setdefault(int(self.pairs.row[p]), int(self.pairs.lost[p]))

    def _preferred(self, move: Moved) -> tuple[object, ...]:
        there = self.m.exists(move.old)
        return there, -len(move.old) if there else len(move.old), self.m.near(move.new)

    def _denied(self, move: Moved) -> bool:
        """True if the file at a statement's path is certainly another one."""
        mine = self.made.pairs(move)
        return bool((~self.possible[mine]).any())

    def _take_move(self, move: Moved, mine: np.ndarray, sure: bool) -> None:
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
        doubted = {
            self.lost[i].folder for i in best if not made.certain or self.state[i] is State.OPEN
        }
        # If files lie in two places, some differ: it may be an old copy of the folder.
        if doubted and not sure:
            self._doubt_members(made, best, doubted)
            contested = made.certain
            made.certain = any(self.state[i] is State.FOUND for i in best)
            if contested and not made.certain:
                # Others explain as much: a person decides one file, and that decides its
                # neighbours.
                return
        made.lost = [i for i in best if self.state[i] is not State.NOWHERE]
        if made.lost:
            self.moves.append(made)

    def _doubt_members(
        self, made: FolderMove, best: Mapping[int, int], folders: Collection[bytes]
    ) -> None:
        """Leaves open what a statement explains of some folders.

        Except files with more evidence.
        """
        for i, p in best.items():
            others = any(
                self.possible[q] and self.pairs.row[q] != self.pairs.row[p]
                for q in self.pairs.of(i)
            )
            # Identical copies of its size.
            enough = self.strong[p] or (others and self.pairs.size[p] == EQUAL)
            doubted = self.state[i] is State.NOWHERE or (
                self.state[i] is State.FOUND and not enough
            )
            if doubted and self.lost[i].folder in folders:
                self._leave_open(
                    i,
                    tr("Its folder may have moved; against it: {reason}.", reason=made.against[0]),
                )

    def _weigh(self, made: FolderMove, best: dict[int, int]) -> None:
        """Whether a statement decides ties automatically, and what contradicts it."""
        pairs = self.pairs
        members = np.array(list(best.values()), np.int64)
        numbers = pairs.lost[members]
        strong = self.strong[members]
        denied = self.made.pairs(made.move)
        denied = denied[~self.possible[denied] & ~pairs.renamed[denied]]
        for column, words in (
            (pairs.length, "length"),
            (pairs.captured, "capture time"),  # for programs
            (pairs.digest, "content"),
        ):
            if others := int((column[denied] == DIFFERS).sum()):
                made.against.append(_of_another(words, others))
        doubtful = bool(made.against) and not strong.any()
        if others := int((pairs.size[denied] == DIFFERS).sum()):
            made.against.append(
                trn("{n} file there of another size", "{n} files there of another size", others)
            )
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
            made.against.insert(0, tr("all of these files are in use already"))
        elif alike and any(self.m.standing.get(self.lost[i].folder, 0) >= LEAST for i in made.lost):
            doubtful = True
            made.against.insert(
                0, tr("all are of one size, and others of their folder are where they were")
            )
        elif alike and not unsized.any() and told.all():
            doubtful = True
            made.against.insert(0, tr("all are of one size, and none is of the same date"))
        elif alike and not unsized.any() and not pairs.tail[members].any() and len(best) < 3:
            doubtful = True
            made.against.insert(0, tr("all are of one size"))
        elif unsized.all() and self._prove_little(numbers, made.move):
            doubtful = True
            made.against.insert(0, tr("cameras give such names again and again"))
        elif unsized.all() and int((pairs.size[denied] == DIFFERS).sum()) > len(best):
            doubtful = True
        made.certain = not doubtful

    def _prove_little(self, numbers: np.ndarray, move: Moved) -> bool:
        """True for a few names, or a part of a folder's names, that cameras count.

        Another folder has them too.
        """
        if not all(
            _COUNTED.fullmatch(self.lost[i].name.rpartition(b".")[0]) for i in numbers.tolist()
        ):
            return False
        mine = int(self.m.weight[numbers].sum())
        old = move.old.rstrip(b"/") + b"/"
        below = sum(
            int(self.m.weight[some].sum())
            for f, some in self.by_folder.items()
            if (f + b"/").startswith(old)
        )
        return mine < 3 or 2 * mine < below

    def _found_elsewhere(self, made: FolderMove, numbers: np.ndarray) -> str:
        """Reports that most of an old folder was found elsewhere, and this is a second copy."""
        folders = {self.lost[i].folder for i in numbers.tolist()}
        mine = [i for f in folders for i in self.by_folder[f]]
        tied = [i for i in mine if self.state[i] is State.FOUND and i not in self.path]
        if 2 * len(tied) < len(mine):
            return ""
        pairs, here = self.pairs, set(self.made.pairs(made.move).tolist())
        twice = [
            i
            for i in tied
            if any(
                p in here and self.possible[p] and int(pairs.row[p]) != self.row[i]
                for p in pairs.of(i)
            )
        ]
        if twice:
            return trn(
                "{n} file of that folder lie here too, and were found elsewhere",
                "{n} files of that folder lie here too, and were found elsewhere",
                len(twice),
            )
        timed = any(
            pairs.time[p] == EQUAL
            for i in tied
            for p in pairs.of(i)
            if int(pairs.row[p]) == self.row[i]
        )
        own = [p for i in numbers.tolist() for p in pairs.of(i) if p in here and self.possible[p]]
        if timed and own and all(pairs.time[p] == DIFFERS for p in own):
            return tr("the others of that folder kept their date, and these did not")
        return ""

    def _tie_by_move(
        self, i: int, p: int, made: FolderMove, disputed: _Disputed, sure: bool
    ) -> None:
        words = trn(
            "Its folder moved; that explains {n} file.",
            "Its folder moved; that explains {n} files.",
            made.files,
        )
        basis = basis_of(self.pairs, p)
        basis = Basis.FOLDER if basis is Basis.NAME else basis
        others = [
            q
            for q in self.pairs.of(i)
            if self.possible[q] and self.pairs.row[q] != self.pairs.row[p]
        ]
        most = max((self.rank[q] for q in others), default=0)
        if sure:
            self._tie(i, p, tr("Its folder moved, as you said."), basis)
        elif self.rank[p] < most:
            # Another one has more evidence: examined by itself.
            return
        elif self.rank[p] > most or not (equal := self.equals(i, p, others, len(made.lost))):
            self._tie(i, p, words, basis)
        else:
            same = [q for q in equal if self._alike([p, q]) is not None]
            if len(same) == len(equal):
                self._tie(
                    i,
                    self._nearest([p, *equal]),
                    tr("Identical copies; the nearest was taken."),
                    basis,
                )
            elif (share := disputed.share(i, [p, *same])) < _FEW:
                self._tie(
                    i,
                    p,
                    tr(
                        "{words} Other folders have {round} % of them.",
                        words=words,
                        round=round(100 * share),
                    ),
                    basis,
                )
            else:
                made.against = made.against or [tr("other folders have files of their names too")]
                self._leave_open(
                    i,
                    tr(
                        "{count} files that are equally likely and have different content.",
                        count=number(len(equal) + 1),
                    ),
                )

    def equals(self, i: int, p: int, others: list[int], members: int) -> list[int]:
        """Other candidates with equal evidence.

        Files in use as others do not count beside a folder of unused ones.
        """
        equal = [q for q in others if self.rank[q] == self.rank[p] and self._is_free(i, q)]
        if members >= 3 and not self.pairs.used[p] and self.pairs.size[p] == EQUAL:
            equal = [q for q in equal if not self.pairs.used[q]]
        return equal

    def _alike(self, some: list[int]) -> int | None:
        """The one to take of identical copies; None if they are not identical."""
        rows = [int(self.pairs.row[p]) for p in some]
        if (
            len({int(self.index.size[r]) for r in rows}) > 1
            or self.lost[int(self.pairs.lost[some[0]])].frames
        ):
            return None
        return self._nearest(some) if self.m.contents.alike(map(self.index.path, rows)) else None

    def _nearest(self, some: list[int]) -> int:
        """The one to take of identical copies."""
        old = self.lost[int(self.pairs.lost[some[0]])].folder

        def distance(p: int) -> tuple[object, ...]:
            path = self.index.path(int(self.pairs.row[p]))
            return *self.m.near(path), -_common(old, path), -int(self.pairs.tail[p]), path

        return min(some, key=distance)

    # -- one by one --------------------------------------------------------------------------------

    def _alone(self, i: int) -> None:
        mine = list(self.pairs.of(i))
        if not mine:
            self.why[i] = tr("No file of its name was found.")
            return
        good = [p for p in mine if self.possible[p]]
        free = [p for p in good if self._is_free(i, p)]
        if good and not free:
            self._leave_open(i, tr("What it may be is another lost file, found by its folder."))
            return
        good = free
        if not good:
            self._leave_open(i, self._why_none(i, mine))
            return
        top = max(self.rank[p] for p in good)
        best = [p for p in good if self.rank[p] == top]
        if top == 4:
            same = self._alike(best) if len(best) > 1 else best[0]
            self._tie(
                i,
                best[0] if same is None else same,
                tr("Its content is the same, by its digest."),
                Basis.DIGEST,
            )
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
            return tr("Only found among what can be made again: probably its proxy.")
        if any(self.pairs.refused[p] for p in mine):
            return tr("You refused the folder that it would be in.")
        if any(self.pairs.renamed[p] for p in mine):
            return tr("A file of another name, of the same size and date.")
        known = self.lost[i].size and all(self.pairs.size[p] == DIFFERS for p in mine)
        if known:
            return tr("Found by its name, but of another size.")
        return tr("Found by its name, but it is another file.")

    def _several(self, i: int, best: list[int]) -> None:
        if (same := self._alike(best)) is not None:
            self._checked(
                i,
                same,
                tr("{count} identical copies; the nearest was taken.", count=number(len(best))),
            )
            return
        tails = sorted((int(self.pairs.tail[p]) for p in best), reverse=True)
        enough = 1 if self.lost[i].size == 0 else 2
        if tails[0] >= enough and tails[0] > tails[1]:
            p = max(best, key=lambda q: int(self.pairs.tail[q]))
            self._checked(
                i,
                p,
                tr("Of several the one in folders of the same names."),
                Basis.FOLDER if not self.lost[i].size else None,
            )
            return
        self._leave_open(
            i,
            tr(
                "{count} files that are equally likely and have different content.",
                count=number(len(best)),
            ),
        )

    def _sole(self, i: int, p: int, good: int) -> None:
        words = {
            2: tr("The only file of its name and size."),
            3: tr("Its name, its size, and more are the same."),
        }
        why = words.get(int(self.rank[p]), tr("The only file of its name."))
        if good > 1:
            why = tr("It has more for it than the others of its name.")
        self._checked(i, p, why)

    def _checked(self, i: int, p: int, why: str, basis: Basis | None = None) -> None:
        """Ties, except those whose evidence is too weak for one file alone."""
        doubt = "" if self.strong[p] else self._doubt(i, p)
        if doubt:
            self._leave_open(i, doubt)
        else:
            self._tie(i, p, why, basis)

    def _doubt(self, i: int, p: int) -> str:
        x = self.lost[i]
        folder = self.index.folders[int(self.index.folder[int(self.pairs.row[p])])]
        if folder == x.folder:
            # Only its name is spelled differently.
            return ""
        if self.m.repeats[i]:
            return tr("Many files of its kind are of this size: that and its name prove little.")
        if self.pairs.used[p] and not x.size:
            return tr("The only one found is in use already, as another file.")
        if self.m.standing.get(x.folder, 0) >= LEAST:
            return tr("The others of its folder are where they were; this one is found elsewhere.")
        if self._has_moved(x.folder):
            return tr(
                "The others of its folder are elsewhere; the only one of its name does "
                "not lie with them."
            )
        if self.pairs.tail[p]:
            return ""
        stem = x.name.rpartition(b".")[0]
        if not x.size and not x.frames and _COUNTED.fullmatch(stem):
            return tr(
                "Its name is one that cameras give again and again, and its size is not known."
            )
        return ""

    def _has_moved(self, folder: bytes) -> bool:
        """True if a folder, or one above it, has certainly moved."""
        while folder:
            if folder in self._moved:
                return True
            folder = folder.rpartition(b"/")[0]
        return False

    # -- no found file twice -----------------------------------------------------------------------

    def _once_only(self) -> None:
        """Two lost files share one found file only if they are the same file."""
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
                    self._leave_open(i, tr("Another lost file may be the same found file."))

    def _strength(self, i: int) -> tuple[int, bool, int]:
        p = next((q for q in self.pairs.of(i) if int(self.pairs.row[q]) == self.row[i]), None)
        if p is None:
            return (0, False, 0)
        return (int(self.rank[p]), self.move[i] >= 0, int(self.pairs.tail[p]))

    def _count_moves(self) -> None:
        for made in self.moves:
            made.files = sum(self.lost[i].files for i in made.lost)
            made.references = sum(len(self.lost[i].references) for i in made.lost)
        order = sorted(range(len(self.moves)), key=lambda at: -self.moves[at].files)
        place = {old: new for new, old in enumerate(order)}
        self.moves = [self.moves[at] for at in order]
        self.move = [place.get(at, -1) for at in self.move]


def _common(one: bytes, other: bytes) -> int:
    """The number of common leading folders of two paths."""
    common = 0
    for a, b in zip(one.split(b"/"), other.split(b"/"), strict=False):
        if a != b:
            break
        common += 1
    return common


def same_file(one: Lost, other: Lost) -> bool:
    """True if two lost paths are for the same file.

    One path in two spellings, or equal content.
    """
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


def _of_another(what: str, n: int) -> str:
    """How many files of a folder contradict its move, and how."""
    return {
        "length": trn("{n} file there of another length", "{n} files there of another length", n),
        "content": trn(
            "{n} file there of another content", "{n} files there of another content", n
        ),
    }.get(
        what,
        trn("{n} file there of another capture time", "{n} files there of another capture time", n),
    )
