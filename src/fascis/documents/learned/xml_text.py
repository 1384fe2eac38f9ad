"""XML as tables: elements of one path are rows, their attributes and texts are columns.

What occurs in an element at most once is a column of its row. In a property list an element is
named by its key. Entities defined in the document are not read.
"""

from __future__ import annotations

import io
import re
from array import array
from collections.abc import Mapping, Sequence
from itertools import groupby
from xml.parsers import expat

from msgspec import field

from fascis.documents.learned.markup import escaped, said_by
from fascis.documents.learned.tables import Cell, TextColumn, TextTable, Unreadable
from fascis.words.speech import tr

MOST_NESTED = 500
_MOST_PATHS = 5000
# Letters.
_LONG = 200
# Repeated values of a column are kept once.
_MOST_KNOWN = 500
# The name of everything in a map, whatever its key.
_ANY = "*"
_FOUND_AGAIN = tr("One of its paths was not found again.")


class XmlColumn(TextColumn):
    """A column of attributes or of texts.

    Only the position of the tag is stored for each value; the rest is found when it is changed.
    """

    attribute: bool = False
    known: dict[str, str] | None = field(default_factory=dict)

    def fill(self, count: int) -> None:
        """Sets the number of rows."""
        missing = count - len(self.values)
        if missing:
            self.values.extend([None] * missing)
            self.starts.extend([-1] * missing)

    def put(self, row: int, value: str, start: int, end: int = -1, form: int = 0) -> None:
        """Sets the value of a row; rows come in order."""
        values = self.values
        if len(values) != row:
            if len(values) > row:
                # A second value with one name in one row: both are ignored.
                return
            self.fill(row)
        if self.known is not None:
            if len(self.known) > _MOST_KNOWN:
                self.known = None
            else:
                value = self.known.setdefault(value, value)
        values.append(value)
        self.starts.append(start)

    def move(self, row: int, to: TextColumn, there: int) -> None:
        """Copies one of its values into a row of another column."""
        value = self.values[row]
        if value is not None:
            to.put(there, value, self.starts[row], -1)

    def new(self, name: str) -> XmlColumn:
        """An empty column of its kind."""
        return XmlColumn(name, attribute=self.attribute)


class _Kind:
    """The elements of one path."""

    __slots__ = ("attributes", "called", "children", "keyed", "parents", "path", "table", "texts")

    def __init__(self, called: str, path: str, table: TextTable, keyed: bool) -> None:
        self.called, self.path, self.table, self.keyed = called, path, table, keyed
        self.parents: array[int] = table.parents
        self.children: dict[str, _Kind] = {}
        self.attributes: dict[str, XmlColumn] = {}
        self.texts: XmlColumn | None = None


class _Open:
    """An open element; reused for the next one of its depth."""

    __slots__ = ("children", "kind", "pending", "row", "start", "text")

    def __init__(self) -> None:
        self.kind: _Kind
        self.row = self.start = 0
        self.text: str | None = None
        self.children = False
        # In a property list: the last key, and the position of its tag.
        self.pending: tuple[str, int] | None = None


