"""Text in a cell that is more than a value: JSON, markup, or ``key=value`` pairs.

Each is read into tables of its own: what occurs once in a cell is a column of that cell's row, what
repeats has rows of its own. Only the value itself is changed.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any, Protocol
from xml.parsers import expat

from fascis.documents.learned.json_text import JsonReader, Path, spelled
from fascis.documents.learned.markup import escaped, said_by
from fascis.documents.learned.tables import Table, TextTable, Unreadable
from fascis.words.speech import tr

_MOST_BYTES = 1 << 20
MOST_NESTED, _MOST_TABLES = 60, 500
# How a value of markup is written.
_TEXT, _ATTRIBUTE, _CDATA = 0, 1, 2


class CellReader(Protocol):
    """Reads the texts of one column, cell by cell."""

    tables: dict[str, TextTable]

    def table(self, name: str, parent: Table | None) -> TextTable:
        """One of its tables, created if needed."""

    def is_one(self, text: str) -> bool:
        """True for a text that is read."""

    def read(self, text: str, top: TextTable, row: int) -> None:
        """Reads one text; parts without an outer element belong to a row of ``top``."""

    def end(self) -> None:
        """Everything was read."""

    def spelled(self, value: str, like: str, form: int) -> str:
        """A value as written in place of another.

        Raises:
            Unreadable: it cannot stand there.
        """


def _tree(text: str) -> Any:
    """JSON as a tree, with numbers as written; None for anything else."""
    if text.lstrip()[:1] not in ("{", "[") or len(text) > _MOST_BYTES:
        return None
    try:
        return _DECODER.decode(text)
    except (ValueError, RecursionError):
        return None


class _Number(str):
    """A number in JSON, as it is written."""

    __slots__ = ()


_DECODER = json.JSONDecoder(parse_int=_Number, parse_float=_Number, parse_constant=_Number)
_WORDS = {True: "true", False: "false", None: "null"}


class CellJson(JsonReader):
    """JSON, one object or array in each cell.

    The positions of its values are found only in cells that change, see :meth:`spans`.
    """

    def __init__(self, prefix: str) -> None:
        super().__init__(prefix)
        # The text checked last is usually read next.
        self._last: tuple[str, Any] = ("", None)

    def is_one(self, text: str) -> bool:
        """True for JSON."""
        self._last = text, _tree(text)
        return self._last[1] is not None

    def read(self, text: str, top: TextTable, row: int) -> None:
        """Reads one text without the positions of its values."""
        self._values(self._last[1] if self._last[0] is text else _tree(text), (), "", top, row, 0)

    def _values(
        self, node: Any, path: Path, prefix: str, table: TextTable, row: int, depth: int
    ) -> None:
        """The same rows and columns as those of the text, value by value."""
        if depth > MOST_NESTED:
            raise Unreadable(tr("What stands in its cells is nested too deeply."))
        if isinstance(node, dict):
            for key, value in node.items():
                kind = type(value)
                if kind is str:
                    table.put(row, prefix + key, value, -1, -1)
                elif kind is dict or kind is list:
                    self._values(value, (*path, key), f"{prefix}{key}/", table, row, depth + 1)
                else:
                    said = value if kind is _Number else _WORDS[value]
                    table.put_number(row, prefix + key, said)
            return
        inner_path = (*path, "[]")
        for value in node:
            kind = type(value)
            if kind is dict or kind is list or kind is str:
                inner = self.table("/".join(inner_path), table)
                here = inner.add(row)
                if kind is str:
                    inner.put(here, "", value, -1, -1)
                else:
                    self._values(value, inner_path, "", inner, here, depth + 1)

    def found(self, text: str, value: str) -> tuple[int, int] | None:
        """Its position if it occurs once, as most programs write it, and is not a key."""
        raw = json.dumps(value, ensure_ascii=False)
        start = text.find(raw)
        end = start + len(raw)
        if start < 0 or text.find(raw, start + 1) >= 0 or text[end:].lstrip()[:1] == ":":
            return None
        return start + 1, end - 1

    def alone(self, text: str) -> Mapping[str, TextTable]:
        """The tables of this text alone, with the positions of its values."""
        reader = JsonReader(self._prefix)
        alone = reader.table("", None)
        reader.read(text, alone, alone.add())
        return reader.tables

    def end(self) -> None:
        """Nothing to do."""

    def spelled(self, value: str, like: str, form: int) -> str:
        """With the same kind of escapes as the old value."""
        return spelled(value, like)


class _Tables:
    """Common parts of readers of cells."""

    def __init__(self, prefix: str) -> None:
        self.tables: dict[str, TextTable] = {}
        self._prefix = prefix

    def table(self, name: str, parent: Table | None) -> TextTable:
        """One of its tables, created if needed."""
        name = self._prefix + name
        if name not in self.tables:
            if len(self.tables) >= _MOST_TABLES:
                raise Unreadable(tr("What stands in its cells is of too many kinds."))
            self.tables[name] = TextTable(name, parent)
        return self.tables[name]


_MARKUP = re.compile(
    r"<!\[CDATA\[(?P<cdata>.*?)\]\]>|<!--.*?-->|<\?.*?\?>"
    r"|</(?P<end>[^\s>]+)\s*>"
    r"|<(?P<name>[^\s/>!?]+)(?P<attributes>(?:\s+[^\s=/>]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*)\s*"
    r"(?P<empty>/?)>|(?P<text>[^<]+)",
    re.DOTALL,
)
_ATTRIBUTES = re.compile(r"""([^\s=/>]+)\s*=\s*(?:"([^"]*)"|'([^']*)')""")


