"""A reading: where the rows of a table keep the pieces of a path, and the resulting paths."""

from __future__ import annotations

import os
import posixpath
from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import repeat
from typing import Any

from msgspec import Struct, field

from fascis.documents.learned.existing import Existing
from fascis.documents.learned.spelling import Mode, decoded
from fascis.documents.learned.tables import NO_ROW, Cell, Contents, Join, Table, Unreadable
from fascis.words.speech import tr

_MOST_TREE = 64


class Piece(Struct, frozen=True):
    """One piece of a path.

    Attributes:
        hops: the names of the joins from a row to the row that has it.
        column: its column there.
        tree: the join by which that row lies in others of its table, whose pieces come first.
        row: the one row of ``table`` that has it, for a common piece.
        table: that table.
        ending: it follows a dot, not a slash.
        drive: it identifies a drive, and means its mount point.
    """

    hops: tuple[str, ...]
    column: str
    mode: Mode = Mode.PLAIN
    tree: str = ""
    row: int = NO_ROW
    table: str = ""
    ending: bool = False
    drive: bool = False

    def as_json(self) -> dict[str, Any]:
        """The values that differ from the defaults."""
        said: dict[str, Any] = {"hops": list(self.hops), "column": self.column, "mode": self.mode}
        for name in ("tree", "table", "ending", "drive"):
            if value := getattr(self, name):
                said[name] = value
        if self.row != NO_ROW:
            said["row"] = self.row
        return said

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> Piece:
        """From JSON."""
        return cls(
            tuple(map(str, said["hops"])),
            str(said["column"]),
            Mode(said["mode"]),
            str(said.get("tree", "")),
            int(said.get("row", NO_ROW)),
            str(said.get("table", "")),
            bool(said.get("ending")),
            bool(said.get("drive")),
        )


class Reading(Struct, frozen=True):
    """Where a table keeps its paths, from left to right.

    Attributes:
        from_folder: the paths count from the document's own folder.
    """

    table: str
    pieces: tuple[Piece, ...]
    from_folder: bool = False

    def as_json(self) -> dict[str, Any]:
        """As it is stored."""
        return {
            "table": self.table,
            "from_folder": self.from_folder,
            "pieces": [piece.as_json() for piece in self.pieces],
        }

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> Reading:
        """As it was stored."""
        pieces = tuple(Piece.from_json(one) for one in said["pieces"])
        return cls(str(said["table"]), pieces, bool(said["from_folder"]))


class Evidence(Struct):
    """The result of a reading.

    Attributes:
        values: rows with a path.
        found: those of them that lead to existing files.
        files: the number of different files.
        dead: paths that lead nowhere, the first thousand.
        outside: those of them outside the common folder of all others.
        common: that folder.
    """

    values: int = 0
    found: int = 0
    files: int = 0
    dead: list[str] = field(default_factory=list)
    outside: int = 0
    common: str = ""


class Level(Struct, frozen=True):
    """One piece of every row's path.

    Attributes:
        where: for every row, the row of ``table`` with the piece, or ``NO_ROW``; None if the row
            itself has it.
        texts: the pieces, by the rows of ``table``.
    """

    table: Table
    piece: Piece
    where: Sequence[int] | None
    texts: Sequence[str | None]

    def text(self, row: int) -> str | None:
        """The piece of a row."""
        at = row if self.where is None else self.where[row]
        return None if at == NO_ROW else self.texts[at]

    def cell(self, row: int) -> Cell:
        """Its cell."""
        at = row if self.where is None else self.where[row]
        return Cell(self.table.name, self.piece.column, at)


