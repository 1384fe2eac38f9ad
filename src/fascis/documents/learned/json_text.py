"""JSON as tables: objects of one path are rows; what occurs once in them are their columns."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from fascis.documents.learned.tables import Cell, Table, TextTable, Unreadable
from fascis.documents.learned.text import Hole, filled
from fascis.words.speech import tr

MOST_NESTED = 500
_TOKEN = re.compile(r'"((?:[^"\\]|\\.)*)"|([{}\[\],:])|[^\s{}\[\],:"]+', re.DOTALL)
_SAME_KEYS = 3
# Letters; a larger text is not parsed into a tree.
_LARGE = 32 << 20
Path = tuple[str, ...]


def maps_of(tree: Any) -> set[Path]:
    """Where an object is a map from names to similar things, not a thing with fields.

    Its keys have slashes, or its values are objects with the same keys.
    """
    found: set[Path] = set()
    stack: list[tuple[Path, Any]] = [((), tree)]
    while stack:
        path, node = stack.pop()
        if isinstance(node, dict):
            if _is_map(node):
                found.add(path)
            here = (*path, "*") if path in found else None
            stack += [(here or (*path, key), value) for key, value in node.items()]
        elif isinstance(node, list):
            stack += [((*path, "[]"), value) for value in node]
    return found


def _is_map(node: dict[str, Any]) -> bool:
    if len(node) < _SAME_KEYS:
        return any("/" in key or "\\" in key for key in node)
    if sum("/" in key or "\\" in key for key in node) * 2 > len(node):
        return True
    values = list(node.values())
    if not all(isinstance(v, dict) for v in values):
        return False
    keys = values[0].keys()
    return bool(keys) and all(v.keys() == keys for v in values)


class _Frame:
    """An object or array that is being read."""

    __slots__ = ("is_map", "is_object", "key", "path", "prefix", "row", "table")

    def __init__(
        self, is_object: bool, path: Path, table: TextTable, row: int, prefix: str, is_map: bool
    ) -> None:
        self.is_object, self.path, self.table, self.row = is_object, path, table, row
        self.prefix, self.is_map = prefix, is_map
        self.key: tuple[str, int, int] | None = None


class JsonReader:
    """Reads JSON into tables: of one document, or of many texts of one kind.

    Args:
        prefix: the beginning of the tables' names.
        maps: where an object is a map, see :func:`maps_of`.
    """

    def __init__(self, prefix: str = "", maps: Collection[Path] = ()) -> None:
        self.tables: dict[str, TextTable] = {}
        self._prefix, self._maps = prefix, maps

    def table(self, name: str, parent: Table | None) -> TextTable:
        """One of the tables, created if needed."""
        name = self._prefix + name
        if name not in self.tables:
            self.tables[name] = TextTable(name, parent)
        return self.tables[name]

    def read(self, text: str, top: TextTable, row: int) -> None:
        """Reads one text; parts without an outer element belong to a row of ``top``.

        Raises:
            Unreadable: it is nested too deeply.
        """
        stack: list[_Frame] = []
        expects_value = True
        for token in _TOKEN.finditer(text):
            mark = token[2]
            frame = stack[-1] if stack else None
            if mark in ("{", "["):
                if len(stack) > MOST_NESTED:
                    raise Unreadable(tr("It is nested too deeply."))
                if frame is None:
                    opened = _Frame(mark == "{", (), top, row, "", () in self._maps)
                else:
                    opened = self._opened(mark == "{", frame)
                stack.append(opened)
                expects_value = mark == "["
            elif mark in ("}", "]"):
                stack.pop()
            elif mark == ":":
                expects_value = True
            elif mark == ",":
                expects_value = frame is not None and not frame.is_object
            elif token[1] is not None and frame is not None:
                start, end = token.span(1)
                raw = token[1]
                value = raw if "\\" not in raw else json.loads(token[0])
                if frame.is_object and not expects_value:
                    frame.key = (value, start, end)
                    continue
                self._put(frame, value, start, end)
            elif frame is not None and frame.is_object and not frame.is_map and frame.key:
                frame.table.put_number(frame.row, frame.prefix + frame.key[0], token[0])

    def _opened(self, is_object: bool, frame: _Frame) -> _Frame:
        if frame.is_object and not frame.is_map:
            assert frame.key
            path = (*frame.path, frame.key[0])
            prefix = f"{frame.prefix}{frame.key[0]}/"
            return _Frame(is_object, path, frame.table, frame.row, prefix, path in self._maps)
        path, table, row = self._element(frame)
        return _Frame(is_object, path, table, row, "", path in self._maps)

    def _element(self, frame: _Frame) -> tuple[Path, TextTable, int]:
        """A row for an element of an array or a map."""
        path = (*frame.path, "*" if frame.is_object else "[]")
        table = self.table("/".join(path), frame.table)
        row = table.add(frame.row)
        if frame.is_map and frame.key:
            table.put(row, "@key", *frame.key)
        return path, table, row

    def _put(self, frame: _Frame, value: str, start: int, end: int) -> None:
        if frame.is_object and not frame.is_map:
            assert frame.key
            frame.table.put(frame.row, frame.prefix + frame.key[0], value, start, end)
            return
        _, table, row = self._element(frame)
        table.put(row, "", value, start, end)


def _nothing(_pairs: list[tuple[str, Any]]) -> None:
    """An object that is not kept."""


class NoJson(Unreadable):
    """A text begins like JSON, but is not valid JSON."""


class JsonTables:
    """The tables of a JSON text.

    Raises:
        Unreadable: it is no JSON.
    """

    container = "json"

    def __init__(self, text: str) -> None:
        self.text = text
        large = len(text) > _LARGE
        try:
            # A large one is not kept; its maps are not known then.
            tree = json.loads(text, object_pairs_hook=_nothing if large else None)
        except (ValueError, RecursionError) as error:
            raise NoJson(tr("It is not valid JSON ({error}).", error=error)) from error
        if text.lstrip()[:1] not in ("{", "["):
            raise Unreadable(tr("It is a single value."))
        reader = JsonReader(maps=set() if large else maps_of(tree))
        del tree
        top = reader.table("", None)
        reader.read(text, top, top.add())
        self._tables = reader.tables
        for table in self._tables.values():
            table.is_among(list(self._tables.values()))

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return list(self._tables.values())

    def rewritten(self, edits: Mapping[Cell, str]) -> str:
        """The text with some cells changed."""
        return filled(self.text, (self._hole(cell, value) for cell, value in edits.items()))

    def _hole(self, cell: Cell, value: str) -> Hole:
        column = self._tables[cell.table].column(cell.column)
        start, end = column.starts[cell.row], column.ends[cell.row]
        return Hole(start, end, spelled(value, self.text[start:end]))


def spelled(value: str, like: str) -> str:
    """A string as JSON, with the same kinds of escapes as the old one."""
    text = json.dumps(value, ensure_ascii="\\u" in like and like.isascii())[1:-1]
    if "\\/" in like:
        text = text.replace("/", "\\/")
    return text
