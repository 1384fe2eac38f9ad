"""One model for all containers: tables of rows, whose cells hold text.

A table of a database is one; so are the elements of one path in XML, the objects of one path in
JSON, the sections of settings, the records of a list. Rows of one table lead to rows of another by
a key, or by lying in them.
"""

from __future__ import annotations

import random
from array import array
from collections.abc import Collection, Iterator, Mapping, Sequence, Sized
from typing import NamedTuple, Protocol

from msgspec import Struct, field

from fascis.documents.model import NotUnderstood
from fascis.words.speech import tr

# A row without a target in a join.
NO_ROW = -1
# For keys: how many rows they must identify, their length, the share of rows that have one.
_LEAST_KEYS, _LONGEST_KEY, _NEARLY = 2, 200, 0.9
_TRIED, _MOST_JOINS, _MOST_COLUMNS = 200, 40, 2000


class Unreadable(NotUnderstood):
    """A document cannot be read: damaged, hostile, or too large. ``str()`` is the sentence."""


class Cell(NamedTuple):
    """The position of a value."""

    table: str
    column: str
    row: int


class Column(Protocol):
    """The values of one column, row by row; ``None`` if there is no text."""

    name: str

    def some(self, rows: Sequence[int]) -> list[str | None]:
        """The texts in some rows."""

    def all(self) -> Sequence[str | None]:
        """The texts in all rows."""


class Join(Protocol):
    """A join from the rows of a table to those of another."""

    @property
    def name(self) -> str:
        """Its name among the joins of its table, the same whenever the document is read."""

    @property
    def to(self) -> Table:
        """The other table."""

    def some(self, rows: Sequence[int]) -> list[int]:
        """For some rows, the row to which each leads, or ``NO_ROW``."""

    def all(self) -> Sequence[int]:
        """The same for all rows."""


class Table(Protocol):
    """Rows of one kind."""

    name: str

    def __len__(self) -> int:
        """How many rows it has."""

    def columns(self) -> Sequence[str]:
        """The names of columns with text."""

    def column(self, name: str) -> Column:
        """One of them."""

    def says_something(self, name: str) -> bool:
        """True for a column with a value in some row."""

    def joins(self) -> Sequence[Join]:
        """The joins to other tables, or to itself."""


class Contents(Protocol):
    """A document's tables, and rewriting it."""

    container: str
    """What it is packed in: ``sqlite``, ``json``, ``xml``, ``plist``, ``text``."""

    def tables(self) -> Sequence[Table]:
        """All tables, in the document's order."""

    def shape(self) -> bytes:
        """Common to documents of one make: a digest of names and types."""


def filled(contents: Contents) -> frozenset[str]:
    """The columns with a value in at least one row, as ``TABLE.COLUMN``."""
    return frozenset(
        f"{table.name}.{name}"
        for table in contents.tables()
        for name in table.columns()
        if table.says_something(name)
    )


# -- tables in memory ------------------------------------------------------------------------------


class TextColumn(Struct):
    """A column whose values are spans of a text.

    Attributes:
        starts, ends: the span of each value as written; -1 if there is none.
        forms: how each is written, see the container.
    """

    name: str
    values: list[str | None] = field(default_factory=list)
    starts: array[int] = field(default_factory=lambda: array("i"))
    ends: array[int] = field(default_factory=lambda: array("i"))
    forms: bytearray = field(default_factory=bytearray)

    def some(self, rows: Sequence[int]) -> list[str | None]:
        """The texts in some rows."""
        known = len(self.values)
        return [self.values[row] if row < known else None for row in rows]

    def all(self) -> Sequence[str | None]:
        """The texts in all rows."""
        return self.values

    def fill(self, count: int) -> None:
        """Sets the number of rows."""
        missing = count - len(self.values)
        if not missing:
            return
        self.values.extend([None] * missing)
        self.starts.extend([-1] * missing)
        self.ends.extend([-1] * missing)
        self.forms.extend(bytes(missing))

    def put(self, row: int, value: str, start: int, end: int, form: int = 0) -> None:
        """Sets the value of a row; rows come in order."""
        known = len(self.values)
        if known != row:
            if known > row:
                # A second value with one name in one row: both are ignored.
                return
            self.fill(row)
        self.values.append(value)
        self.starts.append(start)
        self.ends.append(end)
        self.forms.append(form)

    def move(self, row: int, to: TextColumn, there: int) -> None:
        """Copies one of its values into a row of another column."""
        value = self.values[row]
        if value is not None:
            to.put(there, value, self.starts[row], self.ends[row], self.forms[row])

    def new(self, name: str) -> TextColumn:
        """An empty column of its kind."""
        return TextColumn(name)

    def saying(self, changed: Mapping[int, str]) -> TextColumn:
        """The column with other values in some rows; their positions are not known any more."""
        values = list(self.values)
        for row, value in changed.items():
            values[row] = value
        return TextColumn(self.name, values)


