"""The fewest cells that must change so that paths lead elsewhere.

Rows that share their first cell are handled together. If the rest of their paths can stay, one edit
moves them all. Otherwise the cell stays and the next ones are examined, or it becomes the folder
that all have in common. If one cell cannot be right for all rows that share it, the change is
refused.
"""

from __future__ import annotations

import hashlib
import os
import random
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from urllib.parse import quote

from blake3 import blake3
from msgspec import Struct, field

from fascis.documents.learned.reading import Followed, Level, Piece
from fascis.documents.learned.spelling import encoded
from fascis.documents.learned.tables import NO_ROW, Cell, Column, Table, Unreadable
from fascis.words.speech import tr

Paths = Sequence[str | None]
"""Where every row leads, or is to lead; None where it leads nowhere."""

_SHARED = tr("Paths that would lead to different places are in one place of it.")


class _Group(Struct):
    """Rows that share a cell, and its new value.

    Attributes:
        core: its present share of their paths.
        one: its new value if the rest can stay; None if the rows differ.
        stays: it can stay, and the rest changes.
        folder: the common part of the new paths, up to the last slash.
    """

    core: str
    piece: Piece
    one: str | None
    stays: bool = True
    changed: bool = False
    folder: str | None = None

    def look_closer(self, new: str) -> None:
        """Considers one more of the differing rows, with its new path."""
        if self.stays and _behind(new, self.core) is None:
            self.stays = False
        folder = new.rpartition("/")[0]
        if self.folder is None:
            self.folder = folder
        elif self.folder != folder and not new.startswith(self.folder + "/"):
            self.folder = _common(self.folder, folder)


# Rows still to be changed: the row, its present rest, and its new rest.
_Rows = Iterable[tuple[int, str, str]]


class Changes:
    """The edits that make rows of a reading lead elsewhere.

    Cells shared with other rows are not checked here: the caller reads all rows again.

    Raises:
        Unreadable: the document cannot say so.
    """

    def __init__(self, followed: Followed, drives: Mapping[str, str] | None = None) -> None:
        self._followed, self._drives = followed, drives or {}
        self.edits: dict[Cell, str] = {}

    def make(self, before: Paths, after: Paths) -> dict[Cell, str]:
        """The edits after which every row leads where it should."""

        def whole() -> _Rows:
            for row, (old, new) in enumerate(zip(before, after, strict=True)):
                if old is not None and new is not None:
                    yield row, old, new

        # Repeated, not stored: there may be a million rows.
        left: Callable[[], _Rows] = whole
        for level in self._followed.levels:
            if level.where is None and not level.piece.drive:
                rest = self._alone(level, left())
                if not rest:
                    return self.edits

                left = _again(rest)
            groups, loose = self._groups(level, left())
            differ = {at: g for at, g in groups.items() if g.changed and not self._is_one(g)}
            if differ:
                self._look_closer(level, differ, left())
            column = level.table.column(level.piece.column)
            for at, group in groups.items():
                if group.changed:
                    self._decide(group, Cell(level.table.name, level.piece.column, at), column)
            rest = list(self._following(level, groups, left())) if differ or loose else []
            if not rest:
                return self.edits
            left = _again(rest)
        raise Unreadable(_SHARED)

    def _alone(self, level: Level, left: _Rows) -> list[tuple[int, str, str]]:
        """Changes cells that no rows share, if one edit is enough; returns all other rows."""
        rest = []
        texts, piece = level.texts, level.piece
        table, name = level.table.name, piece.column
        column = level.table.column(name)
        for row, old, new in left:
            if old == new:
                continue
            text = texts[row]
            one = _says(_core(text, piece, old), old, new) if text else None
            if one is None:
                rest.append((row, old, new))
            else:
                self._say(Cell(table, name, row), one, piece, column)
        return rest

    @staticmethod
    def _is_one(group: _Group) -> bool:
        """True if one edit moves all rows that share a cell."""
        return group.one is not None and not group.piece.drive

    @staticmethod
    def _groups(level: Level, left: _Rows) -> tuple[dict[int, _Group], bool]:
        """Rows by the cell they share; True if some have none and must change."""
        groups: dict[int, _Group] = {}
        loose = False
        where, texts, piece = level.where, level.texts, level.piece
        for row, old, new in left:
            at = row if where is None else where[row]
            group = groups.get(at)
            if group is None:
                text = None if at == NO_ROW else texts[at]
                if not text:
                    loose = loose or old != new
                    continue
                core = _core(text, piece, old)
                group = groups[at] = _Group(core, piece, _says(core, old, new))
            group.changed = group.changed or old != new
            one = group.one
            # The most frequent case is tried first.
            if (
                one is not None
                and new != one + old[len(group.core) :]
                and one != _says(group.core, old, new)
            ):
                group.one = None
        return groups, loose

    @staticmethod
    def _look_closer(level: Level, groups: Mapping[int, _Group], left: _Rows) -> None:
        """The new value of a cell whose rows differ."""
        where = level.where
        for row, _, new in left:
            group = groups.get(row if where is None else where[row])
            if group is not None:
                group.look_closer(new)

    def _decide(self, group: _Group, cell: Cell, column: Column) -> None:
        """Records a cell's new value; ``group.core`` is then its share of the new paths."""
        if group.piece.drive:
            # It identifies a drive, and is not part of a path.
            group.one = None
        if group.one is not None:
            self._say(cell, group.one, group.piece, column)
            return
        if group.stays:
            return
        group.one = None
        folder = group.folder if not group.piece.drive else self._other_drive(group.folder or "")
        # Without a common part except the root they would need another column.
        if not folder or not folder.strip("/"):
            raise Unreadable(_SHARED)
        group.folder = folder
        self._say(cell, folder, group.piece, column)

    @staticmethod
    def _following(
        level: Level, groups: Mapping[int, _Group], left: _Rows
    ) -> Iterator[tuple[int, str, str]]:
        """The rest after this level, for rows that still need a change."""
        where = level.where
        for row, old, new in left:
            group = groups.get(row if where is None else where[row])
            if group is None:
                if old != new:
                    yield row, old, new
                continue
            if not group.changed or group.one is not None:
                # The rest can stay.
                continue
            behind = _behind(old, group.core)
            rest = _behind(new, group.core if group.stays else group.folder or "")
            if behind is None or rest is None:
                raise Unreadable(_SHARED)
            yield row, behind, rest

    def _other_drive(self, folder: str) -> str | None:
        """Where another drive is mounted that contains a folder."""
        inside = folder + "/"
        mounts = {m for m in self._drives.values() if inside.startswith(m.rstrip("/") + "/")}
        return max(mounts, key=len, default=None)

    def _say(self, cell: Cell, core: str, piece: Piece, column: Column) -> None:
        raw, mode = column.some([cell.row])[0] or "", piece.mode
        value = self._identity(core, raw) if piece.drive else encoded(core, raw, mode)
        if value is None or not core:
            raise Unreadable(tr("A new path cannot be written the way the old one is."))
        if value == raw:
            return
        if self.edits.setdefault(cell, value) != value:
            raise Unreadable(_SHARED)

    def _identity(self, mount: str, like: str) -> str | None:
        """The identity of a drive, in the same form as that of another."""
        known = [name for name, where in self._drives.items() if where == mount]
        alike = [name for name in known if _looks(name) == _looks(like)]
        return alike[0] if len(alike) == 1 else None


