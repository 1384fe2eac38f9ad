"""The container of a document, by its first bytes, and packing it again."""

from __future__ import annotations

import gzip
import io
import zipfile
import zlib
from collections.abc import Collection, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from blake3 import blake3
from msgspec import Struct

from fascis.documents.learned import database
from fascis.documents.learned.database import Database
from fascis.documents.learned.json_text import JsonTables, NoJson
from fascis.documents.learned.plain_text import PlainTables
from fascis.documents.learned.tables import Cell, Column, Join, Table, TextTable, Unreadable
from fascis.documents.learned.text import Text, shape_of
from fascis.documents.learned.xml_text import XmlTables
from fascis.words.speech import tr

# Bytes, unpacked.
LARGEST = 512 << 20
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"


class TextContents:
    """A document of text: JSON, XML, a property list, or plain."""

    def __init__(self, content: bytes) -> None:
        self._content = content
        self._tables: XmlTables | JsonTables | PlainTables
        start = content[:4096].lstrip(b"\xef\xbb\xbf\xff\xfe \t\r\n\0")
        self._text: Text | None = None
        if start.startswith(b"<"):
            self._tables = XmlTables(content)
        else:
            self._text = Text.of(content)
            if start[:1] in (b"{", b"["):
                self._tables = _json_or_plain(self._text.text)
            else:
                self._tables = PlainTables(self._text.text)
        self.container = self._tables.container
        # The rewritten document, read again.
        self.after: TextContents | Anew | None = None

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return self._tables.tables()

    def shape(self) -> bytes:
        """A digest of the names of tables and columns."""
        lines = shape_of(self.container, self.tables())
        return blake3("\n".join(lines).encode("utf-8", "surrogatepass")).digest()

    def forget_all_but(self, columns: Collection[tuple[str, str]]) -> None:
        """Frees what is not needed for writing; for XML, which is proven piece by piece."""
        if isinstance(self._tables, XmlTables):
            for table in self.tables():
                table.forget_all_but({name for where, name in columns if where == table.name})

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes:
        """The document with some cells changed and every other byte unchanged; read again.

        Raises:
            Unreadable: it would not be read as it was to be.
        """
        content = self.filled(edits)
        if isinstance(self._tables, XmlTables):
            # Proven piece by piece: between the changes the bytes are equal.
            self.after = Anew(self.container, self._tables.saying(edits))
            return content
        self.after = TextContents(content)
        if not _differ_in(self.tables(), self.after.tables(), edits):
            raise Unreadable(tr("It would not read back correctly."))
        return content

    def filled(self, edits: Mapping[Cell, str]) -> bytes:
        """The same, not yet read again.

        Raises:
            Unreadable: a value cannot stand where it is to.
        """
        if isinstance(self._tables, XmlTables):
            return self._tables.rewritten(edits)
        assert self._text
        return self._text.encoded(self._tables.rewritten(edits))


def _json_or_plain(text: str) -> JsonTables | PlainTables:
    try:
        return JsonTables(text)
    except NoJson:
        # Settings begin with a bracket too.
        if text.lstrip().startswith("["):
            return PlainTables(text)
        raise


def _differ_in(
    old: Sequence[TextTable], new: Sequence[TextTable], edits: Mapping[Cell, str]
) -> bool:
    """True if the changed cells have their new values, and all others their old ones."""
    by_column: dict[tuple[str, str], dict[int, str]] = {}
    for cell, value in edits.items():
        by_column.setdefault((cell.table, cell.column), {})[cell.row] = value
    if [t.name for t in old] != [t.name for t in new]:
        return False
    for mine, theirs in zip(old, new, strict=True):
        if len(mine) != len(theirs) or mine.columns() != theirs.columns():
            return False
        for name in mine.columns():
            was, now = mine.column(name).all(), theirs.column(name).all()
            if changed := by_column.get((mine.name, name)):
                was = [changed.get(row, value) for row, value in enumerate(was)]
            if was != now:
                return False
    return True


class Anew(Struct, frozen=True):
    """The tables of a rewritten document."""

    container: str
    _tables: Sequence[TextTable]

    def tables(self) -> Sequence[TextTable]:
        """All tables."""
        return self._tables

    def shape(self) -> bytes:
        """The same as before: only values changed."""
        lines = shape_of(self.container, self._tables)
        return blake3("\n".join(lines).encode("utf-8", "surrogatepass")).digest()

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes:
        """It is written once.

        Raises:
            Unreadable: always.
        """
        raise Unreadable(tr("It was rewritten already."))


