"""Symbolic links: a document with one reference, which is in a folder and not in a file."""

from __future__ import annotations

import os
from collections.abc import Iterator

from fascis.documents.model import (
    Length,
    Members,
    NobodysWork,
    OpenDocument,
    Reference,
    Source,
    Wanted,
)
from fascis.documents.targets import Target


class Link(NobodysWork):
    """The kind ``link``."""

    name = "link"
    extensions: frozenset[str] = frozenset()
    is_file = False

    def recognises(self, head: bytes) -> bool:
        """Never by its content: the kernel knows what is a link."""
        return False

    def open(self, source: Source) -> OpenDocument:
        """Reads its target."""
        return OpenLink(source.link_target())

    def readings(self, as_written: str) -> list[Target]:
        """Unchanged: a link is not a URI, and nothing in it is escaped."""
        return [Target(as_written)]

    def spellings(self, target: str) -> Iterator[str]:
        """Unchanged."""
        yield target


class OpenLink:
    """The target of a link."""

    seen = b""

    def __init__(self, target: bytes) -> None:
        self._target = target

    def __enter__(self) -> OpenLink:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def references(self) -> Iterator[Reference]:
        """One."""
        yield Reference(0, os.fsdecode(self._target))

    def members(self) -> Iterator[Members]:
        """None: it names no folders."""
        return iter(())

    def lengths(self) -> list[Length | None]:
        """None."""
        return []

    def picture(self, number: int) -> bytes | None:
        """None."""
        return None

    def retargeted(self, wanted: Wanted, title: str | None = None) -> bytes | None:
        """The new target."""
        (reference,) = self.references()
        change = wanted(0, reference)
        return None if change is None else os.fsencode(change.target)