def _again(rows: list[tuple[int, str, str]]) -> Callable[[], _Rows]:
    """An iterable that can be repeated."""
    return lambda: rows


def _looks(name: str) -> tuple[int, int]:
    return len(name) if "-" in name else 0, name.count("-")


def _core(text: str, piece: Piece, old: str) -> str:
    """A piece's share of the path that it starts."""
    if piece.ending:
        return text.removeprefix(".")
    core = text.rstrip("/") or "/"
    return core if old.startswith(core) else text.strip("/")


def _behind(path: str, core: str) -> str | None:
    """The rest after a piece; None if the path does not start with it.

    A slash, or the dot of an ending, can follow a piece.
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
    """A piece's new value if the rest stays; None if impossible."""
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


class Copy(Struct, frozen=True):
    """A column that repeats a part of a reading's path, and how."""

    table: str
    column: str
    part: str
    image: str

    def of(self, path: str) -> str:
        """Its value for a path."""
        return _IMAGES[self.image](_PARTS[self.part](path))


class Copies(Struct):
    """Columns of a table that follow its paths.

    Attributes:
        doubtful: columns that follow in about half of the rows: then nothing is changed.
        left: columns that follow in a few rows: old values.
    """

    follow: list[Copy] = field(default_factory=list)
    doubtful: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)


def copies_of(followed: Followed, before: Paths, used: set[tuple[str, str]]) -> Copies:
    """Finds columns, in the rows of a reading, that repeat its paths.

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
        if share >= _FOLLOWS and _follows_everywhere(copy, table, before):
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


def _follows_everywhere(copy: Copy, table: Table, before: Paths) -> bool:
    values = same = 0
    for text, path in zip(table.column(copy.column).all(), before, strict=True):
        if path:
            values += 1
            same += text == copy.of(path)
    return same >= _FOLLOWS * values


def copy_edits(
    copies: Iterable[Copy], table: Table, before: Paths, after: Paths
) -> dict[Cell, str]:
    """The edits by which repeated values follow the paths."""
    edits: dict[Cell, str] = {}
    for copy in copies:
        texts = table.column(copy.column).all()
        for row, (path, new) in enumerate(zip(before, after, strict=True)):
            if path and new and new != path and texts[row] == copy.of(path):
                edits[Cell(table.name, copy.column, row)] = copy.of(new)
    return edits
