"""Databases of unknown make, in a private copy.

Nothing in them is executed: no trigger or view, only the simplest functions, no virtual table. The
database itself shows what a change would do: one that would run a trigger is refused, and the
result is compared with the earlier content, table by table.
"""

from __future__ import annotations

import marshal
import random
import re
import sqlite3
import time
from array import array
from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

from blake3 import blake3
from msgspec import Struct

from fascis.documents.learned.tables import NO_ROW, Cell, Join, Unreadable
from fascis.files.disk.door import delete_state
from fascis.words.speech import tr

MAGIC = b"SQLite format 3\0"
MOST_TABLES, MOST_COLUMNS, MOST_JOINS = 300, 200, 60
_SECONDS = 60.0
# Values that show whether a column leads to another table.
_TRIED = 200
_AT_ONCE = 400
_ALLOWED = {sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_PRAGMA}
_FUNCTIONS = frozenset(("count", "typeof", "total", "length", "min", "max", "hex", "sum"))


def quoted(name: str) -> str:
    """A name as SQL has it."""
    return '"' + name.replace('"', '""') + '"'


def _authorize(action: int, _first: str | None, second: str | None, *_: str | None) -> int:
    if action == sqlite3.SQLITE_FUNCTION:
        allowed = (second or "").lower() in _FUNCTIONS
    else:
        allowed = action in _ALLOWED
    return sqlite3.SQLITE_OK if allowed else sqlite3.SQLITE_DENY


def _as_text(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


@contextmanager
def making_sense() -> Iterator[None]:
    """Reports SQLite's errors about a damaged database as *damaged*."""
    try:
        yield
    except (sqlite3.Error, UnicodeError, OverflowError, MemoryError) as error:
        raise Unreadable(
            tr("It is a database that cannot be read ({error}).", error=error)
        ) from error


class Database:
    """A private copy of a database, open for reading.

    Args:
        path: the copy.

    Raises:
        Unreadable: it is damaged, or too large in some way.
    """

    container = "sqlite"

    def __init__(self, path: Path, seconds: float = _SECONDS) -> None:
        self.path = path
        self._end = time.monotonic() + seconds
        with making_sense():
            self.db = sqlite3.connect(path, isolation_level=None)
            try:
                self._open()
            except BaseException:
                self.db.close()
                raise

    def _open(self) -> None:
        db = self.db
        db.text_factory = _as_text
        db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, 64 << 20)
        for pragma in ("trusted_schema=OFF", "query_only=ON", "cell_size_check=ON", "mmap_size=0"):
            db.execute(f"PRAGMA {pragma}")
        db.set_progress_handler(self._is_late, 100_000)
        if (said := db.execute("PRAGMA quick_check(1)").fetchone()[0]) != "ok":
            raise Unreadable(tr("It is a damaged database ({said}).", said=said))
        self.encoding = str(db.execute("PRAGMA encoding").fetchone()[0])
        listed = db.execute("PRAGMA table_list").fetchall()
        names = [r[1] for r in listed if r[0] == "main" and r[2] == "table"]
        without = {r[1] for r in listed if r[4]}
        self.names = sorted(n for n in names if not n.startswith("sqlite_"))
        if len(self.names) > MOST_TABLES:
            raise Unreadable(
                tr("It has {names} tables, too many to search.", names=len(self.names))
            )
        self._tables = {n: DatabaseTable(self, n, n in without) for n in self.names}
        db.set_authorizer(_authorize)

    def _is_late(self) -> int:
        return int(time.monotonic() > self._end)

    def close(self) -> None:
        """Closes it."""
        self.db.close()

    def tables(self) -> Sequence[DatabaseTable]:
        """Its tables, without virtual ones."""
        return list(self._tables.values())

    def table(self, name: str) -> DatabaseTable:
        """One of them."""
        return self._tables[name]

    def schema(self) -> list[tuple[Any, ...]]:
        """The database's own description of its contents."""
        sql = "SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name"
        return self.db.execute(sql).fetchall()

    def shape(self) -> bytes:
        """A digest of the names of its tables and columns, and their types."""
        hasher = blake3(b"sqlite\0")
        for table in self._tables.values():
            for column in table.all_columns:
                line = f"{table.name}\0{column.name}\0{column.declared}\n"
                hasher.update(line.encode("utf-8", "surrogateescape"))
        return hasher.digest()

    def rows(self, sql: str, arguments: Sequence[Any] = ()) -> list[Any]:
        """All rows of a question.

        Raises:
            Unreadable: the database is damaged, or it took too long.
        """
        with making_sense():
            return self.db.execute(sql, arguments).fetchall()

    def values(self, sql: str) -> list[Any]:
        """The values of the one selected column; rows are not kept.

        Raises:
            Unreadable: the database is damaged, or it took too long.
        """
        with making_sense():
            return [value for (value,) in self.db.execute(sql)]


