"""Text documents: their bytes as text, spans of it replaced, and nothing else."""

from __future__ import annotations

import codecs
from collections.abc import Iterable

from msgspec import Struct

from fascis.documents.learned.tables import TextTable, Unreadable
from fascis.words.speech import tr

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


class Text(Struct, frozen=True):
    """A text and its encoding."""

    text: str
    encoding: str
    mark: bytes

    @classmethod
    def of(cls, content: bytes) -> Text:
        """Reads it by its byte order mark, otherwise as UTF-8.

        Raises:
            Unreadable: it is no text of these, or does not come back the same.
        """
        mark, encoding = next(
            ((mark, name) for mark, name in _MARKS if content.startswith(mark)), (b"", "utf-8")
        )
        try:
            text = content[len(mark) :].decode(encoding)
        except UnicodeDecodeError as error:
            raise Unreadable(tr("Its encoding is not known here.")) from error
        found = cls(text, encoding, mark)
        if "\0" in text or found.encoded(text) != content:
            raise Unreadable(tr("It is not plain text."))
        return found

    def encoded(self, text: str) -> bytes:
        """A text in the same encoding."""
        try:
            return self.mark + text.encode(self.encoding)
        except UnicodeEncodeError as error:
            raise Unreadable(tr("A name cannot be written in its encoding.")) from error


class Hole(Struct, frozen=True):
    """A span of a document, and its new content."""

    start: int
    end: int
    text: str


def filled(text: str, holes: Iterable[Hole]) -> str:
    """A text with its holes filled.

    Raises:
        Unreadable: two overlap.
    """
    parts: list[str] = []
    at = 0
    for hole in sorted(holes, key=lambda h: h.start):
        if hole.start < at:
            raise Unreadable(tr("Two of its paths stand at one place."))
        parts += (text[at : hole.start], hole.text)
        at = hole.end
    parts.append(text[at:])
    return "".join(parts)


def shape_of(container: str, tables: Iterable[TextTable]) -> list[str]:
    """Common to documents of one make: the names of tables and columns."""
    lines = [container]
    for table in tables:
        lines += sorted(f"{table.name}\t{column}" for column in table.columns())
    return sorted(lines)