class Followed:
    """A reading applied to one document: the path of every row, and the cells that give it.

    Raises:
        Unreadable: the document has no such tables, columns or joins.
    """

    def __init__(
        self, contents: Contents, reading: Reading, drives: Mapping[str, str] | None = None
    ) -> None:
        self.reading = reading
        self._drives = drives or {}
        self._tables = {table.name: table for table in contents.tables()}
        if reading.table not in self._tables:
            raise Unreadable(tr("It has no {table}.", table=reading.table))
        self.table = self._tables[reading.table]
        self.levels = [level for piece in reading.pieces for level in self._levels(piece)]

    def raw(self, cell: Cell) -> str:
        """The content of a cell."""
        return self._tables[cell.table].column(cell.column).some([cell.row])[0] or ""

    def paths(self) -> Iterator[str | None]:
        """The path of every row, in order; None if there is none."""
        levels = self.levels
        # The piece in the row itself comes last, and differs; the others are shared.
        shared = [level for level in levels if level.where is not None]
        own = levels[len(shared) :]
        plain = len(own) == 1 and not own[0].piece.ending and levels[: len(shared)] == shared
        first = _first_of(shared, len(self.table)) if plain else None
        if first is None:
            for row in range(len(self.table)):
                yield self.path(row)
            return
        # The pieces before the name, by the row to which the first common join leads.
        known: dict[int, str] = {}
        needs_slash = not self.reading.from_folder
        for row, (at, name) in enumerate(zip(first, own[0].texts, strict=False)):
            if not name:
                yield None
                continue
            before = known.get(at)
            if before is None:
                pieces = [level.text(row) for level in shared]
                before = joined(pieces, [False] * len(pieces)) or ""
                before = known[at] = before and before.rstrip("/") + "/"
            if before:
                name = before + (name.strip("/") if "/" in name else name)
            yield None if needs_slash and name[0] != "/" else name

    def path(self, row: int) -> str | None:
        """The path of one row."""
        pieces = [level.text(row) for level in self.levels]
        endings = [level.piece.ending for level in self.levels]
        name = next((p for p, e in zip(pieces[::-1], endings[::-1], strict=True) if not e), None)
        if not name:
            return None
        path = joined(pieces, endings)
        return path if path and (self.reading.from_folder or path.startswith("/")) else None

    def used(self) -> set[tuple[str, str]]:
        """``(table, column)`` of the cells of its paths."""
        return {(level.table.name, level.piece.column) for level in self.levels}

    def evidence(self, existing: Existing) -> Evidence:
        """Where the paths lead."""
        found = Evidence()
        files: set[int] = set()
        dead: list[str] = []
        folders: set[str] = set()
        relative = self.reading.from_folder
        find = existing.folder_of
        for path in self.paths():
            if path is None:
                continue
            found.values += 1
            whole = absolute(path, existing.folder, relative)
            folder = None if whole is None else find(whole)
            if folder is not None:
                found.found += 1
                # Counted, not stored: there may be a million.
                files.add(hash(whole))
                folders.add(folder)
            else:
                dead.append(whole or path)
        found.files = len(files)
        found.common = os.path.commonpath(folders) if folders else ""
        inside = found.common.rstrip("/") + "/"
        found.outside = sum(not path.startswith(inside) for path in dead)
        found.dead = dead[:1000]
        return found

    # -- levels ------------------------------------------------------------------------------------

    def _levels(self, piece: Piece) -> Iterator[Level]:
        table = self.table
        where: Sequence[int] | None = None
        if piece.row != NO_ROW:
            table = self._tables.get(piece.table, table)
            if table.name != piece.table or piece.row >= len(table):
                raise Unreadable(tr("It has no {table}.", table=piece.table))
            where = _Same(piece.row)
        for hop in piece.hops:
            join = _join_of(table, hop)
            rows = join.all()
            where = rows if where is None else _Through(where, rows)
            table = join.to
        if piece.column not in table.columns():
            raise Unreadable(tr("It has no {name}.{column}.", name=table.name, column=piece.column))
        column = table.column(piece.column)
        if piece.row != NO_ROW:
            text = self._text(piece, column.some([piece.row])[0])
            yield Level(table, piece, where, _OneText(piece.row, text))
            return
        texts = _texts(column.all(), lambda value: self._text(piece, value), piece)
        if not piece.tree:
            yield Level(table, piece, where, texts)
            return
        for up in _ways_up(_join_of(table, piece.tree).all()):
            yield Level(table, piece, up if where is None else _Through(where, up), texts)

    def _text(self, piece: Piece, value: str | None) -> str | None:
        """The piece for a value."""
        if value is None:
            return None
        return self._drives.get(value) if piece.drive else decoded(value, piece.mode)


