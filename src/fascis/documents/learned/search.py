"""Finds where a document keeps its paths: from file names to the left, piece by piece.

A path ends in a column with names of existing files. The piece before is a column that can be
reached from its rows and contains, in nearly all of them, the end of that file's folder; and so on,
until the path is complete. Columns are examined in a sample of rows; a proposal was applied to all
of them.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator

from msgspec import Struct, field

from fascis.documents.learned.existing import Existing, plain
from fascis.documents.learned.reading import (
    Evidence,
    Followed,
    Level,
    Piece,
    Reading,
    absolute,
    joined,
)
from fascis.documents.learned.spelling import Mode, decoded, is_foreign, mode_of
from fascis.documents.learned.tables import NO_ROW, Contents, Join, Table, Unreadable
from fascis.files.control import UNSTOPPED, Control

SAMPLE = 300
LEAST_VALUES, LEAST_SHARE = 3, 0.25
_FIRST, _LATER, _WHOLE = 0.45, 0.85, 0.5
_LEVELS, _BRANCHES, _NODES, _MOST_SLOTS = 5, 6, 400, 300
_HOPS = 4
# Tables this small may hold a root common to all rows.
_SETTINGS_ROWS = 60
_LONGEST = 4096
_DONE = "\0"
_MOST_TREE = 64


class Gone(Struct, frozen=True):
    """A folder with a new path: its former contents are found below that."""

    old: str
    new: str
    found: int
    values: int


class Found(Struct):
    """A reading that was applied to all rows.

    Attributes:
        contested_by: other readings that find the same paths through other cells.
        gone: no path exists, and one folder move would explain that.
        examples: some paths, as they are written and where they lead.
    """

    reading: Reading
    evidence: Evidence
    followed: Followed
    contested_by: list[Found] = field(default_factory=list)
    gone: Gone | None = None
    examples: list[tuple[str, str]] = field(default_factory=list)

    @property
    def is_sure(self) -> bool:
        """True if it can be used without asking a person."""
        e = self.evidence
        return (
            e.files >= 5
            and e.found * 2 >= e.values
            and e.outside <= e.values * 0.1
            and not self.contested_by
        )


class Left(Struct, frozen=True):
    """A column that looks like paths but is not part of a reading.

    Attributes:
        values, alive: how many values of the sample look like paths, and how many of these exist.
    """

    table: str
    column: str
    values: int
    alive: int


class _Slot(Struct, frozen=True):
    """A column that can be reached from the rows of a table."""

    hops: tuple[str, ...]
    table: Table
    column: str
    rows: tuple[int, ...]
    tree: Join | None = None


_Texts = tuple[dict[int, "str | None"], ...]


class _Node(Struct):
    """Some pieces, from the right, and the part of each row's folder not explained yet.

    Attributes:
        texts: of every piece what it is in the rows of the sample.
    """

    pieces: tuple[Piece, ...]
    left: dict[int, frozenset[str]]
    texts: _Texts


class _Candidate(Struct):
    """A reading, and where it leads in the sample; how many of these files exist."""

    reading: Reading
    paths: dict[int, str]
    found: int
    gone: Gone | None = None


class Search:
    """A search in one document.

    Raises:
        Unreadable: the document is damaged.
        Cancelled: by the control.
    """

    def __init__(
        self, contents: Contents, existing: Existing, control: Control = UNSTOPPED
    ) -> None:
        self._contents, self._existing, self._control = contents, existing, control
        self._slots: dict[str, list[_Slot]] = {}
        self._samples: dict[str, list[int]] = {}
        self._numbers: dict[str, dict[int, int]] = {}
        self._texts_known: dict[tuple[str, str, str], dict[int, str | None]] = {}
        self._levels_known: dict[Reading, list[Level]] = {}
        self._roots = self._lone_cells()

    def fields(self) -> list[Found]:
        """The best readings of each table, including uncertain ones."""
        found: list[Found] = []
        for table in self._contents.tables():
            mine: list[_Candidate] = []
            for column in table.columns():
                self._control.checkpoint()
                mine += self._of_column(table, column)
            found += self._best(mine)
        return found

    def left(self, fields: list[Found]) -> list[Left]:
        """Columns that look like paths and are not used."""
        used = {column for one in fields for column in one.followed.used()}
        found: list[Left] = []
        for table in self._contents.tables():
            for column in table.columns():
                if (table.name, column) in used:
                    continue
                texts = self._texts(table, column).values()
                paths = [
                    t for t in texts if t.count("/") + t.count("\\") > 1 and "://" not in t[8:]
                ]
                if len(paths) < LEAST_VALUES or len(paths) * 2 < len(texts):
                    continue
                pieces = [decoded(p, mode_of([p])) or "" for p in paths]
                alive = sum(p.startswith("/") and self._existing.is_there(p) for p in pieces)
                found.append(Left(table.name, column, len(paths), alive))
        return found

    # -- one column --------------------------------------------------------------------------------

    def _sample(self, table: Table) -> list[int]:
        if table.name not in self._samples:
            count = len(table)
            numbers = random.Random(7)
            rows = range(count)
            some = list(rows) if count <= SAMPLE else sorted(numbers.sample(rows, SAMPLE))
            self._samples[table.name] = some
        return self._samples[table.name]

    def _texts(self, table: Table, column: str) -> dict[int, str]:
        rows = self._sample(table)
        texts = table.column(column).some(rows)
        return {
            row: text
            for row, text in zip(rows, texts, strict=True)
            if text and len(text) <= _LONGEST and "\n" not in text and "\0" not in text
        }

    def _of_column(self, table: Table, column: str) -> list[_Candidate]:
        texts = self._texts(table, column)
        if not texts:
            return []
        modes = [mode_of(list(texts.values()))]
        if modes[0] is Mode.PLAIN and any("%" in t for t in texts.values()):
            modes.append(Mode.PERCENT)
        best: list[_Candidate] = []
        for mode in modes:
            pieces = {row: decoded(text, mode) for row, text in texts.items()}
            values = {row: p for row, p in pieces.items() if p and not is_foreign(p)}
            found = self._of_values(table, column, mode, values, len(texts))
            most = max((one.found for one in best), default=0)
            if not best or max((one.found for one in found), default=0) > most:
                best = found
        return best

    def _of_values(
        self, table: Table, column: str, mode: Mode, values: dict[int, str], texts: int
    ) -> list[_Candidate]:
        piece = Piece((), column, mode)
        known: dict[int, str | None] = dict(values)
        least = max(LEAST_VALUES, LEAST_SHARE * texts)
        existing = self._existing
        if sum(v.startswith("/") for v in values.values()) >= _WHOLE * texts:
            # A complete path that leads to a file needs no others.
            alive = any(existing.is_there(v) for v in values.values())
            known_names = sum(existing.has_name(_name(v)) for v in values.values())
            if known_names < least and not alive:
                return []
            return [self._candidate(table, (piece,), False, (known,))]
        folder = existing.folder.rstrip("/")
        found: list[_Candidate] = []
        there = sum(
            existing.is_there(f"{folder}/{v}") for v in values.values() if not v.startswith("/")
        )
        if there >= least:
            found.append(self._candidate(table, (piece,), True, (known,)))
        named = {row: v for row, v in values.items() if existing.has_name(_name(v))}
        if len(named) >= least:
            return found + self._chains(table, (piece,), (known,), named)
        stems = {row: v for row, v in values.items() if existing.has_stem(_name(v))}
        if len(stems) >= least:
            return found + self._with_endings(table, piece, stems)
        return found

    def _with_endings(self, table: Table, piece: Piece, stems: dict[int, str]) -> list[_Candidate]:
        """A name whose ending is in another cell."""
        existing = self._existing
        for slot in self._reachable(table):
            if slot.hops == piece.hops and slot.column == piece.column:
                continue
            texts = self._slot_texts(table, slot, list(stems))
            endings: dict[int, str | None] = {
                row: text
                for row, text in zip(stems, texts, strict=True)
                if text and len(text) <= 9 and "/" not in text
            }
            whole = {r: f"{stems[r]}.{(e or '').removeprefix('.')}" for r, e in endings.items()}
            named = {r: v for r, v in whole.items() if existing.has_name(_name(v))}
            if len(named) >= max(LEAST_VALUES, _LATER * len(stems)):
                ending = Piece(slot.hops, slot.column, ending=True)
                return self._chains(table, (ending, piece), (endings, dict(stems)), named)
        return []

    # -- chains ------------------------------------------------------------------------------------

    def _chains(
        self, table: Table, pieces: tuple[Piece, ...], texts: _Texts, named: dict[int, str]
    ) -> list[_Candidate]:
        """Readings that end with some pieces (from the right), by the pieces before them."""
        left = {row: found for row, value in named.items() if (found := self._remainders(value))}
        level = [_Node(pieces, left, texts)]
        nodes: list[_Node] = []
        done: list[_Candidate] = []
        visited = 0
        for depth in range(_LEVELS + 1):
            share = _FIRST if depth == 0 else _LATER
            following: list[tuple[int, _Node]] = []
            nodes += level
            for node in level:
                done += self._complete(table, node)
                if depth == _LEVELS:
                    continue
                for slot in self._reachable(table):
                    visited += 1
                    if visited > _NODES * 4:
                        break
                    longer = self._extended(table, node, slot, share)
                    if longer is not None:
                        following.append((len(longer.left), longer))
            self._control.checkpoint()
            following.sort(key=lambda f: (-f[0], len(f[1].pieces[-1].hops)))
            level = [node for _, node in following[:_BRANCHES]]
            if not level:
                break
        return done if any(one.found for one in done) else done + self._all_gone(table, nodes)

    def _all_gone(self, table: Table, nodes: list[_Node]) -> list[_Candidate]:
        """Readings whose first piece is a folder with a new path."""
        found: list[_Candidate] = []
        for node in nodes[: _NODES // 20]:
            rows = list(node.left)
            for slot in self._reachable(table):
                texts = self._slot_texts(table, slot, rows)
                some = [t for t in texts if t]
                mode = mode_of(some)
                heads = {
                    row: piece
                    for row, text in zip(rows, texts, strict=True)
                    if text and (piece := decoded(text, mode)) and piece.startswith("/")
                }
                if len(heads) < max(LEAST_VALUES, _WHOLE * len(rows)):
                    continue
                tree = slot.tree.name if slot.tree else ""
                head = Piece(slot.hops, slot.column, mode, tree=tree)
                known: dict[int, str | None] = dict(heads)
                one = self._candidate(
                    table, (head, *node.pieces[::-1]), False, (known, *node.texts[::-1])
                )
                # It may lead to an existing file elsewhere, of which there is a copy here.
                found += [one] if one.gone or one.found else []
        return found

    def _remainders(self, value: str) -> frozenset[str]:
        """The possible text before a value that ends in a file's name, for each such file."""
        above, _, name = plain(value).rpartition("/")
        above = above.strip("/")
        found = set()
        for folder in self._existing.folders_with(name):
            rest = _without_tail(folder, above)
            if rest is not None:
                found.add(rest)
        return frozenset(found)

    def _extended(self, table: Table, node: _Node, slot: _Slot, share: float) -> _Node | None:
        if any((p.hops, p.column) == (slot.hops, slot.column) for p in node.pieces):
            return None
        rows = list(node.left)
        texts = self._slot_texts(table, slot, rows)
        some = [t for t in texts if t]
        if len(some) < max(LEAST_VALUES, LEAST_SHARE * len(rows)):
            return None
        modes = [mode_of(some)] + ([Mode.PERCENT] if any("%" in t for t in some) else [])
        best: _Node | None = None
        for mode in modes:
            left: dict[int, frozenset[str]] = {}
            pieces: dict[int, str | None] = {}
            matched = 0
            for row, text in zip(rows, texts, strict=True):
                if not text:
                    left[row] = node.left[row]
                    continue
                drive = self._existing.drives.get(text)
                value = drive if drive is not None else decoded(text, mode)
                if value is None or is_foreign(value):
                    continue
                pieces[row] = value
                if rests := _before(node.left[row], plain(value)):
                    left[row] = rests
                    matched += 1
            if matched < share * len(some):
                continue
            is_drive = any(t in self._existing.drives for t in some)
            tree = slot.tree.name if slot.tree else ""
            piece = Piece(slot.hops, slot.column, mode, tree=tree, drive=is_drive)
            if best is None or len(left) > len(best.left):
                best = _Node((*node.pieces, piece), left, (*node.texts, pieces))
        return best

    def _complete(self, table: Table, node: _Node) -> list[_Candidate]:
        pieces, texts = node.pieces[::-1], node.texts[::-1]
        rows = len(node.left)
        if not rows:
            return []
        common = Counter(rest for some in node.left.values() for rest in some)
        found: list[_Candidate] = []
        if common[_DONE] >= _WHOLE * rows:
            found.append(self._candidate(table, pieces, False, texts))
        if common[self._existing.folder.rstrip("/")] >= _WHOLE * rows:
            found.append(self._candidate(table, pieces, True, texts))
        for rest, count in common.most_common(3):
            if rest == _DONE or count < _WHOLE * rows:
                continue
            for root, relative, text in self._roots.get(rest, ()):
                same: dict[int, str | None] = dict.fromkeys(self._sample(table), text)
                found.append(self._candidate(table, (root, *pieces), relative, (same, *texts)))
        return found

    # -- slots -------------------------------------------------------------------------------------

    def _reachable(self, table: Table) -> list[_Slot]:
        """The columns that can be reached from a table's rows, nearest first."""
        if table.name not in self._slots:
            self._slots[table.name] = list(self._reach(table))[:_MOST_SLOTS]
        return self._slots[table.name]

    def _reach(self, start: Table) -> Iterator[_Slot]:
        sample = tuple(self._sample(start))
        level: list[tuple[tuple[str, ...], Table, tuple[int, ...]]] = [((), start, sample)]
        seen: set[tuple[str, tuple[int, ...]]] = set()
        for _ in range(_HOPS):
            following = []
            for hops, table, rows in level:
                joins = table.joins()
                trees = [join for join in joins if join.to is table]
                for column in table.columns():
                    for join in trees:
                        yield _Slot(hops, table, column, rows, join)
                    yield _Slot(hops, table, column, rows)
                for join in joins:
                    if join.to is table:
                        continue
                    known = [r for r in rows if r != NO_ROW]
                    there = dict(zip(known, join.some(known), strict=True))
                    to = tuple(there.get(r, NO_ROW) for r in rows)
                    key = (join.to.name, to)
                    if key not in seen and any(r != NO_ROW for r in to):
                        seen.add(key)
                        following.append(((*hops, join.name), join.to, to))
            level = following[:24]

    def _slot_texts(self, table: Table, slot: _Slot, rows: list[int]) -> list[str | None]:
        """The text of a slot for some rows of the sample."""
        numbers = self._numbers.setdefault(
            table.name, {row: n for n, row in enumerate(self._sample(table))}
        )
        there = [slot.rows[numbers[row]] for row in rows]
        known = sorted({r for r in there if r != NO_ROW})
        key = (slot.table.name, slot.column, slot.tree.name if slot.tree else "")
        texts = self._texts_known.setdefault(key, {})
        if new := [r for r in known if r not in texts]:
            values = (
                self._along(slot, new) if slot.tree else slot.table.column(slot.column).some(new)
            )
            texts.update(zip(new, values, strict=True))
        return [texts.get(r) for r in there]

    def _along(self, slot: _Slot, rows: list[int]) -> list[str | None]:
        """For rows that lie in each other: the texts of all of them, joined."""
        assert slot.tree
        column = slot.table.column(slot.column)
        way: list[list[int]] = [[row] for row in rows]
        for _ in range(_MOST_TREE):
            tops = sorted({w[-1] for w in way})
            up = dict(zip(tops, slot.tree.some(tops), strict=True))
            grown = False
            for w in way:
                above = up[w[-1]]
                if above != NO_ROW and above not in w:
                    w.append(above)
                    grown = True
            if not grown:
                break
        every = sorted({row for w in way for row in w})
        texts = dict(zip(every, column.some(every), strict=True))
        return [joined([texts[n] for n in reversed(w)], [False] * len(w)) for w in way]

    # -- roots -------------------------------------------------------------------------------------

    def _lone_cells(self) -> dict[str, list[tuple[Piece, bool, str]]]:
        """Folders in one cell of a small table: a possible base for all rows."""
        found: dict[str, list[tuple[Piece, bool, str]]] = {}
        folder = self._existing.folder.rstrip("/")
        for table in self._contents.tables():
            if len(table) > _SETTINGS_ROWS:
                continue
            for column in table.columns():
                for row, text in enumerate(table.column(column).all()):
                    if not text or len(text) > _LONGEST:
                        continue
                    mode = mode_of([text])
                    value = decoded(text, mode)
                    if not value or is_foreign(value) or len(value.strip("/")) < 1:
                        continue
                    piece = Piece((), column, mode, row=row, table=table.name)
                    core = plain(value).rstrip("/")
                    if value.startswith("/"):
                        found.setdefault(core, []).append((piece, False, value))
                    else:
                        found.setdefault(f"{folder}/{core}", []).append((piece, True, value))
        return found

    # -- which is the best -------------------------------------------------------------------------

    def _candidate(
        self, table: Table, pieces: tuple[Piece, ...], from_folder: bool, texts: _Texts
    ) -> _Candidate:
        """A reading, and its result in the sample.

        Args:
            texts: for every piece the pieces of rows.
        """
        paths: dict[int, str] = {}
        endings = [piece.ending for piece in pieces]
        folder = self._existing.folder
        for row in self._sample(table):
            some = [known.get(row) for known in texts]
            if not some[-1]:
                continue
            path = joined(some, endings)
            whole = absolute(path, folder, from_folder) if path else None
            if whole is not None:
                paths[row] = whole
        found = sum(self._existing.is_there(path) for path in paths.values())
        gone = None if found else self._gone(paths)
        return _Candidate(Reading(table.name, pieces, from_folder), paths, found, gone)

    def _gone(self, paths: dict[int, str]) -> Gone | None:
        """The one move that explains the present paths of more than half of some files."""
        moves: Counter[tuple[str, str]] = Counter()
        for path in paths.values():
            old, _, name = plain(path).rpartition("/")
            moves.update({_move(old, new) for new in self._existing.folders_with(name)})
        if not moves:
            return None
        (old, new), count = moves.most_common(1)[0]
        if count < LEAST_VALUES or count * 2 <= len(paths) or not old.strip("/"):
            return None
        return Gone(old, new, count, len(paths))

    def _best(self, candidates: list[_Candidate]) -> list[Found]:
        """The best of the readings that lead to the same files; others belong to other fields."""
        kept: list[_Candidate] = []
        contests: list[tuple[_Candidate, _Candidate]] = []
        unique = {one.reading: one for one in candidates if one.found}
        if not unique:
            # Everything was moved: the reading that one move explains best.
            gone = [one for one in candidates if one.gone]
            gone.sort(key=lambda one: (-one.gone.found if one.gone else 0, *_worth(one)))
            unique = {one.reading: one for one in gone[:1]}
        for one in sorted(unique.values(), key=_worth):
            told = [self._is_told_by(one, better) for better in kept]
            contests += [(b, one) for b, how in zip(kept, told, strict=True) if how == "contested"]
            if not any(told):
                kept.append(one)
        found = {one.reading: self._followed(one) for one in kept}
        for better, one in contests:
            mine, other = found[better.reading], self._followed(one)
            if mine and other and other.evidence.found >= mine.evidence.found:
                mine.contested_by.append(other)
        return [one for one in found.values() if one]

    def _followed(self, one: _Candidate) -> Found | None:
        self._control.checkpoint()
        try:
            followed = Followed(self._contents, one.reading, self._existing.drives)
            evidence = followed.evidence(self._existing)
            return Found(one.reading, evidence, followed, gone=one.gone)
        except Unreadable:
            return None

    def _is_told_by(self, one: _Candidate, better: _Candidate) -> str:
        """Why a reading is only a part of another one that finds more; empty if it is not."""
        shared = one.paths.keys() & better.paths.keys()
        same = sum(one.paths[row] == better.paths[row] for row in shared)
        if same < 0.9 * one.found:
            # Another field; or the old paths, if this reading finds many of the missing files.
            if _anchor(one.reading) == _anchor(better.reading):
                # One name belongs to one file: the reading with more files is right; among equals
                # the nearer one, because anything can be reached through many joins.
                nearer = _hops(better.reading) < _hops(one.reading)
                return "less" if nearer or _finds(one) != _finds(better) else "contested"
            dead = [r for r in shared if not self._existing.is_there(one.paths[r])]
            moved = sum(self._existing.is_there(better.paths[row]) for row in dead)
            once = moved > 0.3 * len(dead) and len(dead) > 0.1 * len(one.paths)
            return "once" if dead and once else ""
        if one.found < better.found:
            return "less"
        return "same" if self._shares_a_head(one, better) else "contested"

    def _shares_a_head(self, one: _Candidate, better: _Candidate) -> bool:
        """True if both would be changed in the same cell.

        A root that a key connects to the rows is preferred to the document's own folder.

        A root that rows are tied to by a key is followed rather than the document's own folder.
        """
        try:
            mine, theirs = self._levels(one.reading), self._levels(better.reading)
        except Unreadable:
            return True
        tied = better.reading.pieces[0].row == NO_ROW and one.reading.from_folder
        for row in list(one.paths.keys() & better.paths.keys())[:50]:
            cells = [level.cell(row) for level in theirs if level.text(row)]
            head = next((level.cell(row) for level in mine if level.text(row)), None)
            if head is None or not cells or head == cells[0]:
                continue
            if not (tied and head in cells):
                return False
        return True

    def _levels(self, reading: Reading) -> list[Level]:
        if reading not in self._levels_known:
            followed = Followed(self._contents, reading, self._existing.drives)
            self._levels_known[reading] = followed.levels
        return self._levels_known[reading]


