"""Which cells change so that paths lead elsewhere: the fewest that do.

Rows that share their first cell are taken together. Where what stands behind it may stay, one edit
moves them all; else the cell stays, and the next ones are looked at; else it becomes the folder
that all have in common. What no cell can say alone for all who share it is refused.
"""

from __future__ import annotations

import hashlib
import os
import random
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from urllib.parse import quote

from blake3 import blake3

from fascis.documents.learned.reading import Followed, Level, Piece
from fascis.documents.learned.spelling import encoded
from fascis.documents.learned.tables import NO_ROW, Cell, Contents, Table, Unreadable

Wanted = Callable[[int, str], str]
"""Where a row is to lead, by its number and where it leads now."""

_SHARED = "What is to lead to different places stands in one place of it."


@dataclass(slots=True)
class _Group:
    """Rows that share a cell, and what it is to say.

    Attributes:
        core: what it gives of their paths now.
        one: what it would say so that all behind it may stay; None where the rows differ.
        stays: it may stay as it is, and what is behind it changes.
        folder: what all have in common from now on, up to the last slash.
    """

    core: str
    piece: Piece
    one: str | None
    stays: bool = True
    changed: bool = False
    folder: str | None = None

    def take(self, old: str, new: str) -> None:
        """One row more.

        Args:
            old: what it gives from here on; ``new``: and is to give.
        """
        self.changed = self.changed or old != new
        if self.one is not None and self.one != _says(self.core, old, new):
            self.one = None
        if self.stays and _behind(new, self.core) is None:
            self.stays = False
        folder = new.rpartition("/")[0]
        if self.folder is None:
            self.folder = folder
        elif self.folder != folder and not new.startswith(self.folder + "/"):
            self.folder = _common(self.folder, folder)


class Changes:
    """The edits that make rows of a reading lead elsewhere.

    Shared cells are not looked after here: whoever makes the edits reads all rows again.

    Raises:
        Unreadable: the document cannot say so.
    """

    def __init__(self, followed: Followed, drives: Mapping[str, str] | None = None) -> None:
        self._followed, self._drives = followed, drives or {}
        self.edits: dict[Cell, str] = {}

    def make(self, wanted: Wanted) -> dict[Cell, str]:
        """The edits by which every row leads where it is wanted to."""

        def whole() -> Iterator[tuple[int, str, str]]:
            for row, path in enumerate(self._followed.paths()):
                if path is not None:
                    yield row, path, wanted(row, path)

        # Gone through twice, not kept: there may be a million rows.
        left: Callable[[], Iterable[tuple[int, str, str]]] = whole
        for level in self._followed.levels:
            groups = self._groups(level, left())
            for at, group in groups.items():
                self._decide(group, Cell(level.table.name, level.piece.column, at))
            rest = list(self._following(level, groups, left()))
            if not rest:
                return self.edits

            def behind(rest: list[tuple[int, str, str]] = rest) -> list[tuple[int, str, str]]:
                return rest

            left = behind
        raise Unreadable(_SHARED)

    def _groups(self, level: Level, left: Iterable[tuple[int, str, str]]) -> dict[int, _Group]:
        groups: dict[int, _Group] = {}
        where, texts, piece = level.where, level.texts, level.piece
        for row, old, new in left:
            at = row if where is None else where[row]
            text = None if at == NO_ROW else texts[at]
            if not text:
                continue
            group = groups.get(at)
            if group is None:
                core = _core(text, piece, old)
                group = groups[at] = _Group(core, piece, _says(core, old, new))
            group.take(old, new)
        return groups

    def _decide(self, group: _Group, cell: Cell) -> None:
        """Notes what a cell says from now on; ``group.core`` is what was of the new paths then."""
        if not group.changed:
            return
        if group.one is not None and not group.piece.drive:
            self._say(cell, group.one, group.piece)
            return
        if group.stays:
            return
        group.one = None
        folder = group.folder if not group.piece.drive else self._other_drive(group.folder or "")
        # With nothing in common but the root they would need a place of their own.
        if not folder or not folder.strip("/"):
            raise Unreadable(_SHARED)
        group.folder = folder
        self._say(cell, folder, group.piece)

    @staticmethod
    def _following(
        level: Level, groups: dict[int, _Group], left: Iterable[tuple[int, str, str]]
    ) -> Iterator[tuple[int, str, str]]:
        """What is left behind this level, of rows of which something is to change still."""
        where = level.where
        for row, old, new in left:
            group = groups.get(row if where is None else where[row])
            if group is None:
                if old != new:
                    yield row, old, new
                continue
            if not group.changed or group.one is not None:
                # All behind it may stay.
                continue
            behind = _behind(old, group.core)
            rest = _behind(new, group.core if group.stays else group.folder or "")
            if behind is None or rest is None:
                raise Unreadable(_SHARED)
            yield row, behind, rest

    def _other_drive(self, folder: str) -> str | None:
        """Where another drive is mounted, on which a folder lies."""
        inside = folder + "/"
        mounts = {m for m in self._drives.values() if inside.startswith(m.rstrip("/") + "/")}
        return max(mounts, key=len, default=None)

    def _say(self, cell: Cell, core: str, piece: Piece) -> None:
        raw, mode = self._followed.raw(cell), piece.mode
        value = self._identity(core, raw) if piece.drive else encoded(core, raw, mode)
        if value is None or not core:
            raise Unreadable("A new path cannot be written as the old one is.")
        if value == raw:
            return
        if self.edits.setdefault(cell, value) != value:
            raise Unreadable(_SHARED)

    def _identity(self, mount: str, like: str) -> str | None:
        """What identifies a drive in the way in which another is identified."""
        known = [name for name, where in self._drives.items() if where == mount]
        alike = [name for name in known if _looks(name) == _looks(like)]
        return alike[0] if len(alike) == 1 else None