class TextTable:
    """A table that was read from a text."""

    def __init__(self, name: str, parent: Table | None = None) -> None:
        self.name = name
        self._columns: dict[str, TextColumn] = {}
        # Numbers are not texts, but they can identify rows.
        self._numbers: dict[str, TextColumn] = {}
        self._parent = parent
        # For every row, the row in which it lies.
        self.parents: array[int] = array("i")
        self._others: Sequence[TextTable] = ()
        self._joins: list[Join] | None = None
        self._by_key: dict[str, dict[str, int] | None] = {}

    def __len__(self) -> int:
        return len(self.parents)

    def add(self, parent: int = NO_ROW) -> int:
        """Adds a row; returns its number."""
        self.parents.append(parent)
        return len(self.parents) - 1

    def put(self, row: int, column: str, value: str, start: int, end: int, form: int = 0) -> None:
        """Sets a value."""
        self.open_column(column).put(row, value, start, end, form)

    def open_column(self, name: str, new: TextColumn | None = None) -> TextColumn:
        """A column for values; if missing, ``new`` or a plain one."""
        if name not in self._columns:
            _refuse_many(self._columns)
            self._columns[name] = TextColumn(name) if new is None else new
        return self._columns[name]

    def put_number(self, row: int, column: str, value: str) -> None:
        """Sets a number, as written."""
        if column not in self._numbers:
            _refuse_many(self._numbers)
            self._numbers[column] = TextColumn(column)
        self._numbers[column].put(row, value, -1, -1)

    def is_among(self, tables: Sequence[TextTable]) -> None:
        """All tables of its document are read: its rows can refer to rows of these."""
        self._others = tables

    def has(self, row: int, column: str) -> bool:
        """True if it has a value there; while the table is read."""
        known = self._columns.get(column)
        return known is not None and len(known.values) > row and known.values[row] is not None

    def columns(self) -> Sequence[str]:
        """The names of its columns."""
        return list(self._columns)

    def column(self, name: str) -> TextColumn:
        """One of them."""
        column = self._columns[name]
        column.fill(len(self))
        return column

    def forget_all_but(self, names: Collection[str]) -> None:
        """Frees columns that are not needed any more."""
        for name in [name for name in self._columns if name not in names]:
            del self._columns[name]

    def says_something(self, name: str) -> bool:
        """True for a column with a value in some row."""
        return any(self._columns[name].values)

    def has_only(self) -> bool:
        """True if no row of its parent contains two of its rows."""
        return self._parent is not None and len(set(self.parents)) == len(self.parents)

    def fold_into_parent(self, name: str) -> None:
        """What occurs in a row at most once becomes columns of that row."""
        parent = self._parent
        assert isinstance(parent, TextTable)
        each = self.parents == array("i", range(len(parent)))
        order = [] if each else sorted(range(len(self)), key=self.parents.__getitem__)
        for column in self._columns.values():
            column.fill(len(self))
            there = f"{name}/{column.name}" if column.name else name
            if each and there not in parent._columns:
                # One in each: its rows are those of the parent.
                column.name = there
                parent._columns[there] = column
                continue
            to = parent._columns.setdefault(there, column.new(there))
            for row in order or range(len(self)):
                column.move(row, to, self.parents[row])

    def saying(
        self, changed: Mapping[str, Mapping[int, str]], known: Mapping[TextTable, TextTable]
    ) -> TextTable:
        """The table with other values in some cells.

        Args:
            changed: the new values by column and row.
            known: the changed tables in which it lies.
        """
        parent = self._parent
        new = TextTable(self.name, known[parent] if isinstance(parent, TextTable) else parent)
        new.parents, new._numbers = self.parents, self._numbers
        for name in self._columns:
            column = self.column(name)
            new._columns[name] = column.saying(changed[name]) if name in changed else column
        return new

    def joins(self) -> Sequence[Join]:
        """The tables in which its rows lie, and the rows whose keys they contain."""
        if self._joins is None:
            self._joins = [] if self._parent is None else [_In(self._parent, self.parents)]
            self._joins += self._key_joins()
        return self._joins

    def _key_joins(self) -> Iterator[Join]:
        if len(self._others) < 2 or len(self) < _LEAST_KEYS:
            return
        numbers = random.Random(1)
        rows = sorted(numbers.sample(range(len(self)), min(len(self), _TRIED)))
        found = 0
        for name in self._scalars():
            values = {v for v in self._scalar(name).some(rows) if v and len(v) <= _LONGEST_KEY}
            if len(values) < 2:
                continue
            for to in self._others:
                for key in to.keys() if to is not self or self._parent is None else ():
                    known = to.by_key(key)
                    if known is None or (to is self and key == name):
                        continue
                    if sum(v in known for v in values) >= _NEARLY * len(values):
                        yield _ByKey(self._scalar(name), to, key)
                        found += 1
                        if found == _MOST_JOINS:
                            return

    def _scalars(self) -> list[str]:
        return [*self._columns, *self._numbers]

    def _scalar(self, name: str) -> TextColumn:
        column = self._columns.get(name) or self._numbers[name]
        column.fill(len(self))
        return column

    def keys(self) -> list[str]:
        """Columns whose values can identify its rows."""
        return [name for name in self._scalars() if self.by_key(name)]

    def by_key(self, name: str) -> dict[str, int] | None:
        """The row for every value of a column; None if two rows share one, or most have none."""
        if name not in self._by_key:
            self._by_key[name] = self._keyed(name)
        return self._by_key[name]

    def _keyed(self, name: str) -> dict[str, int] | None:
        known: dict[str, int] = {}
        if len(self) < _LEAST_KEYS:
            return None
        for row, value in enumerate(self._scalar(name).values):
            if not value:
                continue
            if value in known or len(value) > _LONGEST_KEY or "/" in value:
                return None
            known[value] = row
        return known if len(known) >= _NEARLY * len(self) else None