class XmlTables:
    """The tables of an XML document.

    Raises:
        Unreadable: it is not well-formed, nested too deeply, or has entities of its own.
    """

    def __init__(self, content: bytes) -> None:
        self.content = content
        self.container = "xml"
        self._tables: dict[str, TextTable] = {}
        self._stack: list[_Open] = []
        self._depth = 0
        parser = expat.ParserCreate()
        parser.buffer_text = True
        parser.buffer_size = 1 << 16
        parser.StartElementHandler = self._start
        parser.EndElementHandler = self._end
        parser.CharacterDataHandler = self._characters
        parser.EntityDeclHandler = self._entity
        parser.ordered_attributes = True
        self._parser = parser
        try:
            parser.Parse(content, True)
        except expat.ExpatError as error:
            raise Unreadable(tr("It is not well-formed XML ({error}).", error=error)) from error
        del self._stack[:]
        self._fold()
        for table in self._tables.values():
            table.is_among(list(self._tables.values()))

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return list(self._tables.values())

    def _entity(self, *_: object) -> None:
        raise Unreadable(tr("It has its own entities, which are not supported."))

    def _kind(self, called: str, above: _Kind | None) -> _Kind:
        if len(self._tables) >= _MOST_PATHS:
            raise Unreadable(tr("It has too many kinds of elements to be looked through."))
        if above is None and called == "plist":
            self.container = "plist"
        path = f"{above.path}/{called}" if above else called
        table = self._tables.get(path)
        if table is None:
            table = self._tables[path] = TextTable(path, above.table if above else None)
        return _Kind(called, path, table, False)

    def _start(self, name: str, attributes: list[str]) -> None:
        depth, stack = self._depth, self._stack
        at = self._parser.CurrentByteIndex
        if depth:
            above = stack[depth - 1]
            above.children = True
            kind = above.kind.children.get(name)
            if kind is None or above.kind.keyed:
                kind = self._child(above, name, above.row)
            kind.parents.append(above.row)
        else:
            kind = self._kind(name, None)
            kind.parents.append(-1)
        row = len(kind.parents) - 1
        if depth == len(stack):
            stack.append(_Open())
        here = stack[depth]
        here.kind, here.row, here.start = kind, row, at
        # Nothing is known yet of its contents.
        here.text = here.pending = None
        here.children = False
        self._depth = depth + 1
        known = kind.attributes
        for n in range(0, len(attributes), 2):
            value = attributes[n + 1]
            if len(value) > _LONG and _is_long(value):
                continue
            column = known.get(attributes[n])
            if column is None:
                column = known[attributes[n]] = _column(kind.table, "@" + attributes[n], True)
            column.put(row, value, at)

    def _child(self, above: _Open, name: str, row: int) -> _Kind:
        """The kind of an element that is new, or named by a key."""
        if self._depth > MOST_NESTED:
            raise Unreadable(tr("It is nested too deeply."))
        called, key = name, None
        if above.kind.keyed and name != "key":
            key, above.pending = above.pending, None
            called = name if key is None else key[0]
            if "/" in called or "\\" in called:
                # A map: its keys are values.
                called = _ANY
        which = f"{name} {called}" if called != name else name
        kind = above.kind.children.get(which)
        if kind is None:
            kind = above.kind.children[which] = self._kind(called, above.kind)
            kind.keyed = self.container == "plist" and name == "dict"
        if key is not None and called == _ANY and not _is_long(key[0]):
            # Its row is the next one.
            _column(kind.table, "@key", False).put(len(kind.parents), *key)
        return kind

    def _characters(self, text: str) -> None:
        here = self._stack[self._depth - 1]
        here.text = text if here.text is None else here.text + text

    def _end(self, name: str) -> None:
        self._depth -= 1
        here = self._stack[self._depth]
        value = here.text
        if value is None or here.children:
            return
        if name == "key" and self._depth and self._stack[self._depth - 1].kind.keyed:
            self._stack[self._depth - 1].pending = (value, here.start)
            return
        if len(value) > _LONG and _is_long(value):
            return
        kind = here.kind
        if kind.texts is None:
            kind.texts = _column(kind.table, "", False)
        kind.texts.put(here.row, value, here.start)

    def _fold(self) -> None:
        """What occurs in something at most once becomes columns of it, from the inside out."""
        for path in sorted(self._tables, key=lambda p: -p.count("/")):
            table = self._tables[path]
            above, _, name = path.rpartition("/")
            if above and table.has_only() and not self._has_rows_below(path):
                table.fold_into_parent(name)
                del self._tables[path]

    def _has_rows_below(self, path: str) -> bool:
        return any(other.startswith(path + "/") for other in self._tables)

    # -- writing again ----------------------------------------------------------------------------

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes:
        """The document with some cells changed; every other byte is unchanged.

        It is proven during writing: the text in every hole was the value read, and the new text
        means the new value and ends where the old one ended.
        """
        encoding, content = _encoding_of(self.content), memoryview(self.content)
        # Written piece by piece: there may be as many as there are paths.
        new = io.BytesIO()
        at = 0
        columns = {(table, name): self._column(table, name) for table, name, _ in edits}

        def tag_of(cell: Cell) -> int:
            return columns[cell[:2]].starts[cell.row]

        for tag, cells in groupby(sorted(edits, key=tag_of), tag_of):
            holes = [self._hole(columns[c[:2]], c, tag, edits[c], encoding) for c in cells]
            for start, end, text in sorted(holes) if len(holes) > 1 else holes:
                if start < at:
                    raise Unreadable(tr("Two of its paths stand at one place."))
                new.write(content[at:start])
                new.write(text)
                at = end
        new.write(content[at:])
        _check(new)
        return new.getvalue()

    def _column(self, table: str, name: str) -> XmlColumn:
        column = self._tables[table].column(name)
        assert isinstance(column, XmlColumn)
        return column

    def saying(self, edits: Mapping[Cell, str]) -> list[TextTable]:
        """The tables with some cells changed, as the rewritten document will be read."""
        changed: dict[str, dict[str, dict[int, str]]] = {}
        for cell, value in edits.items():
            changed.setdefault(cell.table, {}).setdefault(cell.column, {})[cell.row] = value
        known: dict[TextTable, TextTable] = {}
        for path in sorted(self._tables, key=lambda p: p.count("/")):
            table = self._tables[path]
            known[table] = table.saying(changed.get(path, {}), known)
        found = [known[table] for table in self._tables.values()]
        for table in found:
            table.is_among(found)
        return found

    def _hole(
        self, column: XmlColumn, cell: Cell, tag: int, value: str, encoding: str
    ) -> tuple[int, int, bytes]:
        """The position of a value, and its new text; checked before and after."""
        name = cell.column.rpartition("@")[2] if column.attribute else ""
        start, end, raw, quote = _standing(self.content, tag, name, encoding)
        if said_by(raw, quote) != column.values[cell.row]:
            raise Unreadable(_FOUND_AGAIN)
        if raw.startswith("<![CDATA["):
            text = f"<![CDATA[{value}]]>"
        else:
            text = escaped(value, bool(quote))
        try:
            new = text.encode(encoding)
        except UnicodeEncodeError:
            new = text.encode(encoding, "xmlcharrefreplace")
        if said_by(new.decode(encoding), quote) != value:
            raise Unreadable(tr("A name cannot be written where the path is."))
        return start, end, new


