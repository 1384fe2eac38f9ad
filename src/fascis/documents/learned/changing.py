"""Which cells change so that paths lead elsewhere: the fewest that do.

Rows that share their first cell are taken together. Where what stands behind it may stay, one edit
moves them all; else the cell stays, and the next ones are looked at; else it becomes the folder
that all have in common. What no cell can say alone for all who share it is refused.
"""

from __future__ import annotations

import hashlib
import os
import random
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from urllib.parse import quote

from blake3 import blake3

from fascis.documents.learned.reading import Followed, Piece
from fascis.documents.learned.spelling import encoded
from fascis.documents.learned.tables import Cell, Contents, Table, Unreadable

_SHARED = "What is to lead to different places stands in one place of it."


@dataclass(slots=True)
class _Way:
    """One row: its cells that are not looked at yet, and what they give, and are to give."""

    row: int
    cells: Sequence[tuple[Cell, str, Piece]]
    old: str
    new: str
    at: int = 0

    @property
    def cell(self) -> Cell:
        return self.cells[self.at][0]

    @property
    def text(self) -> str:
        return self.cells[self.at][1]

    @property
    def piece(self) -> Piece:
        return self.cells[self.at][2]

    @property
    def is_last(self) -> bool:
        return self.at + 1 == len(self.cells)

    def core(self) -> str:
        """What the cell gives of the path."""
        return self.text.strip("/") if self.at else (self.text.rstrip("/") or "/")

    def tail(self) -> str:
        """What stands behind it, with what parts them."""
        core = self.core()
        if self.piece.ending and self.at:
            core = "." + core.removeprefix(".")
        return self.old[len(core) :]

    def gone_on(self, core: str) -> _Way | None:
        """With this cell saying ``core``; None where it cannot."""
        rest = self.new.removeprefix(core)
        if rest == self.new or self.is_last:
            return None
        behind = self.cells[self.at + 1][2]
        if behind.ending:
            if not rest.startswith("."):
                return None
        elif rest.startswith("/"):
            rest = rest[1:]
        elif core != "/":
            return None
        old = self.tail()
        old = old if behind.ending else old.removeprefix("/")
        return _Way(self.row, self.cells, old, rest, self.at + 1)


class Changes:
    """The edits that make rows of a reading lead elsewhere.

    Raises:
        Unreadable: the document cannot say so.
    """

    def __init__(self, followed: Followed, drives: Mapping[str, str] | None = None) -> None:
        self._followed, self._drives = followed, drives or {}
        self.edits: dict[Cell, str] = {}
        # Cells that must say what they say.
        self._pinned: set[Cell] = set()

    def make(self, wanted: Mapping[int, str]) -> dict[Cell, str]:
        """The edits for some rows; all others lead where they did.

        Args:
            wanted: row → its path from now on, as the reading gives it.
        """
        ways: list[_Way] = []
        for row, path in enumerate(self._followed.paths):
            if path is not None:
                cells = self._followed.cells(row)
                ways.append(_Way(row, cells, path, wanted.get(row, path)))
        self._solve(ways)
        return self.edits

    def _solve(self, ways: Iterable[_Way]) -> None:
        groups: dict[Cell, list[_Way]] = {}
        for way in ways:
            groups.setdefault(way.cell, []).append(way)
        for cell, group in groups.items():
            self._group(cell, group)

    def _group(self, cell: Cell, group: list[_Way]) -> None:
        first = group[0]
        if all(way.old == way.new for way in group):
            self._pin(cell)
            # Whatever stands behind it is somebody's too.
            self._solve([w for way in group if (w := way.gone_on(way.core()))])
            return
        if (core := _one_edit(group)) is not None and not first.piece.drive:
            self._say(cell, core, first)
            self._solve([w for way in group if (w := _stays(way))])
            return
        same = [way.gone_on(first.core()) for way in group]
        if all(same):
            self._pin(cell)
            self._solve([way for way in same if way])
            return
        core = self._other_drive(group) if first.piece.drive else _common(group)
        following = [way.gone_on(core) for way in group] if core else []
        if not core or not all(following):
            raise Unreadable(_SHARED)
        self._say(cell, core, first)
        self._solve([way for way in following if way])

    def _other_drive(self, group: list[_Way]) -> str | None:
        """Where another drive is mounted, on which all of them lie from now on."""
        mounts = {m for m in self._drives.values() if all(w.new.startswith(m + "/") for w in group)}
        return max(mounts, key=len, default=None)

    def _pin(self, cell: Cell) -> None:
        if cell in self.edits:
            raise Unreadable(_SHARED)
        self._pinned.add(cell)

    def _say(self, cell: Cell, core: str, way: _Way) -> None:
        raw, mode = self._followed.raw(cell), way.piece.mode
        value = self._identity(core, raw) if way.piece.drive else encoded(core, raw, mode)
        if value is None or (not core.strip("/") and core != "/"):
            raise Unreadable("A new path cannot be written as the old one is.")
        if value == raw:
            self._pin(cell)
            return
        if cell in self._pinned or self.edits.get(cell, value) != value:
            raise Unreadable(_SHARED)
        self.edits[cell] = value

    def _identity(self, mount: str, like: str) -> str | None:
        """What identifies a drive in the way in which another is identified."""
        known = [name for name, where in self._drives.items() if where == mount]
        alike = [name for name in known if _looks(name) == _looks(like)]
        return alike[0] if len(alike) == 1 else None


def _looks(name: str) -> tuple[int, int]:
    return len(name) if "-" in name else 0, name.count("-")


