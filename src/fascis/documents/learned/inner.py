"""Documents in the cells of others: JSON, markup or pairs in a column, read as tables."""

from __future__ import annotations

import random
from bisect import bisect_left
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Protocol

from fascis.documents.learned.cell_text import CellJson, CellMarkup, CellPairs, CellReader
from fascis.documents.learned.tables import Cell, Contents, Table, TextTable, Unreadable
from fascis.documents.learned.text import Hole, filled
from fascis.words.speech import tr

# Separates the name of a column from those of the tables in it.
WITHIN = "→"
_TRIED, _LEAST, _NEARLY = 60, 3, 0.9


class Rewritable(Contents, Protocol):
    """A document that can be rewritten."""

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes | Path:
        """With some cells changed."""


class WithInner:
    """A document, with those in its cells.

    Args:
        only: names of the wanted tables; by default all.
    """

    def __init__(self, contents: Rewritable, only: Collection[str] | None = None) -> None:
        self._contents = contents
        self.container = contents.container
        self._inner: dict[str, _InColumn] = {}
        wanted = None if only is None else {n.partition(WITHIN)[0] for n in only if WITHIN in n}
        for table in contents.tables():
            for column in table.columns() if wanted != set() else ():
                name = f"{table.name}.{column}"
                if wanted is not None and name not in wanted:
                    continue
                if (reader := _reader_of(table, column)) is not None:
                    self._inner[name] = _InColumn(table, column, reader)

    def tables(self) -> Sequence[Table]:
        """Its own tables, then those in cells."""
        found: list[Table] = list(self._contents.tables())
        for inner in self._inner.values():
            found += inner.tables()
        return found

    def shape(self) -> bytes:
        """Its own shape: the contents of cells differ from row to row."""
        return self._contents.shape()

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes | Path:
        """With some cells changed; for a document in a cell, that cell."""
        return self._contents.rewritten(self.outer(edits))

    def outer(self, edits: Mapping[Cell, str]) -> dict[Cell, str]:
        """The cells of the document itself that change."""
        own = {cell: value for cell, value in edits.items() if WITHIN not in cell.table}
        for name, inner in self._inner.items():
            mine = {c: v for c, v in edits.items() if c.table.partition(WITHIN)[0] == name}
            for cell, value in inner.outer(mine).items():
                if own.setdefault(cell, value) != value:
                    raise Unreadable(tr("Two of its paths stand at one place."))
        return own


def _reader_of(table: Table, column: str) -> CellReader | None:
    """The reader for the texts of a column; None if they are plain values."""
    count = len(table)
    rows = sorted(random.Random(5).sample(range(count), min(count, _TRIED)))
    texts = [text for text in table.column(column).some(rows) if text]
    if len(texts) < _LEAST:
        return None
    prefix = f"{table.name}.{column}{WITHIN}"
    for reader in (CellJson(prefix), CellMarkup(prefix)):
        if sum(map(reader.is_one, texts)) >= _NEARLY * len(texts):
            return reader
    separator = CellPairs.separator_of(texts)
    return CellPairs(prefix, separator) if separator else None


class _InColumn:
    """The contents of one column's cells."""

    def __init__(self, table: Table, column: str, reader: CellReader) -> None:
        self._table, self._column, self._reader = table, column, reader
        self._top = reader.table("", table)
        # For every row of the top table, the row in whose cell it lies.
        self._rows: list[int] = []
        for row, text in enumerate(table.column(column).all()):
            if text and reader.is_one(text):
                self._rows.append(row)
                reader.read(text, self._top, self._top.add(row))
        reader.end()
        self._tables = reader.tables
        self._known_owners: dict[str, Sequence[int]] = {}

    def tables(self) -> Sequence[TextTable]:
        """Their tables."""
        return list(self._tables.values())

    def outer(self, edits: Mapping[Cell, str]) -> dict[Cell, str]:
        """Edits inside cells, as edits of these cells."""
        by_row: dict[int, list[tuple[Cell, str]]] = {}
        for cell, value in edits.items():
            by_row.setdefault(self._top_row(cell), []).append((cell, value))
        texts = self._table.column(self._column).all()
        found = {}
        for top, some in by_row.items():
            row = self._rows[top]
            text = texts[row] or ""
            holes = [self._hole(cell, value, top, text) for cell, value in some]
            found[Cell(self._table.name, self._column, row)] = filled(text, holes)
        return found

    def _hole(self, cell: Cell, value: str, top: int, text: str) -> Hole:
        """The position of a value in its text, and its new text.

        Raises:
            Unreadable: it does not stand where it was read, or cannot stand there.
        """
        column, row = self._tables[cell.table].column(cell.column), cell.row
        start, end, form = column.starts[row], column.ends[row], column.forms[row]
        if isinstance(self._reader, CellJson):
            was = column.values[row] or ""
            at = self._reader.found(text, was) or self._looked_for(cell, was, top, text)
            start, end = at
        return Hole(start, end, self._reader.spelled(value, text[start:end], form))

    def _looked_for(self, cell: Cell, value: str, top: int, text: str) -> tuple[int, int]:
        """The position of a value in JSON: that text is read once more."""
        assert isinstance(self._reader, CellJson)
        owners = self._owners(cell.table)
        row = cell.row - bisect_left(owners, top) if owners else 0
        column = self._reader.alone(text)[cell.table].column(cell.column)
        if row >= len(column.values) or column.values[row] != value:
            raise Unreadable(tr("Two values in a cell have one name."))
        return column.starts[row], column.ends[row]

    def _owners(self, name: str) -> Sequence[int]:
        """For every row of a table, the row of the top table in which it lies."""
        if name not in self._known_owners:
            table = self._tables[name]
            owners: Sequence[int] = ()
            while table is not self._top:
                join = table.joins()[0]
                rows = join.all()
                owners = [rows[at] for at in owners] if owners else rows
                assert isinstance(join.to, TextTable)
                table = join.to
            self._known_owners[name] = owners
        return self._known_owners[name]

    def _top_row(self, cell: Cell) -> int:
        """The row of the top table in which a cell lies."""
        owners = self._owners(cell.table)
        return owners[cell.row] if owners else cell.row