class Declared(Struct, frozen=True):
    """A column as declared. ``key``: its position in the primary key, from 1; otherwise 0."""

    name: str
    declared: str
    key: int


class DatabaseTable:
    """A table of a database; its rows are numbered in the order of their keys."""

    def __init__(self, database: Database, name: str, without_rowid: bool) -> None:
        self.name, self._database = name, database
        self._sql = quoted(name)
        rows = database.db.execute(f"PRAGMA table_xinfo({self._sql})").fetchall()
        # Generated columns are not read here, and cannot be written.
        self.all_columns = [Declared(r[1], str(r[2]).upper(), int(r[5])) for r in rows if not r[6]]
        if len(self.all_columns) > MOST_COLUMNS:
            raise Unreadable(tr("Its table {name} has too many columns to search.", name=name))
        named = {c.name.lower() for c in self.all_columns}
        alias = next((a for a in ("rowid", "_rowid_", "oid") if a not in named), None)
        if without_rowid or alias is None:
            keys = sorted((c for c in self.all_columns if c.key), key=lambda c: c.key)
            self.key = ", ".join(quoted(c.name) for c in keys)
            self.key_columns = len(keys)
        else:
            self.key, self.key_columns = alias, 1
        self.has_rowid = not without_rowid and alias is not None
        self._columns: dict[str, DatabaseColumn] = {}

    @cached_property
    def keys(self) -> Any:
        """The key of every row: a number, or a tuple if it has no row numbers."""
        if not self.key:
            return []
        sql = f"SELECT {self.key} FROM {self._sql} ORDER BY {self.key}"
        return (
            array("q", self._database.values(sql)) if self.has_rowid else self._database.rows(sql)
        )

    def __len__(self) -> int:
        return len(self.keys)

    @cached_property
    def _texts(self) -> list[str]:
        names = [c.name for c in self.all_columns]
        counts = ", ".join(f"total(typeof({q})='text' AND {q}<>'')" for q in map(quoted, names))
        if not names:
            return []
        found = self._database.rows(f"SELECT {counts} FROM {self._sql}")[0]
        return [n for n, count in zip(names, found, strict=True) if count]

    def columns(self) -> Sequence[str]:
        """The columns with text."""
        return self._texts

    def says_something(self, name: str) -> bool:
        """True for a column with a value in some row."""
        return name in self._texts

    def column(self, name: str) -> DatabaseColumn:
        """One of its columns."""
        if name not in self._columns:
            self._columns[name] = DatabaseColumn(self, name, self._database)
        return self._columns[name]

    def raw(self, column: str, rows: Sequence[int]) -> list[Any]:
        """The values of a column in some rows, of any type."""
        wanted, sql = quoted(column), self._sql
        if not self.has_rowid:
            every = self.raw_all(column)
            return [every[row] for row in rows]
        found: dict[int, Any] = {}
        keys = [self.keys[row] for row in rows]
        for at in range(0, len(keys), _AT_ONCE):
            some = keys[at : at + _AT_ONCE]
            marks = ",".join("?" * len(some))
            found.update(
                self._database.rows(
                    f"SELECT {self.key}, {wanted} FROM {sql} WHERE {self.key} IN ({marks})", some
                )
            )
        return [found.get(key) for key in keys]

    def raw_all(self, column: str) -> list[Any]:
        """What stands in a column in all rows."""
        order = f" ORDER BY {self.key}" if self.key else ""
        return self._database.values(f"SELECT {quoted(column)} FROM {self._sql}{order}")

    def row_of_key(self, key: Any) -> int:
        """The row that has a key, or ``NO_ROW``."""
        at = bisect_left(self.keys, key)
        return at if at < len(self.keys) and self.keys[at] == key else NO_ROW

    @cached_property
    def uniques(self) -> list[str]:
        """Columns whose values identify the rows."""
        found = [c.name for c in self.all_columns if c.key]
        if len(found) > 1:
            found = []
        for row in self._database.rows(f"PRAGMA index_list({self._sql})"):
            if not row[2] or row[4]:  # Not unique, or only for some rows.
                continue
            columns = self._database.rows(f"PRAGMA index_info({quoted(row[1])})")
            if len(columns) == 1 and columns[0][2]:
                found.append(columns[0][2])
        if 0 < len(self) <= 100_000:
            some = [c.name for c in self.all_columns[:12] if c.name not in found]
            found += [name for name in some if self._is_unique(name)]
        return list(dict.fromkeys(found))

    def _is_unique(self, column: str) -> bool:
        sql = f"SELECT count(*), count({quoted(column)}), count(DISTINCT {quoted(column)})"
        total, some, distinct = self._database.rows(f"{sql} FROM {self._sql}")[0]
        return bool(total == some == distinct)

    def joins(self) -> Sequence[Join]:
        """Joins to other tables: by declared keys, and by values that are keys there."""
        return self._joins

    @cached_property
    def _joins(self) -> list[Join]:
        found: dict[str, Join] = {}
        declared = self._database.rows(f"PRAGMA foreign_key_list({self._sql})")
        for row in declared:
            table, column, key = row[2], row[3], row[4]
            if table in self._database.names:
                to = self._database.table(table)
                key = key or next((c.name for c in to.all_columns if c.key), None)
                if key in to.uniques:
                    join = KeyJoin(self, column, to, key)
                    found[join.name] = join
        for join in self._inferred():
            if len(found) >= MOST_JOINS:
                break
            found.setdefault(join.name, join)
        return list(found.values())

    def _inferred(self) -> Iterator[KeyJoin]:
        count = len(self)
        if not count:
            return
        rows = sorted(random.Random(1).sample(range(count), min(count, _TRIED)))
        for column in self.all_columns:
            values = {v for v in self.raw(column.name, rows) if isinstance(v, int | str)}
            if len(values) < 1:
                continue
            for to in self._database.tables():
                for key in to.uniques:
                    if (to, key) != (self, column.name) and to.has_all(key, values):
                        yield KeyJoin(self, column.name, to, key)

    def has_all(self, key: str, values: set[Any]) -> bool:
        """True if nearly all of some values are keys; 0 and nothing often mean none."""
        some = list(values)[:_AT_ONCE]
        marks = ",".join("?" * len(some))
        sql = f"SELECT count(*) FROM {self._sql} WHERE {quoted(key)} IN ({marks})"
        found = self._database.rows(sql, some)[0][0]
        return bool(found and found >= len(some) - 1 and found >= 0.9 * len(some))


