"""Playlists in XSPF (xspf.org, version 1): the ``location`` of every track is a URI.

Read with expat, which knows at which byte an element starts and ends. A document type declaration
is refused: playlists do not need it, and it can define entities.
"""

from __future__ import annotations

from collections.abc import Iterator

# xml.sax would import a network client.
from html import escape
from typing import BinaryIO
from xml.parsers import expat

from fascis.documents.model import Means, NotUnderstood, Reference
from fascis.documents.targets import Syntax, is_elsewhere
from fascis.documents.text import TextKind
from fascis.words.speech import tr

_CHUNK = 1 << 20

_NAMESPACE = "http://xspf.org/ns/0/"
_LOCATION = f"{_NAMESPACE} location"  # for programs
_TRACK = f"{_NAMESPACE} track"  # for programs
_DEEPEST = 200


class Xspf(TextKind):
    """The format ``.xspf``."""

    name = "xspf"
    extensions = frozenset(("xspf",))
    syntax = Syntax.URI

    def recognises(self, head: bytes) -> bool:
        """By the namespace of its elements."""
        text = head.removeprefix(b"\xef\xbb\xbf").lstrip()
        return text.startswith(b"<") and _NAMESPACE.encode() in head

    def read(self, stream: BinaryIO) -> Iterator[Reference]:
        """Every track's locations."""
        reading = _Reading()
        parser = expat.ParserCreate(namespace_separator=" ")
        parser.StartDoctypeDeclHandler = _refuse
        parser.StartElementHandler = lambda name, _: reading.start(name, parser.CurrentByteIndex)
        parser.EndElementHandler = lambda name: reading.end(name, parser.CurrentByteIndex)
        parser.CharacterDataHandler = reading.add_text
        parser.XmlDeclHandler = _declared
        parser.buffer_text = True
        try:
            while chunk := stream.read(_CHUNK):
                reading.feed(chunk)
                parser.Parse(chunk, False)
                yield from reading.taken()
            parser.Parse(b"", True)
        except expat.ExpatError as error:
            words = expat.ErrorString(error.code)
            raise NotUnderstood(
                tr(
                    "It is not valid XML at line {lineno}: {words}.",
                    lineno=error.lineno,
                    words=words,
                ),
                parser.ErrorByteIndex,
            ) from error
        yield from reading.taken()

    def literal(self, text: str) -> bytes:
        """The text, escaped."""
        return escape(text, quote=False).encode()

    def can_be_plain(self, target: str) -> bool:
        """Never: a location is a URI."""
        return False


def _refuse(*_: object) -> None:
    raise NotUnderstood(
        tr("It declares a document type; no playlist has one, and entities are not followed.")
    )


def _declared(_version: str, encoding: str | None, _standalone: int) -> None:
    if encoding and encoding.lower() not in ("utf-8", "us-ascii", "ascii"):
        raise NotUnderstood(
            tr("It is written in {encoding}; a playlist is read in UTF-8 only.", encoding=encoding)
        )


class _Reading:
    """Collects locations while expat parses the document."""

    def __init__(self) -> None:
        self._text: list[str] = []
        self._references: list[Reference] = []
        self._path: list[str] = []
        self._begin = -1
        # The bytes that may still be needed: from the last element on.
        self._kept, self._first, self._last = bytearray(), 0, 0

    def feed(self, chunk: bytes) -> None:
        """The next bytes of the document; they are parsed afterwards."""
        needed = self._last if self._begin < 0 else min(self._begin, self._last)
        del self._kept[: needed - self._first]
        self._kept += chunk
        self._first = needed

    def add_text(self, text: str) -> None:
        """Text in an element; only that of a location counts."""
        if self._begin >= 0:
            self._text.append(text)

    def taken(self) -> list[Reference]:
        """The references found since the last call."""
        found, self._references = self._references, []
        return found

    def _bytes(self, start: int, end: int) -> bytes:
        return bytes(self._kept[start - self._first : end - self._first])

    def start(self, name: str, at: int) -> None:
        """An element starts at a byte."""
        if not self._path and name != f"{_NAMESPACE} playlist":
            raise NotUnderstood(tr("It is XML, but not a playlist of the XSPF namespace."), at)
        if len(self._path) > _DEEPEST:
            raise NotUnderstood(tr("It is nested too deeply for a playlist."), at)
        self._path.append(name)
        self._text.clear()
        if name == _LOCATION and self._path[-2:-1] == [_TRACK]:
            inner = _tag_end(self._kept, at - self._first)
            self._begin = inner if inner < 0 else self._first + inner
        self._last = at

    def end(self, name: str, at: int) -> None:
        """An element ends; its end tag begins at a byte."""
        self._path.pop()
        if name == _LOCATION and self._begin >= 0 and self._begin <= at:
            raw = "".join(self._text)
            text = raw.strip()
            lead = len(raw) - len(raw.lstrip())
            span = (self._begin, at)
            if text != raw and self._bytes(self._begin, at) == raw.encode():
                span = (
                    self._begin + len(raw[:lead].encode()),
                    self._begin + len(raw[: lead + len(text)].encode()),
                )
            if text:
                means = Means.ELSEWHERE if is_elsewhere(text) else Means.PATH
                self._references.append(Reference(span, text, means))
        self._begin = -1
        self._last = at
        self._text.clear()


def _tag_end(content: bytearray, at: int) -> int:
    """The start of an element's content, if its tag starts at ``at``.

    An attribute can contain a ``>``.
    """
    quote = 0
    for i in range(at, len(content)):
        byte = content[i]
        if quote:
            quote = 0 if byte == quote else quote
        elif byte in b"\"'":
            quote = byte
        elif byte == 0x3E:
            return -1 if content[i - 1] == 0x2F else i + 1
    return -1