class _Same(Sequence[int]):
    """One row for all."""

    def __init__(self, row: int) -> None:
        self._row = row

    def __getitem__(self, _row: object, /) -> Any:
        return self._row

    def __len__(self) -> int:
        return 1


class _OneText(Sequence["str | None"]):
    """The one text common to all rows."""

    def __init__(self, row: int, text: str | None) -> None:
        self._row, self._text = row, text

    def __getitem__(self, row: Any, /) -> Any:
        return self._text if row == self._row else None

    def __len__(self) -> int:
        return self._row + 1


def _texts(
    values: Sequence[str | None], text: Callable[[str | None], str | None], piece: Piece
) -> Sequence[str | None]:
    """The pieces for values; the values themselves if written plainly."""
    if piece.mode is Mode.PLAIN and not piece.drive:
        return values
    return [text(value) for value in values]


class _Through(Sequence[int]):
    """The rows to which a second join leads from those of a first one; found one by one."""

    def __init__(self, first: Sequence[int], rows: Sequence[int]) -> None:
        self.first: Sequence[int] = first
        self._rest: tuple[Sequence[int], ...] = (rows,)
        if isinstance(first, _Through):
            self.first, self._rest = first.first, (*first._rest, rows)

    def __getitem__(self, row: Any, /) -> Any:
        at = self.first[row]
        for rows in self._rest:
            if at == NO_ROW:
                return NO_ROW
            at = rows[at]
        return at

    def __len__(self) -> int:
        return len(self.first)


def _first_of(levels: Sequence[Level], count: int) -> Iterable[int] | None:
    """The row to which the first common join of all levels leads.

    None if they have none: their pieces do not depend on one row then.
    """
    firsts = [w.first if isinstance(w, _Through) else w for w in (x.where for x in levels)]
    joins = [f for f in firsts if f is not None and not isinstance(f, _Same)]
    if not joins:
        return repeat(0, count)
    return joins[0] if all(one is joins[0] for one in joins) else None


def _ways_up(up: Sequence[int]) -> list[array[int]]:
    """For rows that lie in each other: for each the topmost, the next below it, and so on."""
    ways: list[list[int]] = []
    for row in range(len(up)):
        way = [row]
        while (above := up[way[-1]]) != NO_ROW and above not in way:
            way.append(above)
            if len(way) > _MOST_TREE:
                raise Unreadable(tr("Its folders lie in each other too deeply."))
        ways.append(way[::-1])
    deepest = max(map(len, ways), default=0)
    return [
        array("q", (way[depth] if depth < len(way) else NO_ROW for way in ways))
        for depth in range(deepest)
    ]


def joined(pieces: Sequence[str | None], endings: Sequence[bool]) -> str | None:
    """Pieces as one path; endings follow a dot."""
    path = ""
    for piece, ending in zip(pieces, endings, strict=True):
        if not piece:
            continue
        if ending:
            path += piece if piece.startswith(".") else "." + piece
        elif not path:
            path = piece if piece == "/" else piece.rstrip("/")
        else:
            path = path.rstrip("/") + "/" + piece.strip("/")
    return path or None


def absolute(path: str, folder: str, from_folder: bool) -> str | None:
    """The absolute path; None if its base is not known."""
    if path.startswith("/"):
        return posixpath.normpath(path) if "//" in path or "/." in path else path
    if not from_folder:
        return None
    return posixpath.normpath(f"{folder.rstrip('/')}/{path}")


def _join_of(table: Table, name: str) -> Join:
    found = next((join for join in table.joins() if join.name == name), None)
    if found is None:
        raise Unreadable(
            tr(
                "Its {name} lead no more to what they led to ({name_2}).",
                name=table.name,
                name_2=name,
            )
        )
    return found