class DatabaseColumn:
    """A column's texts."""

    def __init__(self, table: DatabaseTable, name: str, database: Database) -> None:
        self.name, self._table, self._database = name, table, database
        self._all: list[str | None] | None = None

    def some(self, rows: Sequence[int]) -> list[str | None]:
        """The texts in some rows."""
        if self._all is not None:
            return [self._all[row] for row in rows]
        return [v if isinstance(v, str) else None for v in self._table.raw(self.name, rows)]

    def all(self) -> Sequence[str | None]:
        """The texts in all rows; kept afterwards."""
        if self._all is None:
            values = self._table.raw_all(self.name)
            self._all = [v if isinstance(v, str) else None for v in values]
        return self._all


class KeyJoin:
    """From rows with a key to the row that has it."""

    def __init__(self, table: DatabaseTable, column: str, to: DatabaseTable, key: str) -> None:
        self.table, self.column, self.to, self.key = table, column, to, key
        self.name = tr("{column} is {name}.{key}", column=column, name=to.name, key=key)
        self._rows: array[int] | None = None

    def some(self, rows: Sequence[int]) -> list[int]:
        """For some rows, the row to which each leads."""
        if self._rows is not None:
            return [self._rows[row] for row in rows]
        values = self.table.raw(self.column, rows)
        wanted = sorted({v for v in values if isinstance(v, int | str)}, key=str)
        found: dict[Any, int] = {}
        for at in range(0, len(wanted), _AT_ONCE):
            some = wanted[at : at + _AT_ONCE]
            marks = ",".join("?" * len(some))
            sql = f"SELECT {quoted(self.key)}, {self.to.key} FROM {quoted(self.to.name)}"
            for value, *key in self.table._database.rows(
                f"{sql} WHERE {quoted(self.key)} IN ({marks})", some
            ):
                found[value] = self.to.row_of_key(key[0] if self.to.has_rowid else tuple(key))
        return [found.get(v, NO_ROW) for v in values]

    def all(self) -> Sequence[int]:
        """The same for all rows."""
        if self._rows is None:
            number = {value: row for row, value in enumerate(self.to.raw_all(self.key))}
            number.pop(None, None)
            self._rows = array(
                "q", (number.get(v, NO_ROW) for v in self.table.raw_all(self.column))
            )
        return self._rows


