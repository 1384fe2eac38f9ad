"""Text documents: every target is a span of bytes, which is replaced.

A small document is kept in memory while it is open. A large one is read as a stream each time, and
its new content is written to a file: its memory does not grow with its size, except for kinds that
must be read as a whole. References are kept if they are not too many.
"""

from __future__ import annotations

import io
from abc import ABC, abstractmethod
from collections.abc import Iterator
from itertools import zip_longest
from pathlib import Path
from typing import BinaryIO

from blake3 import blake3

from fascis.documents.model import (
    LARGEST,
    Change,
    Length,
    Means,
    Members,
    NotUnderstood,
    OpenDocument,
    Reference,
    Source,
    Wanted,
    Works,
    paths,
)
from fascis.documents.targets import Target, as_uri, readings, spellings
from fascis.words.speech import tr

# Bytes; a document up to this size is kept in memory while it is open.
SMALL = 64 << 20
_MOST_KEPT = 100_000  # References.
_CHUNK = 1 << 20

Span = tuple[int, int]


class TextKind(Works, ABC):
    """A kind of text document. Its references' locators are ``(start, end)`` in its bytes."""

    name: str
    extensions: frozenset[str]

    @abstractmethod
    def recognises(self, head: bytes) -> bool:
        """True if the first bytes belong to such a document and to no other."""

    @abstractmethod
    def read(self, stream: BinaryIO) -> Iterator[Reference]:
        """All references, in the order of the document; reads it to its end.

        Raises:
            NotUnderstood: it is damaged, hostile, or of another kind.
        """

    @abstractmethod
    def literal(self, text: str) -> bytes:
        """The exact text of a target in a document of this kind."""

    @abstractmethod
    def can_be_plain(self, target: str) -> bool:
        """True if a path can be written in a document of this kind directly, not as a URI."""

    def written(self, change: Change) -> bytes:
        """The new text of a reference, with everything that its locator spans."""
        if change.text is not None:
            return self.literal(change.text)
        plain = not change.as_url and self.can_be_plain(change.target)
        return self.literal(change.target if plain else as_uri(change.target))

    def lengths(self, stream: BinaryIO) -> list[Length | None]:
        """The lengths from :meth:`read`, in its order; here none."""
        return []

    def readings(self, as_written: str) -> list[Target]:
        """The ways of reading a target, by the kind's syntax."""
        return readings(as_written, self.syntax)

    def spellings(self, target: str) -> Iterator[str]:
        """Unchanged if possible, then as a URI reference."""
        if self.can_be_plain(target):
            yield target
        yield from spellings(target)

    def open(self, source: Source) -> OpenDocument:
        """Opens a document; it is read when its references are requested."""
        if source.size > LARGEST:
            raise NotUnderstood(
                tr("It is {size} bytes long, too large for a document.", size=source.size)
            )
        return TextDocument(self, source)