# Its text, its span, and how it is written.
_Value = tuple[str, int, int, int]


class CellMarkup(_Tables):
    """Markup, one element in each cell."""

    def is_one(self, text: str) -> bool:
        """True for well-formed XML without declarations of its own."""
        if text.lstrip()[:1] != "<" or len(text) > _MOST_BYTES or "<!DOCTYPE" in text:
            return False
        try:
            expat.ParserCreate("utf-8").Parse(text.encode("utf-8"), True)
        except (expat.ExpatError, UnicodeEncodeError):
            return False
        return True

    def read(self, text: str, top: TextTable, row: int) -> None:
        """Reads one text; parts without an outer element belong to a row of ``top``.

        Raises:
            Unreadable: it is nested too deeply.
        """
        # For every open element its table and row, its path, and its contents.
        stack: list[tuple[TextTable, int, str, list[_Value | None]]] = [(top, row, "", [])]
        for token in _MARKUP.finditer(text):
            table, here, path, content = stack[-1]
            if name := token["name"]:
                content.append(None)
                if len(stack) > MOST_NESTED:
                    raise Unreadable(tr("What stands in its cells is nested too deeply."))
                path = f"{path}/{name}" if path else name
                table = self.table(path, table)
                here = table.add(here)
                for found in _ATTRIBUTES.finditer(text, *token.span("attributes")):
                    group = 2 if found[2] is not None else 3
                    said = said_by(found[group], '"' if group == 2 else "'") or ""
                    table.put(here, "@" + found[1], said, *found.span(group), _ATTRIBUTE)
                if not token["empty"]:
                    stack.append((table, here, path, []))
            elif token["end"]:
                if len(content) == 1 and content[0] is not None:
                    table.put(here, "", *content[0])
                stack.pop()
            elif token["cdata"] is not None:
                content.append((token["cdata"], *token.span("cdata"), _CDATA))
            elif (said := token["text"]) and said.strip():
                content.append((said_by(said) or "", *token.span("text"), _TEXT))

    def end(self) -> None:
        """What occurs at most once in something becomes columns of it, from the inside out."""
        for name in sorted(self.tables, key=lambda n: -n.count("/")):
            table = self.tables[name]
            inside = name.removeprefix(self._prefix)
            below = any(other.startswith(name + "/") for other in self.tables)
            if inside and not below and table.has_only():
                table.fold_into_parent(inside.rpartition("/")[2])
                del self.tables[name]

    def spelled(self, value: str, like: str, form: int) -> str:
        """With special characters written as references."""
        if form == _CDATA:
            if "]]>" in value:
                raise Unreadable(tr("A name cannot be written where the path is."))
            return value
        return escaped(value, form == _ATTRIBUTE)


_SEPARATORS = ("\n", ";", "|", "&")
_PAIR = re.compile(r"\s*([A-Za-z_][\w .\-]{0,60}?)\s*=\s*(.*?)\s*", re.DOTALL)


class CellPairs(_Tables):
    """``key=value``, separated by line ends or by one of a few letters."""

    def __init__(self, prefix: str, separator: str) -> None:
        super().__init__(prefix)
        self._separator = separator

    @staticmethod
    def separator_of(texts: Sequence[str]) -> str:
        """The separator of pairs in some texts; empty if they are not pairs."""
        for separator in _SEPARATORS:
            pieces = [[p for p in text.split(separator) if p.strip()] for text in texts]
            if all(len(p) > 1 for p in pieces) and all(
                _PAIR.fullmatch(piece) for some in pieces for piece in some
            ):
                return separator
        return ""

    def is_one(self, text: str) -> bool:
        """True for every text: parts that are not pairs are ignored."""
        return bool(text)

    def read(self, text: str, top: TextTable, row: int) -> None:
        """Reads one text; a repeated key belongs to no column."""
        at = 0
        for piece in text.split(self._separator):
            found = _PAIR.fullmatch(piece)
            if found:
                start, end = found.span(2)
                top.put(row, found[1], found[2], at + start, at + end)
            at += len(piece) + 1

    def end(self) -> None:
        """Nothing to do."""

    def spelled(self, value: str, like: str, form: int) -> str:
        """Unchanged, if it can be written like that."""
        if self._separator in value or "\n" in value or value != value.strip():
            raise Unreadable(tr("A name cannot be written there the way the others are."))
        return value