def _stays(way: _Way) -> _Way | None:
    """What stands behind a cell that changed, and stays."""
    if way.is_last:
        return None
    rest = way.tail()
    behind = way.cells[way.at + 1][2]
    rest = rest if behind.ending else rest.removeprefix("/")
    return _Way(way.row, way.cells, rest, rest, way.at + 1)


def _one_edit(group: list[_Way]) -> str | None:
    """What a cell says so that all behind it may stay; None where they differ."""
    found: str | None = None
    for way in group:
        tail = way.tail()
        if not way.new.endswith(tail):
            return None
        core = way.new[: len(way.new) - len(tail)] if tail else way.new
        if not way.at and not core and tail.startswith("/"):
            core = "/"
        if found is not None and core != found:
            return None
        found = core
    return found or None


def _common(group: list[_Way]) -> str | None:
    """The folder that all have in common from now on."""
    if any(way.is_last for way in group):
        return None
    folders = [way.new.rpartition("/")[0] for way in group]
    if not all(folders):
        return None
    try:
        found = os.path.commonpath(folders)
    except ValueError:
        return None
    # With nothing in common but the root they would need a place of their own.
    return found if found.strip("/") else None


# -- copies of paths -------------------------------------------------------------------------------

Image = Callable[[str], str]

_IMAGES: dict[str, Image] = {
    "same": str,
    "lower": str.lower,
    "upper": str.upper,
    "reversed": lambda p: p[::-1],
    "url": lambda p: "file://" + quote(p),
    "percent": quote,
    "backslashes": lambda p: p.replace("/", "\\"),
    "lower url": lambda p: ("file://" + quote(p)).lower(),
    "md5": lambda p: hashlib.md5(p.encode("utf-8", "surrogateescape")).hexdigest(),
    "sha1": lambda p: hashlib.sha1(p.encode("utf-8", "surrogateescape")).hexdigest(),
    "sha256": lambda p: hashlib.sha256(p.encode("utf-8", "surrogateescape")).hexdigest(),
    "blake3": lambda p: blake3(p.encode("utf-8", "surrogateescape")).hexdigest(),
    "MD5": lambda p: hashlib.md5(p.encode("utf-8", "surrogateescape")).hexdigest().upper(),
    "SHA1": lambda p: hashlib.sha1(p.encode("utf-8", "surrogateescape")).hexdigest().upper(),
}
_PARTS: dict[str, Image] = {
    "path": str,
    "folder": lambda p: p.rpartition("/")[0],
    "folder/": lambda p: p.rpartition("/")[0] + "/",
}
_TRIED, _FOLLOWS, _HALF = 60, 0.99, 0.5


@dataclass(frozen=True, slots=True)
class Copy:
    """A column that says again what a reading gives: of which part, and how."""

    table: str
    column: str
    part: str
    image: str

    def of(self, path: str) -> str:
        """What it says of a path."""
        return _IMAGES[self.image](_PARTS[self.part](path))


@dataclass(slots=True)
class Copies:
    """What of a table follows its paths.

    Attributes:
        doubtful: columns that do so in about half of the rows: nothing is changed then.
        left: columns that do so in a few: what was once.
    """

    follow: list[Copy] = field(default_factory=list)
    doubtful: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)


def copies_of(contents: Contents, followed: Followed, used: set[tuple[str, str]]) -> Copies:
    """Looks for columns, of the rows that a reading is of, that say its paths again.

    Args:
        used: ``(table, column)`` of all readings: these are no copies.
    """
    found = Copies()
    table = followed.table
    rows = [row for row, path in enumerate(followed.paths) if path]
    some = sorted(random.Random(3).sample(rows, min(len(rows), _TRIED)))
    paths = [followed.paths[row] or "" for row in some]
    for name in table.columns():
        if (table.name, name) in used:
            continue
        texts = table.column(name).some(some)
        copy, share = _best_copy(table, name, texts, paths)
        if copy is None:
            continue
        if share >= _FOLLOWS and _follows_everywhere(copy, table, followed, rows):
            found.follow.append(copy)
        elif (share >= _HALF and copy.image != "same") or share >= _FOLLOWS:
            found.doubtful.append(name)
        elif share:
            found.left.append(name)
    return found


def _best_copy(
    table: Table, column: str, texts: Sequence[str | None], paths: Sequence[str]
) -> tuple[Copy | None, float]:
    best: Copy | None = None
    most = 0
    for part in _PARTS:
        for image in _IMAGES:
            copy = Copy(table.name, column, part, image)
            count = sum(
                text is not None and text == copy.of(path)
                for text, path in zip(texts, paths, strict=True)
            )
            if count > most:
                best, most = copy, count
    return best, most / max(len(paths), 1)


def _follows_everywhere(copy: Copy, table: Table, followed: Followed, rows: Sequence[int]) -> bool:
    texts = table.column(copy.column).all()
    same = sum(texts[row] == copy.of(followed.paths[row] or "") for row in rows)
    return same >= _FOLLOWS * len(rows)


def copy_edits(
    copies: Iterable[Copy], table: Table, followed: Followed, wanted: Mapping[int, str]
) -> dict[Cell, str]:
    """The edits by which copies of paths follow these."""
    edits: dict[Cell, str] = {}
    for copy in copies:
        texts = table.column(copy.column).all()
        for row, path in wanted.items():
            if texts[row] == copy.of(followed.paths[row] or ""):
                edits[Cell(table.name, copy.column, row)] = copy.of(path)
    return edits


def used_columns(followed: Followed) -> set[tuple[str, str]]:
    """``(table, column)`` of the cells of a reading."""
    row = next((n for n, path in enumerate(followed.paths) if path), None)
    if row is None:
        return set()
    return {(cell.table, cell.column) for cell, *_ in followed.cells(row)}