def _anchor(reading: Reading) -> Piece:
    """The piece that contains the file's name."""
    return next(piece for piece in reversed(reading.pieces) if not piece.ending)


def _hops(reading: Reading) -> int:
    """How many joins its pieces need."""
    return sum(len(piece.hops) + bool(piece.tree) for piece in reading.pieces)


def _finds(one: _Candidate) -> tuple[int, int]:
    """The number of rows that lead to existing files, and of different files at most."""
    return one.found, len(set(one.paths.values()))


def _worth(one: _Candidate) -> tuple[int, int, int, int, int]:
    """The most paths, with the fewest and nearest pieces; roots by a key come first."""
    pieces = one.reading.pieces
    return (
        -one.found,
        -len(set(one.paths.values())),
        sum(piece.ending for piece in pieces),
        int(one.reading.from_folder) + 2 * sum(piece.row != NO_ROW for piece in pieces),
        len(pieces) + sum(len(piece.hops) for piece in pieces),
    )


def _move(old: str, new: str) -> tuple[str, str]:
    """The difference of two folders, without their common ends."""
    mine, theirs = old.split("/"), new.split("/")
    while mine and theirs and mine[-1] == theirs[-1]:
        mine.pop()
        theirs.pop()
    return "/".join(mine), "/".join(theirs)


def _name(value: str) -> str:
    return value.rstrip("/").rpartition("/")[2]


def _without_tail(folder: str, tail: str) -> str | None:
    """A folder without its end; None if it ends differently."""
    if not tail:
        return folder
    if folder.endswith("/" + tail):
        return folder[: -len(tail) - 1]
    return None


def _before(rests: frozenset[str], value: str) -> frozenset[str]:
    """The rest to be explained when a value stands before the known part."""
    core = value.strip("/")
    if value.startswith("/"):
        return (
            frozenset((_DONE,))
            if "/" + core in rests or (not core and "" in rests)
            else frozenset()
        )
    found = set()
    for rest in rests:
        shorter = _without_tail(rest, core)
        if shorter is not None and core:
            found.add(shorter)
    return frozenset(found)