def _is_long(value: str) -> bool:
    """True for a long text without a slash: neither a path nor a key."""
    return len(value) > _LONG and "/" not in value and "\\" not in value


def _column(table: TextTable, name: str, attribute: bool) -> XmlColumn:
    """A column of a table, created if needed."""
    column = table.open_column(name, XmlColumn(name, attribute=attribute))
    assert isinstance(column, XmlColumn)
    return column


def _check(content: io.BytesIO) -> None:
    """Reads a rewritten document.

    Raises:
        Unreadable: it is well-formed no more.
    """
    try:
        content.seek(0)
        expat.ParserCreate().ParseFile(content)
    except expat.ExpatError as error:
        raise Unreadable(tr("It would not be well-formed XML ({error}).", error=error)) from error


_BEGINS = re.compile(r"<[^\s/>]+")
_ATTRIBUTE = re.compile(r"""\s+([^\s=/>]+)\s*=\s*(?:"([^"]*)"|'([^']*)')""")
_TEXT = re.compile(r"\s*>((?:[^<]+|<!\[CDATA\[.*?\]\]>)*)", re.DOTALL)
# Letters that show its encoding.
_ENOUGH = 12
_DECLARED = re.compile(rb"""^<\?xml[^>]*?encoding\s*=\s*["']([A-Za-z0-9._-]+)["']""")


def _encoding_of(content: bytes) -> str:
    """A document's encoding: by its mark, its declaration, otherwise UTF-8."""
    if content.startswith(b"\xff\xfe"):
        return "utf-16-le"
    if content.startswith(b"\xfe\xff"):
        return "utf-16-be"
    found = _DECLARED.match(content.removeprefix(b"\xef\xbb\xbf"))
    return found[1].decode() if found else "utf-8"


def _standing(content: bytes, tag: int, name: str, encoding: str) -> tuple[int, int, str, str]:
    """The span in bytes of an attribute's value or an element's text, and that text.

    Args:
        tag: the start of the element.
        name: of the attribute; empty for the text.

    Returns:
        With the quote around an attribute's value at the end.

    Raises:
        Unreadable: it is not there.
    """
    length = 1 << 10
    while True:
        text = content[tag : tag + length].decode(encoding, "ignore")
        found = _find(text, name)
        if found:
            start, end, quote = found
            before = tag + len(text[:start].encode(encoding))
            raw = text[start:end]
            return before, before + len(raw.encode(encoding)), raw, quote
        if tag + length >= len(content):
            raise Unreadable(_FOUND_AGAIN)
        length *= 4


def _find(text: str, name: str) -> tuple[int, int, str] | None:
    """The same in the text from the start of the tag; None if more text is needed.

    Raises:
        Unreadable: something else stands there, a comment perhaps.
    """
    begins = _BEGINS.match(text)
    if not begins:
        return None
    at = begins.end()
    while found := _ATTRIBUTE.match(text, at):
        if name and found[1] == name:
            group = 2 if found[2] is not None else 3
            return (*found.span(group), '"' if group == 2 else "'")
        at = found.end()
    inside = _TEXT.match(text, at)
    if inside and not name and text.startswith("</", inside.end()):
        return (*inside.span(1), "")
    rest = text[inside.end() :] if inside else text[at:]
    if (inside and name) or (len(rest) > _ENOUGH and inside and not rest.startswith("<![CDATA[")):
        raise Unreadable(tr("A comment is in the middle of a path."))
    return None