def _refuse_many(columns: Sized) -> None:
    if len(columns) >= _MOST_COLUMNS:
        raise Unreadable(tr("Its things have too many kinds of values to be looked through."))


class _In(Struct, frozen=True, eq=False):
    """From inner rows to the outer one."""

    to: Table
    rows: array[int]
    name: str = "in"

    def some(self, rows: Sequence[int]) -> list[int]:
        """For some rows, the row in which each lies."""
        return [self.rows[row] for row in rows]

    def all(self) -> Sequence[int]:
        """The same for all rows."""
        return self.rows


class _ByKey:
    """From rows with a key to the row that has it."""

    def __init__(self, column: TextColumn, to: TextTable, key: str) -> None:
        self._column, self._table, self._key = column, to, key
        self.to: Table = to
        self.name = tr("{name} is {name_2}.{key}", name=column.name, name_2=to.name, key=key)
        self._all: array[int] | None = None

    def some(self, rows: Sequence[int]) -> list[int]:
        """For some rows, the row to which each leads."""
        known = self._table.by_key(self._key) or {}
        return [known.get(v, NO_ROW) if v else NO_ROW for v in self._column.some(rows)]

    def all(self) -> Sequence[int]:
        """The same for all rows."""
        if self._all is None:
            self._all = array("q", self.some(range(len(self._column.values))))
        return self._all