def _looks(name: str) -> tuple[int, int]:
    return len(name) if "-" in name else 0, name.count("-")


def _core(text: str, piece: Piece, old: str) -> str:
    """What a piece gives of the path that it begins."""
    if piece.ending:
        return text.removeprefix(".")
    core = text.rstrip("/") or "/"
    return core if old.startswith(core) else text.strip("/")


def _behind(path: str, core: str) -> str | None:
    """What stands behind a piece; None where it is not what the path begins with.

    A piece may be followed by a slash, or by the dot of an ending.
    """
    if not path.startswith(core):
        return None
    rest = path[len(core) :]
    if not rest:
        return ""
    if core.endswith("/"):
        return rest
    return rest[1:] if rest[0] in "/." else None


def _says(core: str, old: str, new: str) -> str | None:
    """What a piece would say so that all behind it stays; None where it cannot."""
    tail = old[len(core) :]
    if not new.endswith(tail):
        return None
    found = new[: len(new) - len(tail)] if tail else new
    if not found and tail.startswith("/"):
        return "/"
    return found or None


def _common(one: str, other: str) -> str | None:
    try:
        return os.path.commonpath((one, other))
    except ValueError:
        return ""


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
    count = len(table)
    tried = random.Random(3).sample(range(count), min(count, 4 * _TRIED))
    known = {row: path for row in sorted(tried) if (path := followed.path(row))}
    some = list(known)[:_TRIED]
    paths = [known[row] for row in some]
    for name in table.columns():
        if (table.name, name) in used:
            continue
        texts = table.column(name).some(some)
        copy, share = _best_copy(table, name, texts, paths)
        if copy is None:
            continue
        if share >= _FOLLOWS and _follows_everywhere(copy, table, followed):
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


def _follows_everywhere(copy: Copy, table: Table, followed: Followed) -> bool:
    values = same = 0
    for text, path in zip(table.column(copy.column).all(), followed.paths(), strict=True):
        if path:
            values += 1
            same += text == copy.of(path)
    return same >= _FOLLOWS * values


def copy_edits(
    copies: Iterable[Copy], table: Table, followed: Followed, wanted: Wanted
) -> dict[Cell, str]:
    """The edits by which copies of paths follow these."""
    edits: dict[Cell, str] = {}
    for copy in copies:
        texts = table.column(copy.column).all()
        for row, path in enumerate(followed.paths()):
            if path and (new := wanted(row, path)) != path and texts[row] == copy.of(path):
                edits[Cell(table.name, copy.column, row)] = copy.of(new)
    return edits