# -- writing again --------------------------------------------------------------------------------


def rewritten(path: Path, edits: Mapping[Cell, str]) -> None:
    """Changes cells of a private copy, and proves that nothing else changed.

    Raises:
        Unreadable: a change would run something of the database's own, or breaks a rule of it.
    """
    before = path.with_name(path.name + ".before")
    with (
        making_sense(),
        closing(sqlite3.connect(path)) as db,
        closing(sqlite3.connect(before)) as b,
    ):
        db.backup(b)
    _refuse_what_runs(path, edits)
    _refuse_indexed(path, edits)
    _change(path, edits)
    _prove(before, path, edits)
    delete_state(before)


def _by_column(edits: Mapping[Cell, str]) -> dict[tuple[str, str], list[tuple[int, str]]]:
    found: dict[tuple[str, str], list[tuple[int, str]]] = {}
    for cell, value in edits.items():
        found.setdefault((cell.table, cell.column), []).append((cell.row, value))
    return found


def _refuse_what_runs(path: Path, edits: Mapping[Cell, str]) -> None:
    """Asks the database what a change would execute, without making it."""
    with making_sense(), closing(sqlite3.connect(path, isolation_level=None)) as db:
        db.execute("PRAGMA trusted_schema=OFF")
        for table, column in _by_column(edits):
            inner: list[str] = []

            def note(
                action: int,
                first: str | None,
                _second: str | None,
                _db: str | None,
                by: str | None,
                inner: list[str] = inner,
            ) -> int:
                if by is not None:
                    inner.append(by)
                if action == sqlite3.SQLITE_FUNCTION and (_second or "").lower() not in _FUNCTIONS:
                    inner.append(str(_second))
                return sqlite3.SQLITE_OK

            db.set_authorizer(note)
            sql = f"EXPLAIN UPDATE {quoted(table)} SET {quoted(column)}='x'"
            try:
                db.execute(sql).fetchall()
            except sqlite3.Error as error:
                raise Unreadable(
                    tr(
                        "A change of {table}.{column} needs what only its own program has "
                        "({error}).",
                        table=table,
                        column=column,
                        error=error,
                    )
                ) from error
            db.set_authorizer(None)
            if inner:
                raise Unreadable(
                    tr(
                        "A change of {table}.{column} would run something of its own program "
                        "({inner}).",
                        table=table,
                        column=column,
                        inner=inner[0],
                    )
                )


_USING = re.compile(r"\bUSING\s+(\w+)\s*\((.*)\)\s*$", re.IGNORECASE | re.DOTALL)
_CONTENT = re.compile(r"\bcontent\s*=\s*(['\"`\[]?)([^'\"`\],)]*)", re.IGNORECASE)


def _refuse_indexed(path: Path, edits: Mapping[Cell, str]) -> None:
    """Refuses values that an index of words contains too: it could not be changed here.

    Raises:
        Unreadable: one does, or there is a virtual table of which it is not known what it holds.
    """
    changed = {cell.table.lower() for cell in edits}
    with closing(Database(path)) as reading:
        old = [reading.table(c.table).raw(c.column, [c.row])[0] for c in list(edits)[:_TRIED]]
        sql = "SELECT name, sql FROM sqlite_schema WHERE type='table' AND rootpage=0"
        for name, said in reading.rows(sql):
            found = _USING.search(said or "")
            module = found[1].lower() if found else ""
            if module == "rtree":
                continue
            content = _CONTENT.search(found[2]) if found else None
            if module.startswith("fts") and content is None:
                if not _holds(reading, f"{name}_content", old):
                    continue
            elif module.startswith("fts") and content and content[2].lower() not in changed:
                tables = {n.lower() for n in reading.names}
                if content[2].lower() in tables:
                    continue
            raise Unreadable(
                tr("Its index {name} holds paths too, and cannot be changed with them.", name=name)
            )


