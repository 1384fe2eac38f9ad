"""A reading: where the rows of a table keep the pieces of a path, and what that gives."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from fascis.documents.learned.existing import Existing
from fascis.documents.learned.spelling import Mode, decoded
from fascis.documents.learned.tables import NO_ROW, Cell, Contents, Join, Table, Unreadable

_MOST_TREE = 64


@dataclass(frozen=True, slots=True)
class Piece:
    """One piece of a path.

    Attributes:
        hops: the names of the joins that lead from a row to the one that has it.
        column: where it stands in that.
        tree: the join by which that row lies in others of its table, whose pieces stand before it.
        row: the one row of ``table`` in which it stands, for a piece that all have in common.
        table: that table.
        ending: it stands after a dot, not after a slash.
        drive: it identifies a drive, and means where that is mounted.
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
        """What differs from nothing."""
        said: dict[str, Any] = {"hops": list(self.hops), "column": self.column, "mode": self.mode}
        for name in ("tree", "table", "ending", "drive"):
            if value := getattr(self, name):
                said[name] = value
        if self.row != NO_ROW:
            said["row"] = self.row
        return said

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> Piece:
        """As it was written."""
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


@dataclass(frozen=True, slots=True)
class Reading:
    """Where a table keeps its paths, from the left to the right.

    Attributes:
        from_folder: what the pieces give counts from the document's own folder.
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


@dataclass(slots=True)
class Evidence:
    """What a reading gives.

    Attributes:
        values: rows in which something stands.
        found: of these, that lead to files that exist.
        files: different files that they lead to.
        dead: paths that lead nowhere, the first thousand.
        outside: of those, that do not lie in the folder which all others have in common.
    """

    values: int = 0
    found: int = 0
    files: int = 0
    dead: list[str] = field(default_factory=list)
    outside: int = 0
    common: str = ""


class Followed:
    """A reading of one document: the path of every row, and the cells that give it.

    Raises:
        Unreadable: the document has no such tables, columns or joins.
    """

    def __init__(
        self, contents: Contents, reading: Reading, drives: Mapping[str, str] | None = None
    ) -> None:
        self.reading = reading
        self._drives = drives or {}
        tables = {table.name: table for table in contents.tables()}
        if reading.table not in tables:
            raise Unreadable(f"It has no {reading.table}.")
        self.table = tables[reading.table]
        self._tables = tables
        self._slots = [_Slot(tables, self.table, piece, self._drives) for piece in reading.pieces]

    @cached_property
    def paths(self) -> list[str | None]:
        """The path of every row; None where there is none."""
        slots = self._slots
        relative = self.reading.from_folder
        if len(slots) == 1 and not slots[0].piece.tree:
            return [_whole(text, relative) for text in slots[0].texts]
        columns = [slot.texts for slot in slots]
        last = columns[-1] if not slots[-1].piece.ending else columns[-2]
        endings = [slot.piece.ending for slot in slots]
        return [
            _whole(_joined(pieces, endings), relative) if name else None
            for name, pieces in zip(last, zip(*columns, strict=True), strict=True)
        ]

    def cells(self, row: int) -> list[tuple[Cell, str, Piece]]:
        """The cells of a row's path from the left, each with its piece of it; empty ones not."""
        return [found for slot in self._slots for found in slot.cells(row)]

    def raw(self, cell: Cell) -> str:
        """What stands in a cell."""
        return self._tables[cell.table].column(cell.column).some([cell.row])[0] or ""

    def head(self, row: int) -> tuple[Cell, str, Piece] | None:
        """The first of these."""
        return next((found for slot in self._slots for found in slot.cells(row)), None)

    def evidence(self, existing: Existing) -> Evidence:
        """What the paths lead to."""
        found = Evidence()
        files: set[str] = set()
        dead: list[str] = []
        folders: set[str] = set()
        for path in self.paths:
            if path is None:
                continue
            found.values += 1
            whole = absolute(path, existing.folder, self.reading.from_folder)
            if whole is not None and existing.is_there(whole):
                found.found += 1
                files.add(whole)
            else:
                dead.append(whole or path)
        folders = {posixpath.dirname(path) for path in files}
        found.files = len(files)
        found.common = os.path.commonpath(folders) if folders else ""
        inside = found.common.rstrip("/") + "/"
        found.outside = sum(not path.startswith(inside) for path in dead)
        found.dead = dead[:1000]
        return found


