"""Documents in the cells of others: JSON in a column, read as tables of its own."""

from __future__ import annotations

import json
import random
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Protocol

from fascis.documents.learned.json_text import JsonReader, spelled
from fascis.documents.learned.tables import Cell, Contents, Join, Table, TextTable, Unreadable
from fascis.documents.learned.text import Hole, filled

# What parts the name of a column from those of the tables in it.
WITHIN = "→"
_TRIED, _LEAST, _MOST_BYTES = 60, 3, 1 << 20


class Rewritable(Contents, Protocol):
    """A document that can be written anew."""

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes | Path:
        """With some cells changed."""


class WithInner:
    """A document, and those in its cells.

    Args:
        only: names of tables that are wanted; without it, all that there are.
    """

    def __init__(self, contents: Rewritable, only: Collection[str] | None = None) -> None:
        self._contents = contents
        self.container = contents.container
        self._inner: dict[str, _InColumn] = {}
        wanted = None if only is None else {n.partition(WITHIN)[0] for n in only if WITHIN in n}
        for table in contents.tables():
            for column in table.columns() if wanted != set() else ():
                name = f"{table.name}.{column}"
                if (wanted is None or name in wanted) and _holds_json(table, column):
                    self._inner[name] = _InColumn(table, column)

    def tables(self) -> Sequence[Table]:
        """Its own, then those in cells."""
        found: list[Table] = list(self._contents.tables())
        for inner in self._inner.values():
            found += inner.tables()
        return found

    def shape(self) -> bytes:
        """Its own: what lies in cells differs from row to row."""
        return self._contents.shape()

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes | Path:
        """With some cells changed; of a document in a cell that cell."""
        return self._contents.rewritten(self.outer(edits))

    def outer(self, edits: Mapping[Cell, str]) -> dict[Cell, str]:
        """The cells of the document itself that change."""
        own = {cell: value for cell, value in edits.items() if WITHIN not in cell.table}
        for name, inner in self._inner.items():
            mine = {c: v for c, v in edits.items() if c.table.partition(WITHIN)[0] == name}
            for cell, value in inner.outer(mine).items():
                if own.setdefault(cell, value) != value:
                    raise Unreadable("Two of its paths stand at one place.")
        return own


def _holds_json(table: Table, column: str) -> bool:
    """True for a column in which nearly all texts are JSON."""
    count = len(table)
    rows = sorted(random.Random(5).sample(range(count), min(count, _TRIED)))
    texts = [text for text in table.column(column).some(rows) if text]
    like = [text for text in texts if text.lstrip()[:1] in ("{", "[") and "/" in text + "/"]
    if len(like) < _LEAST or len(like) < 0.9 * len(texts):
        return False
    return sum(_is_json(text) for text in like) >= 0.9 * len(texts)


def _is_json(text: str) -> bool:
    try:
        return len(text) <= _MOST_BYTES and isinstance(json.loads(text), dict | list)
    except (ValueError, RecursionError):
        return False


class _InColumn:
    """The documents in one column."""

    def __init__(self, table: Table, column: str) -> None:
        self._table, self._column = table, column
        reader = JsonReader(f"{table.name}.{column}{WITHIN}")
        self._top = reader.table("", table)
        # Of every row of the top table the row in whose cell it stands.
        self._rows: list[int] = []
        for row, text in enumerate(table.column(column).all()):
            if text and _is_json(text):
                self._rows.append(row)
                reader.read(text, self._top, self._top.add(row))
        self._tables = reader.tables

    def tables(self) -> Sequence[TextTable]:
        """Their tables."""
        return list(self._tables.values())

    def outer(self, edits: Mapping[Cell, str]) -> dict[Cell, str]:
        """Edits of what is in cells, as edits of these cells."""
        holes: dict[int, list[Hole]] = {}
        texts = self._table.column(self._column).all()
        for cell, value in edits.items():
            row = self._row_of(cell)
            column = self._tables[cell.table].column(cell.column)
            start, end = column.starts[cell.row], column.ends[cell.row]
            like = (texts[row] or "")[start:end]
            holes.setdefault(row, []).append(Hole(start, end, spelled(value, like)))
        return {
            Cell(self._table.name, self._column, row): filled(texts[row] or "", some)
            for row, some in holes.items()
        }

    def _row_of(self, cell: Cell) -> int:
        """The row of the outer table in whose cell another stands."""
        table, row = self._tables[cell.table], cell.row
        while table is not self._top:
            join: Join = table.joins()[0]
            row = join.all()[row]
            assert isinstance(join.to, TextTable)
            table = join.to
        return self._rows[row]
