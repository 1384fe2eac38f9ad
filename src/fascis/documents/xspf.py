"""Playlists in XSPF (xspf.org, version 1): the ``location`` of every track is a URI.

Read with expat, which tells where in the bytes an element begins and ends. A document type
declaration is refused: no
playlist has one, and entities come with it.
"""

from __future__ import annotations

from html import escape  # xml.sax would bring a network client with it
from xml.parsers import expat

from fascis.documents.model import LARGEST, Length, Means, NotUnderstood, Reference
from fascis.documents.targets import as_uri, is_elsewhere

_NAMESPACE = "http://xspf.org/ns/0/"
_LOCATION = f"{_NAMESPACE} location"
_TRACK = f"{_NAMESPACE} track"
_DEEPEST = 200


class Xspf:
    """The format ``.xspf``."""

    name = "xspf"
    extensions = frozenset(("xspf",))
    uris = True

    def read(self, content: bytes) -> list[Reference]:
        """Every track's locations."""
        if len(content) > LARGEST:
            raise NotUnderstood(f"It is {len(content)} bytes long, too large for a playlist.")
        reading = _Reading(content)
        parser = expat.ParserCreate(namespace_separator=" ")
        parser.StartDoctypeDeclHandler = _refuse
        parser.StartElementHandler = lambda name, _: reading.start(name, parser.CurrentByteIndex)
        parser.EndElementHandler = lambda name: reading.end(name, parser.CurrentByteIndex)
        parser.CharacterDataHandler = reading.text.append
        parser.XmlDeclHandler = _declared
        parser.buffer_text = True
        try:
            parser.Parse(content, True)
        except expat.ExpatError as error:
            words = expat.ErrorString(error.code)
            raise NotUnderstood(
                f"It is no XML at line {error.lineno}: {words}.", parser.ErrorByteIndex
            ) from error
        return reading.references

    def written(self, target: str, url: bool = False) -> bytes:
        """The text of a ``location`` element: a URI, escaped."""
        return self.literal(as_uri(target))

    def literal(self, text: str) -> bytes:
        """The text, escaped."""
        return escape(text, quote=False).encode()

    def can_be_plain(self, target: str) -> bool:
        """Never: a location is a URI."""
        return False

    def lengths(self, content: bytes) -> list[Length | None]:
        """None is told: a track's duration need not be its file's."""
        return []


def _refuse(*_: object) -> None:
    raise NotUnderstood(
        "It declares a document type; no playlist has one, and entities are not followed."
    )


def _declared(_version: str, encoding: str | None, _standalone: int) -> None:
    if encoding and encoding.lower() not in ("utf-8", "us-ascii", "ascii"):
        raise NotUnderstood(f"It is written in {encoding}; a playlist is read in UTF-8 only.")


class _Reading:
    """Collects locations while expat goes through the document."""

    def __init__(self, content: bytes) -> None:
        self.references: list[Reference] = []
        self.text: list[str] = []
        self._content, self._path, self._begin = content, list[str](), -1

    def start(self, name: str, at: int) -> None:
        """An element begins at a byte."""
        if not self._path and name != f"{_NAMESPACE} playlist":
            raise NotUnderstood("It is XML, but no playlist of the XSPF namespace.", at)
        if len(self._path) > _DEEPEST:
            raise NotUnderstood("It is nested too deep to be a playlist.", at)
        self._path.append(name)
        self.text.clear()
        if name == _LOCATION and self._path[-2:-1] == [_TRACK]:
            self._begin = _tag_end(self._content, at)

    def end(self, name: str, at: int) -> None:
        """An element ends; its end tag begins at a byte."""
        self._path.pop()
        if name == _LOCATION and self._begin >= 0 and self._begin <= at:
            raw = "".join(self.text)
            text = raw.strip()
            lead = len(raw) - len(raw.lstrip())
            span = (self._begin, at)
            if text != raw and self._content[self._begin : at] == raw.encode():
                span = (
                    self._begin + len(raw[:lead].encode()),
                    self._begin + len(raw[: lead + len(text)].encode()),
                )
            if text:
                means = Means.ELSEWHERE if is_elsewhere(text) else Means.PATH
                self.references.append(Reference(span, text, means))
        self._begin = -1
        self.text.clear()


def _tag_end(content: bytes, at: int) -> int:
    """Where the content of the element begins whose tag begins at ``at``.

    An attribute may hold a ``>``.
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