class Packed:
    """A document in gzip, or the members of a ZIP, as one.

    Raises:
        Unreadable: it is damaged, too large unpacked, or has two members of one name.
    """

    def __init__(self, content: bytes) -> None:
        self._content = content
        self._members: dict[str, TextContents] = {}
        if content.startswith(_GZIP):
            self.kind = "gzip"
            self._members[""] = TextContents(_unzipped(content))
        else:
            self.kind = "zip"
            self._open_zip()
        if not self._members:
            raise Unreadable(tr("Nothing in it can be read."))
        self.container = f"{self.kind}+{next(iter(self._members.values())).container}"

    def _open_zip(self) -> None:
        left = LARGEST
        try:
            with zipfile.ZipFile(io.BytesIO(self._content)) as packed:
                infos = packed.infolist()
                names = [info.filename for info in infos]
                if len(set(names)) != len(names):
                    raise Unreadable(tr("Two things in it have the same name."))
                for info in infos:
                    left -= info.file_size
                    if left < 0:
                        raise Unreadable(tr("It is too large unpacked."))
                    if info.is_dir():
                        continue
                    with packed.open(info) as file:
                        content = file.read(info.file_size + 1)
                    if len(content) != info.file_size:
                        raise Unreadable(tr("It is damaged."))
                    try:
                        self._members[info.filename] = TextContents(content)
                    except Unreadable:
                        # For example a picture: it stays unchanged.
                        continue
        except (
            zipfile.BadZipFile,
            zlib.error,
            OSError,
            RuntimeError,
            NotImplementedError,
            EOFError,
            ValueError,
        ) as error:
            raise Unreadable(
                tr("It is packed in a way that is not supported ({error}).", error=error)
            ) from error

    def tables(self) -> Sequence[Table]:
        """The tables of all members, with the members' names."""
        found: list[Table] = []
        for name, member in self._members.items():
            found += [_Renamed(table, name) if name else table for table in member.tables()]
        return found

    def shape(self) -> bytes:
        """A digest of what its members have in common."""
        hasher = blake3(self.kind.encode())
        for name, member in sorted(self._members.items()):
            hasher.update(name.encode("utf-8", "surrogateescape") + member.shape())
        return hasher.digest()

    def filled(self, edits: Mapping[Cell, str]) -> None:
        """Tests whether every value can be written at its position.

        Raises:
            Unreadable: one cannot.
        """
        for name, member in self._members.items():
            if some := _of_member(edits, name):
                member.filled(some)

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes:
        """Packed again, with some cells changed."""
        changed = {
            name: member.rewritten(some)
            for name, member in self._members.items()
            if (some := _of_member(edits, name))
        }
        if self.kind == "gzip":
            return _zipped_like(self._content, changed[""])
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(self._content)) as old, zipfile.ZipFile(out, "w") as new:
            new.comment = old.comment
            for info in old.infolist():
                content = changed.get(info.filename)
                new.writestr(info, old.read(info) if content is None else content)
        return out.getvalue()


class _Renamed:
    """A table of a member, named by both."""

    def __init__(self, table: Table, member: str) -> None:
        self.name, self._table, self._member = f"{member}:{table.name}", table, member

    def __len__(self) -> int:
        return len(self._table)

    def columns(self) -> Sequence[str]:
        """The names of its columns."""
        return self._table.columns()

    def column(self, name: str) -> Column:
        """One of them."""
        return self._table.column(name)

    def says_something(self, name: str) -> bool:
        """True for a column with a value in some row."""
        return self._table.says_something(name)

    def joins(self) -> Sequence[Join]:
        """The tables in which its rows lie."""
        return [_RenamedJoin(join, self._member) for join in self._table.joins()]


class _RenamedJoin:
    def __init__(self, join: Join, member: str) -> None:
        self._join, self.name = join, join.name
        self.to: Table = _Renamed(join.to, member)

    def some(self, rows: Sequence[int]) -> list[int]:
        """For some rows, the row to which each leads."""
        return self._join.some(rows)

    def all(self) -> Sequence[int]:
        """The same for all rows."""
        return self._join.all()


def _of_member(edits: Mapping[Cell, str], member: str) -> dict[Cell, str]:
    if not member:
        return dict(edits)
    begin = member + ":"
    return {
        Cell(cell.table.removeprefix(begin), cell.column, cell.row): value
        for cell, value in edits.items()
        if cell.table.startswith(begin)
    }


def _unzipped(content: bytes) -> bytes:
    packed = zlib.decompressobj(31)
    try:
        text = packed.decompress(content, LARGEST + 1)
    except zlib.error as error:
        raise Unreadable(tr("It is damaged ({error}).", error=error)) from error
    if len(text) > LARGEST or packed.unconsumed_tail:
        raise Unreadable(tr("It is too large unpacked."))
    if not packed.eof or packed.unused_data:
        raise Unreadable(tr("It is packed in several pieces, which is not supported."))
    return text


def _zipped_like(old: bytes, content: bytes) -> bytes:
    """Packed with the time and name of the old one."""
    out = io.BytesIO()
    mtime = int.from_bytes(old[4:8], "little")
    name = ""
    if old[3] & 0x08 and not old[3] & 0x04:
        name = old[10 : old.index(b"\0", 10)].decode("latin-1")
    with gzip.GzipFile(name, "wb", fileobj=out, mtime=mtime) as packed:
        packed.write(content)
    return out.getvalue()


class OpenedDatabase(AbstractContextManager["OpenedDatabase"]):
    """A private copy of a database."""

    container = "sqlite"

    def __init__(self, path: Path) -> None:
        self.path = path
        self.database = Database(path)

    def __exit__(self, *_: object) -> None:
        self.database.close()

    def tables(self) -> Sequence[Table]:
        """Its tables."""
        return self.database.tables()

    def shape(self) -> bytes:
        """A digest of the names of its tables and columns, and their types."""
        return self.database.shape()

    def rewritten(self, edits: Mapping[Cell, str]) -> Path:
        """Changes the private copy."""
        self.database.close()
        database.rewritten(self.path, edits)
        return self.path


def is_database(head: bytes) -> bool:
    """True for the first bytes of a database."""
    return head.startswith(database.MAGIC)


def contents_of(content: bytes) -> TextContents | Packed:
    """A document's tables, by its content; a database is opened by its path instead.

    Raises:
        Unreadable: it is none that is read.
    """
    if len(content) > LARGEST:
        raise Unreadable(tr("It is too large to search."))
    if content.startswith((_GZIP, _ZIP)):
        return Packed(content)
    return TextContents(content)
