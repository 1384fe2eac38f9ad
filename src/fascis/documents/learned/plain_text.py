"""Plain text as tables: records of a list, settings by section, lines.

A line ``key = value`` or ``key: value`` is a row of those with that key, without numbers in it;
quotes around a value are left out. Settings of one kind of section are columns of a row for each
section.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from fascis.documents.learned.tables import NO_ROW, Cell, TextTable, Unreadable
from fascis.documents.learned.text import Hole, filled
from fascis.words.speech import tr

_SECTION = re.compile(r"^\s*\[([^\]\n]{1,200})\]\s*$")
_PAIR = re.compile(r"^(\s*(?:- )?\s*)([^\s:=#;][^:=]{0,80}?)(\s*(?:=|:(?=\s|$))\s*)(.*?)\s*$")
_ITEM = re.compile(r"^(\s*- )(.*?)\s*$")
_NUMBERS = re.compile(r"\d+")
_DELIMITERS = ",;\t|"
_MOST_FIELDS = 200
_QUOTED = re.compile(r"""^(["'])(.*)\1$""")
# How a value is written.
_BARE, _DOUBLED, _DOUBLE, _SINGLE = 0, 1, 2, 3


class PlainTables:
    """The tables of a plain text.

    Raises:
        Unreadable: there is nothing in it.
    """

    container = "text"

    def __init__(self, text: str) -> None:
        self.text = text
        self._tables: dict[str, TextTable] = {}
        if not (delimiter := _delimiter_of(text)):
            self._read_lines()
        else:
            self._read_records(delimiter)
        for table in self._tables.values():
            table.is_among(list(self._tables.values()))

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return list(self._tables.values())

    def _table(self, name: str, parent: TextTable | None = None) -> TextTable:
        if name not in self._tables:
            self._tables[name] = TextTable(name, parent)
        return self._tables[name]

    # -- records -----------------------------------------------------------------------------------

    def _read_records(self, delimiter: str) -> None:
        table = self._table("records")
        names: list[str] | None = None
        for fields in _records(self.text, delimiter):
            if names is None:
                values = [value for value, *_ in fields]
                plain = all(v and "/" not in v and "\\" not in v and "." not in v for v in values)
                names = values if plain and len(set(values)) == len(values) else []
                if plain and names:
                    continue
            row = table.add()
            for n, (value, start, end, form) in enumerate(fields):
                name = names[n] if n < len(names) else str(n)
                table.put(row, name, value, start, end, form)

    # -- lines -------------------------------------------------------------------------------------

    def _read_lines(self) -> None:
        section: TextTable | None = None
        row = NO_ROW
        at = 0
        records: dict[int, tuple[TextTable, int]] = {}
        for line in self.text.splitlines(keepends=True):
            start, at = at, at + len(line)
            body = line.rstrip("\r\n")
            if not body.strip():
                records.clear()
                continue
            if found := _SECTION.match(body):
                section = self._table("section " + _NUMBERS.sub("#", found[1]))
                row = section.add()
                records.clear()
                continue
            self._read_line(body, start, section, row, records)

    def _read_line(
        self,
        body: str,
        start: int,
        section: TextTable | None,
        row: int,
        records: dict[int, tuple[TextTable, int]],
    ) -> None:
        pair = _PAIR.match(body)
        if pair and "/" not in pair[2] and "\\" not in pair[2]:
            value, begin, end, form = _unquoted(pair[4], start + pair.start(4))
            key = pair[2].strip().strip("\"'")
            if section is not None and not _NUMBERS.search(key):
                section.put(row, key, value, begin, end, form)
                return
            if _NUMBERS.search(key):
                # Numbered keys are rows.
                table = self._table(
                    (section.name if section else "") + "/" + _NUMBERS.sub("#", key), section
                )
                table.put(table.add(row), "", value, begin, end, form)
                return
            self._put_in_record(pair[1], key, (value, begin, end, form), records)
            return
        item = _ITEM.match(body)
        text, offset = (item[2], item.start(2)) if item else (body.strip(), 0)
        if not item:
            offset = len(body) - len(body.lstrip())
        value, begin, end, form = _unquoted(text, start + offset)
        table = self._table("items" if item else "lines")
        table.put(table.add(), "", value, begin, end, form)

    def _put_in_record(
        self,
        indent: str,
        key: str,
        value: tuple[str, int, int, int],
        records: dict[int, tuple[TextTable, int]],
    ) -> None:
        """``key: value`` lines of one indentation, up to a dash or blank line, are one row."""
        depth = len(indent)
        begins = "- " in indent
        for deeper in [d for d in records if d > depth]:
            del records[deeper]
        above = max((d for d in records if d < depth), default=None)
        parent, parent_row = records[above] if above is not None else (None, NO_ROW)
        known = records.get(depth)
        table = self._table(f"{parent.name if parent else ''}/{depth}", parent)
        if known is None or begins or known[0].has(known[1], key):
            known = (table, table.add(parent_row))
            records[depth] = known
        if value[0]:
            known[0].put(known[1], key, *value)

    def rewritten(self, edits: Mapping[Cell, str]) -> str:
        """The text with some cells changed."""
        return filled(self.text, (self._hole(cell, value) for cell, value in edits.items()))

    def _hole(self, cell: Cell, value: str) -> Hole:
        column = self._tables[cell.table].column(cell.column)
        start, end, form = column.starts[cell.row], column.ends[cell.row], column.forms[cell.row]
        if "\n" in value or "\r" in value:
            raise Unreadable(tr("A name with a line break cannot be written in it."))
        if form == _DOUBLED:
            value = value.replace('"', '""')
        elif form == _DOUBLE and ('"' in value or "\\" in value):
            value = value.replace("\\", "\\\\").replace('"', '\\"')
        elif form == _SINGLE and "'" in value:
            raise Unreadable(tr("A name with a quotation mark cannot be written in it."))
        elif form == _BARE and (value != value.strip() or _needs_quotes(value, self.text, start)):
            raise Unreadable(tr("A name cannot be written there the way the others are."))
        return Hole(start, end, value)


def _needs_quotes(value: str, text: str, start: int) -> bool:
    """True for a bare value with a character that would end it."""
    line = text[text.rfind("\n", 0, start) + 1 : start]
    delimiters = [d for d in _DELIMITERS if line.endswith(d)]
    return value[:1] in "\"'" or any(d in value for d in delimiters)


def _unquoted(text: str, start: int) -> tuple[str, int, int, int]:
    """A value without its quotes, its span, and how it is written."""
    if found := _QUOTED.match(text):
        value = found[2]
        if found[1] == '"' and "\\" in value:
            value = value.replace('\\"', '"').replace("\\\\", "\\")
        return value, start + 1, start + len(text) - 1, _DOUBLE if found[1] == '"' else _SINGLE
    return text, start, start + len(text), _BARE


def _delimiter_of(text: str) -> str:
    """The separator of fields in a list of records; empty for any other text."""
    lines = [line for line in text.splitlines()[:60] if line.strip()]
    if len(lines) < 4:
        return ""
    for delimiter in _DELIMITERS:
        counts = {_count(line, delimiter) for line in lines}
        if len(counts) == 1 and 0 < next(iter(counts)) < _MOST_FIELDS:
            return delimiter
    return ""


def _count(line: str, delimiter: str) -> int:
    """How often it separates fields outside quotes."""
    return sum(part.count(delimiter) for part in line.split('"')[::2])


def _records(text: str, delimiter: str) -> list[list[tuple[str, int, int, int]]]:
    """Records by RFC 4180, each field with its span."""
    found: list[list[tuple[str, int, int, int]]] = []
    at, end = 0, len(text)
    record: list[tuple[str, int, int, int]] = []
    while at < end:
        if text[at] == '"':
            close = at + 1
            while (close := text.find('"', close)) >= 0 and text[close + 1 : close + 2] == '"':
                close += 2
            if close < 0:
                raise Unreadable(tr("A quotation mark in it is never closed."))
            record.append((text[at + 1 : close].replace('""', '"'), at + 1, close, _DOUBLED))
            at = close + 1
        else:
            close = at
            while close < end and text[close] not in (delimiter, "\n", "\r"):
                close += 1
            record.append((text[at:close], at, close, _BARE))
            at = close
        if at >= end:
            break
        if text[at] == delimiter:
            at += 1
            if at >= end or text[at] in "\r\n":
                record.append(("", at, at, _BARE))
            else:
                continue
        while at < end and text[at] in "\r\n":
            at += 1
        found.append(record)
        record = []
    if record:
        found.append(record)
    return found
