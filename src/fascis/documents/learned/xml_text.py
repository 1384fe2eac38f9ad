"""XML as tables: elements of one path are rows, their attributes and texts are columns.

What lies in an element at most once is a column of its row. In a property list an element is called
by its key. Entities of a document's own are not read.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from xml.parsers import expat
from xml.sax.saxutils import escape

from fascis.documents.learned.tables import Cell, TextColumn, TextTable, Unreadable

MOST_NESTED = 500
_MOST_PATHS = 5000
# Letters.
_LONG = 200
# What lies in a map is called so, whatever its key.
_ANY = "*"
# How a value stands there.
_TEXT, _ATTRIBUTE, _MIXED = 0, 1, 2


class _Kind:
    """The elements of one path."""

    __slots__ = ("called", "children", "columns", "keyed", "path", "table")

    def __init__(self, called: str, path: str, table: TextTable, keyed: bool) -> None:
        self.called, self.path, self.table, self.keyed = called, path, table, keyed
        self.children: dict[str, _Kind] = {}
        # None for a column whose values are not kept.
        self.columns: dict[str, TextColumn | None] = {}


class _Open:
    """An element that is open."""

    __slots__ = ("children", "kind", "mixed", "pending", "row", "start", "text")

    def __init__(self, kind: _Kind, row: int, start: int) -> None:
        self.kind, self.row = kind, row
        self.text: list[str] | None = None
        # Where its tag begins.
        self.start = start
        self.children = self.mixed = False
        # In a property list: the key that was read last, and how it stands there.
        self.pending: tuple[str, int, int, int] | None = None


class XmlTables:
    """The tables of an XML document.

    Args:
        only: columns whose values are kept, ``TABLE/COLUMN``; without it, of all.

    Raises:
        Unreadable: it is not well-formed, nested too deeply, or has entities of its own.
    """

    def __init__(self, content: bytes, only: Collection[str] | None = None) -> None:
        self.content, self._only = content, only
        self.container = "xml"
        self._tables: dict[str, TextTable] = {}
        self._stack: list[_Open] = []
        parser = expat.ParserCreate()
        parser.buffer_text = True
        parser.buffer_size = 1 << 16
        parser.StartElementHandler = self._start
        parser.EndElementHandler = self._end
        parser.CharacterDataHandler = self._characters
        parser.EntityDeclHandler = self._entity
        parser.CommentHandler = parser.ProcessingInstructionHandler = self._aside
        parser.ordered_attributes = True
        self._parser = parser
        try:
            parser.Parse(content, True)
        except expat.ExpatError as error:
            raise Unreadable(f"It is no well-formed XML ({error}).") from error
        self._fold()
        for table in self._tables.values():
            table.is_among(list(self._tables.values()))

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return list(self._tables.values())

    def _entity(self, *_: object) -> None:
        raise Unreadable("It has entities of its own, which are not read.")

    def _aside(self, *_: object) -> None:
        if self._stack:
            self._stack[-1].mixed = True

    def _kind(self, called: str, above: _Kind | None) -> _Kind:
        if len(self._tables) >= _MOST_PATHS:
            raise Unreadable("It has too many kinds of elements to be looked through.")
        if above is None and called == "plist":
            self.container = "plist"
        path = f"{above.path}/{called}" if above else called
        table = self._tables.get(path)
        if table is None:
            table = self._tables[path] = TextTable(path, above.table if above else None)
        return _Kind(called, path, table, False)

    def _start(self, name: str, attributes: list[str]) -> None:
        stack = self._stack
        if stack:
            above = stack[-1]
            above.children = True
            key = above.pending
            kind = above.kind.children.get(name)
            if kind is None or above.kind.keyed:
                kind = self._child(above, name)
            row = kind.table.add(above.row)
            if key is not None and kind.called == _ANY:
                self._keep(kind, row, "@key", *key)
        else:
            kind = self._kind(name, None)
            row = kind.table.add()
        at = self._parser.CurrentByteIndex
        if attributes:
            for n in range(0, len(attributes), 2):
                self._keep(kind, row, "@" + attributes[n], attributes[n + 1], at, -1, _ATTRIBUTE)
        stack.append(_Open(kind, row, at))

    def _child(self, above: _Open, name: str) -> _Kind:
        """The kind of an element that was not seen before, or is called by a key."""
        if len(self._stack) > MOST_NESTED:
            raise Unreadable("It is nested too deeply.")
        called = name
        if above.kind.keyed and name != "key":
            said, above.pending = above.pending, None
            called = name if said is None else said[0]
            if "/" in called or "\\" in called:
                # A map: its keys are values.
                called = _ANY
        key = f"{name} {called}" if called != name else name
        kind = above.kind.children.get(key)
        if kind is None:
            kind = above.kind.children[key] = self._kind(called, above.kind)
            kind.keyed = self.container == "plist" and name == "dict"
        return kind

    def _keep(
        self, kind: _Kind, row: int, name: str, value: str, start: int, end: int, form: int
    ) -> None:
        # What is long and has no slash is neither a path nor a key.
        if len(value) > _LONG and "/" not in value and "\\" not in value:
            return
        column = kind.columns.get(name)
        if column is None:
            if name in kind.columns:
                return
            whole = f"{kind.path}/{name}" if name else kind.path
            kept = self._only is None or whole in self._only
            column = kind.columns[name] = kind.table.open_column(name) if kept else None
            if column is None:
                return
        column.put(row, value, start, end, form)

    def _characters(self, text: str) -> None:
        open_ = self._stack[-1]
        if open_.text is None:
            open_.text = []
        open_.text.append(text)

    def _end(self, name: str) -> None:
        stack = self._stack
        open_ = stack.pop()
        if open_.text is None or open_.children:
            return
        text = open_.text
        value = text[0] if len(text) == 1 else "".join(text)
        if name == "key" and stack and stack[-1].kind.keyed:
            form = _MIXED if open_.mixed else _TEXT
            stack[-1].pending = (value, open_.start, self._parser.CurrentByteIndex, form)
            return
        form = _MIXED if open_.mixed else _TEXT
        end = self._parser.CurrentByteIndex
        self._keep(open_.kind, open_.row, "", value, open_.start, end, form)

    def _fold(self) -> None:
        """What lies in something at most once becomes columns of that, from within outwards."""
        for path in sorted(self._tables, key=lambda p: -p.count("/")):
            table = self._tables[path]
            above, _, name = path.rpartition("/")
            if above and table.has_only() and not self._has_rows_below(path):
                table.fold_into_parent(name)
                del self._tables[path]

    def _has_rows_below(self, path: str) -> bool:
        return any(other.startswith(path + "/") for other in self._tables)

    # -- writing anew ------------------------------------------------------------------------------

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes:
        """The document with some cells changed; every other byte as it was."""
        encoding = _encoding_of(self.content)
        holes = sorted(self._hole(cell, value, encoding) for cell, value in edits.items())
        parts: list[bytes] = []
        at = 0
        for start, end, text in holes:
            if start < at:
                raise Unreadable("Two of its paths stand at one place.")
            parts += (self.content[at:start], text)
            at = end
        parts.append(self.content[at:])
        return b"".join(parts)

    def _hole(self, cell: Cell, value: str, encoding: str) -> tuple[int, int, bytes]:
        column = self._tables[cell.table].column(cell.column)
        start, end, form = (column.starts[cell.row], column.ends[cell.row], column.forms[cell.row])
        if form == _MIXED:
            raise Unreadable("A comment stands in the middle of a path.")
        if form == _ATTRIBUTE:
            name = cell.column.rpartition("@")[2]
            start, end, quote = _attribute_at(self.content, start, name, encoding)
            text = escape(value, {quote: "&quot;" if quote == '"' else "&apos;"})
        else:
            whole = self.content[start:end].decode(encoding)
            tag = _TAG.match(whole)
            if not tag:
                raise Unreadable("One of its paths was not found again.")
            start += len(tag[0].encode(encoding))
            raw = whole[tag.end() :]
            lead = raw[: len(raw) - len(raw.lstrip())]
            if raw.strip().startswith("<![CDATA["):
                if "]]>" in value:
                    raise Unreadable("A name cannot stand where the path does.")
                text = f"{lead}<![CDATA[{value}]]>"
            else:
                text = escape(value)
        try:
            return start, end, text.encode(encoding)
        except UnicodeEncodeError:
            spelled = text.encode(encoding, "xmlcharrefreplace")
            return start, end, spelled


_TAG = re.compile(r"""<[^\s/>]+(?:\s+[^\s=/>]+\s*=\s*(?:"[^"]*"|'[^']*'))*\s*>""")
_DECLARED = re.compile(rb"""^<\?xml[^>]*?encoding\s*=\s*["']([A-Za-z0-9._-]+)["']""")