class TextDocument:
    """An open document of text."""

    def __init__(self, kind: TextKind, source: Source) -> None:
        self._kind, self._source = kind, source
        self._known: list[Reference] | None = None
        self._seen = b""

    def __enter__(self) -> TextDocument:
        return self

    def __exit__(self, *_: object) -> None:
        self._known = None

    @property
    def seen(self) -> bytes:
        """The digest of its content."""
        if not self._seen:
            for _ in self.references():
                pass
        return self._seen

    def references(self) -> Iterator[Reference]:
        """All references, in the order of the document."""
        return self._remembering() if self._known is None else iter(self._known)

    def _remembering(self) -> Iterator[Reference]:
        """All references as they are read; kept afterwards if they are not too many."""
        kept: list[Reference] = []
        for count, reference in enumerate(self._read()):
            if count < _MOST_KEPT:
                kept.append(reference)
            elif kept:
                kept = []
            yield reference
        if kept:
            self._known = kept

    def _read(self) -> Iterator[Reference]:
        with self._source.stream() as stream:
            hashed = _Hashed(stream)
            yield from self._kind.read(io.BufferedReader(hashed, _CHUNK))
            seen = hashed.digest()
        if self._seen and seen != self._seen:
            raise NotUnderstood(tr("It changed while it was read."))
        self._seen = seen

    def members(self) -> Iterator[Members]:
        """None: it names no folders."""
        return iter(())

    def lengths(self) -> list[Length | None]:
        """The length of each reference's media."""
        with self._source.stream() as stream:
            return self._kind.lengths(stream)

    def picture(self, number: int) -> bytes | None:
        """None is stored."""
        return None

    def retargeted(self, wanted: Wanted, title: str | None = None) -> bytes | Path | None:
        """The document with some targets replaced and every other byte unchanged."""
        changes: dict[int, str] = {}
        small = self._source.size <= SMALL
        path = None if small else self._source.private_folder() / "anew"
        with io.BytesIO() if path is None else open(path, "w+b") as out:
            self._write(wanted, out, changes)
            if not changes:
                return None
            out.seek(0)
            self._prove(changes, out)
            return out.getvalue() if isinstance(out, io.BytesIO) else path

    def _write(self, wanted: Wanted, out: BinaryIO, changes: dict[int, str]) -> None:
        """Writes the document again; records the new targets by number.

        Raises:
            ValueError: two references overlap, or one of those that change is no path.
            NotUnderstood: it is not what its references were read from any more.
        """
        at = 0
        with self._source.stream() as stream:
            hashed = _Hashed(stream)
            old = io.BufferedReader(hashed, _CHUNK)
            for number, reference in enumerate(self.references()):
                change = wanted(number, reference)
                if change is None:
                    continue
                start, end = span_of(reference)
                if reference.means is not Means.PATH:
                    raise ValueError(f"no path stands at byte {start}")
                if start < at:
                    raise ValueError(f"two references overlap at byte {start}")
                for part in _parts(old, start - at):
                    out.write(part)
                for _ in _parts(old, end - start):
                    pass  # The replaced text.
                out.write(self._kind.written(change))
                changes[number] = change.target
                at = end
            while part := old.read(_CHUNK):
                out.write(part)
        if hashed.digest() != self.seen:
            raise NotUnderstood(tr("It changed while it was read."))

    def _prove(self, changes: dict[int, str], out: BinaryIO) -> None:
        """Reads the written document: the same references, with the new targets."""
        both = zip_longest(self.references(), self._kind.read(out))
        for number, (before, after) in enumerate(both):
            if before is None or after is None:
                same = False
            elif (target := changes.get(number)) is not None:
                same = target in paths(self._kind, after)
            else:
                same = before.as_written == after.as_written
            if not same:
                raise NotUnderstood(
                    tr(
                        "A target cannot be written so that it is read back the same; nothing "
                        "was changed."
                    )
                )


def span_of(reference: Reference) -> Span:
    """The position of a target in a text document, in bytes from its start."""
    assert isinstance(reference.locator, tuple)
    start, end = reference.locator
    return start, end


def _parts(stream: BinaryIO, count: int) -> Iterator[bytes]:
    """The next bytes of a stream.

    Raises:
        NotUnderstood: it ends before.
    """
    while count:
        part = stream.read(min(count, _CHUNK))
        if not part:
            raise NotUnderstood(tr("It changed while it was read."))
        count -= len(part)
        yield part


class _Hashed(io.RawIOBase):
    """A stream whose bytes are added to a digest as they are read."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream, self._hasher = stream, blake3()

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: bytearray | memoryview, /) -> int:  # type: ignore[override]
        """Reads on."""
        part = self._stream.read(len(buffer))
        buffer[: len(part)] = part
        self._hasher.update(part)
        return len(part)

    def readall(self) -> bytes:
        """The rest, without a second copy of it."""
        content = self._stream.read()
        self._hasher.update(content)
        return content

    def digest(self) -> bytes:
        """The digest of everything read."""
        return self._hasher.digest()