def _whole(text: str | None, relative: bool) -> str | None:
    """A path; None for what is none, or counts from nowhere that is known."""
    if not text or (not relative and not text.startswith("/")):
        return None
    return text if text.strip("/") else None


def _joined(pieces: Sequence[str | None], endings: Sequence[bool]) -> str | None:
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
    """Where a path leads; None for one that counts from somewhere unknown."""
    if path.startswith("/"):
        return posixpath.normpath(path) if "//" in path or "/." in path else path
    if not from_folder:
        return None
    return posixpath.normpath(f"{folder.rstrip('/')}/{path}")


class _Slot:
    """A piece, with the columns and joins that it needs."""

    def __init__(
        self, tables: Mapping[str, Table], table: Table, piece: Piece, drives: Mapping[str, str]
    ) -> None:
        self.piece, self._drives = piece, drives
        self._count = len(table)
        self._rows: Sequence[int] | None = None
        if piece.row != NO_ROW:
            table = tables.get(piece.table, table)
            if table.name != piece.table or piece.row >= len(table):
                raise Unreadable(f"It has no {piece.table}.")
        for hop in piece.hops:
            join = _join_of(table, hop)
            rows = join.all()
            if self._rows is None:
                self._rows = rows
            else:
                known = self._rows
                self._rows = [rows[r] if r != NO_ROW else NO_ROW for r in known]
            table = join.to
        if piece.column not in table.columns():
            raise Unreadable(f"It has no {table.name}.{piece.column}.")
        self._table = table
        self._column = table.column(piece.column)
        self._tree = _join_of(table, piece.tree).all() if piece.tree else None

    def text(self, value: str | None) -> str | None:
        """The piece that a value is."""
        if value is None:
            return None
        if self.piece.drive:
            return self._drives.get(value)
        return decoded(value, self.piece.mode)

    @cached_property
    def texts(self) -> Sequence[str | None]:
        """The piece of every row."""
        if self.piece.row != NO_ROW:
            text = self.text(self._column.some([self.piece.row])[0])
            return [text] * self._count
        here = [self.text(v) for v in self._column.all()]
        if self._tree is not None:
            here = self._along_tree(here)
        if self._rows is None:
            return here
        return [here[r] if r != NO_ROW else None for r in self._rows]

    def _along_tree(self, here: list[str | None]) -> list[str | None]:
        assert self._tree is not None
        known: dict[int, str | None] = {}
        for row in range(len(here)):
            way = self._way_up(row)
            above: str | None = None
            for n in reversed(way):
                if n not in known:
                    known[n] = _joined((above, here[n]), (False, False))
                above = known[n]
        return [known[row] for row in range(len(here))]

    def _way_up(self, row: int) -> list[int]:
        assert self._tree is not None
        way = [row]
        while (up := self._tree[way[-1]]) != NO_ROW and up not in way:
            way.append(up)
            if len(way) > _MOST_TREE:
                raise Unreadable("Its folders lie in each other too deeply.")
        return way

    def cells(self, row: int) -> Iterator[tuple[Cell, str, Piece]]:
        """The cells that give the piece of a row."""
        if self.piece.row != NO_ROW:
            there = self.piece.row
        else:
            there = row if self._rows is None else self._rows[row]
        if there == NO_ROW:
            return
        rows = [there] if self._tree is None else list(reversed(self._way_up(there)))
        values = self._column.all()
        for one in rows:
            text = self.text(values[one])
            if text:
                yield Cell(self._table.name, self.piece.column, one), text, self.piece


def _join_of(table: Table, name: str) -> Join:
    found = next((join for join in table.joins() if join.name == name), None)
    if found is None:
        raise Unreadable(f"Its {table.name} lead no more to what they led to ({name}).")
    return found