def _encoding_of(content: bytes) -> str:
    """How a document's bytes are text: by its mark, its declaration, else UTF-8."""
    if content.startswith(b"\xff\xfe"):
        return "utf-16-le"
    if content.startswith(b"\xfe\xff"):
        return "utf-16-be"
    found = _DECLARED.match(content.removeprefix(b"\xef\xbb\xbf"))
    return found[1].decode() if found else "utf-8"


def _attribute_at(content: bytes, tag: int, name: str, encoding: str) -> tuple[int, int, str]:
    """Where the value of an attribute stands, and the quote around it.

    Args:
        tag: where its element begins.
    """
    width = 2 if encoding.startswith("utf-16") else 1
    length = 1 << 12
    while True:
        piece = content[tag : tag + length]
        text = piece.decode(encoding, "ignore")
        found = _find_attribute(text, name)
        if found:
            start, end, quote = found
            before = len(text[:start].encode(encoding))
            value = len(text[start:end].encode(encoding))
            return tag + before, tag + before + value, quote
        if tag + length >= len(content) + width:
            raise Unreadable("One of its paths was not found again.")
        length *= 4


_ATTRIBUTES = re.compile(r"""([^\s=/>]+)\s*=\s*(?:"([^"]*)"|'([^']*)')""")


def _find_attribute(text: str, name: str) -> tuple[int, int, str] | None:
    at = re.compile(r"<[^\s/>]+").match(text)
    if not at:
        return None
    position = at.end()
    while found := _ATTRIBUTES.search(text, position):
        between = text[position : found.start()]
        if ">" in between:
            return None
        if found[1] == name:
            group = 2 if found[2] is not None else 3
            return (*found.span(group), '"' if group == 2 else "'")
        position = found.end()
    return None