def _holds(reading: Database, table: str, values: list[Any]) -> bool:
    """True if some of the values are in a table that belongs to an index."""
    columns = [r[1] for r in reading.rows(f"PRAGMA table_xinfo({quoted(table)})")]
    for column in columns:
        for at in range(0, len(values), _AT_ONCE):
            some = values[at : at + _AT_ONCE]
            marks = ",".join("?" * len(some))
            sql = f"SELECT count(*) FROM {quoted(table)} WHERE {quoted(column)} IN ({marks})"
            if reading.rows(sql, some)[0][0]:
                return True
    return not columns


def _change(path: Path, edits: Mapping[Cell, str]) -> None:
    with closing(Database(path)) as reading:
        plan = []
        for (table, column), some in _by_column(edits).items():
            keys = reading.table(table).keys
            where = " AND ".join(
                f"{part.strip()}=?" for part in reading.table(table).key.split(", ")
            )
            rows = [
                (value, *(keys[row] if isinstance(keys[row], tuple) else (keys[row],)))
                for row, value in some
            ]
            plan.append((f"UPDATE {quoted(table)} SET {quoted(column)}=? WHERE {where}", rows))
    with making_sense(), closing(sqlite3.connect(path, isolation_level=None)) as db:
        db.execute("PRAGMA trusted_schema=OFF")
        db.execute("PRAGMA foreign_keys=ON")
        db.execute("BEGIN IMMEDIATE")
        try:
            for sql, rows in plan:
                db.executemany(sql, rows)
        except sqlite3.Error as error:
            raise Unreadable(
                tr("The database does not accept the new paths ({error}).", error=error)
            ) from error
        db.execute("COMMIT")
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")


def _prove(before: Path, after: Path, edits: Mapping[Cell, str]) -> None:
    """Checks that the new database is intact, and that only the planned cells differ."""
    wanted = _by_column(edits)
    with closing(Database(before)) as old, closing(Database(after)) as new:
        if new.rows("PRAGMA integrity_check(1)")[0][0] != "ok":
            raise Unreadable(tr("The database would be damaged by the new paths."))
        if old.schema() != new.schema():
            raise Unreadable(tr("The database would not be what it was."))
        for table in old.tables():
            _prove_table(table, new.table(table.name), wanted)


def _prove_table(
    old: DatabaseTable, new: DatabaseTable, wanted: Mapping[tuple[str, str], list[tuple[int, str]]]
) -> None:
    changed = {c: dict(v) for (table, c), v in wanted.items() if table == old.name}
    names = ", ".join(quoted(c.name) for c in old.all_columns)
    numbers = {c.name: n for n, c in enumerate(old.all_columns)}
    # Changing a column of the key would change the order.
    sql = f"SELECT {names} FROM {quoted(old.name)}"
    sql += f" ORDER BY {old.key}" if old.key else ""
    with making_sense():
        mine, theirs = old._database.db.execute(sql), new._database.db.execute(sql)
        first = 0
        while True:
            some, others = mine.fetchmany(2000), theirs.fetchmany(2000)
            for column, values in changed.items():
                at = numbers[column]
                for row in range(first, first + len(some)):
                    if row in values:
                        was = some[row - first]
                        some[row - first] = (*was[:at], values[row], *was[at + 1 :])
            if _exactly(some) != _exactly(others):
                raise Unreadable(
                    tr("Its table {name} would not be what it was to be.", name=old.name)
                )
            if not some:
                return
            first += len(some)


def _exactly(rows: list[Any]) -> bytes:
    """Rows with the types of their values: 1 differs from 1.0, and a number from a text."""
    # Without references: these would differ for equal values.
    return marshal.dumps(rows, 2)
