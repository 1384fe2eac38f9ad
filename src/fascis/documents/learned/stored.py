"""Confirmed readings: a hint for documents of the same shape, never trusted.

They are applied again, and proven, in every document.
"""

from __future__ import annotations

import json
import logging
import os
import posixpath
import zlib
from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct

from fascis.documents.learned.containers import is_database
from fascis.documents.learned.reading import Reading
from fascis.files.errors import Damaged
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

FORMAT = 1
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"
_HEAD = 1 << 16


class Stored(Struct, frozen=True):
    """What is stored of a confirmed reading.

    Attributes:
        container: the container of the document.
        shape: common to all documents of its make.
        marks: common parts of their first bytes: only such documents are opened.
        confirmed_at: in seconds since 1970.
        filled: the columns, ``TABLE.COLUMN``, that were not empty when a person looked. None in a
            reading of an earlier version.
        libraries: ids of the libraries for which it was confirmed; ``folders`` for those without an
            id. These stay on this machine.
    """

    container: str
    shape: bytes
    marks: tuple[bytes, ...]
    readings: tuple[Reading, ...]
    confirmed_at: float
    filled: frozenset[str] | None = None
    libraries: frozenset[str] = frozenset()
    folders: frozenset[str] = frozenset()

    def as_text(self, travels: bool = False) -> str:
        """As JSON.

        Args:
            travels: for other computers, where it must be confirmed again.
        """
        said: dict[str, Any] = {
            "format": FORMAT,
            "container": self.container,
            "shape": self.shape.hex(),
            "marks": [mark.hex() for mark in self.marks],
            "readings": [reading.as_json() for reading in self.readings],
            "confirmed_at": self.confirmed_at,
        }
        if self.filled is not None:
            said["filled"] = sorted(self.filled)
        if not travels:
            said["libraries"], said["folders"] = sorted(self.libraries), sorted(self.folders)
        return json.dumps(said, ensure_ascii=False, indent=1)

    @classmethod
    def from_text(cls, text: str, path: object) -> Stored:
        """From JSON.

        Raises:
            Damaged: it is no such thing.
        """
        try:
            said: dict[str, Any] = json.loads(text)
            if said["format"] != FORMAT:
                raise ValueError("it was written by a newer version")
            return cls(
                str(said["container"]),
                bytes.fromhex(said["shape"]),
                tuple(map(bytes.fromhex, said["marks"])),
                tuple(map(Reading.from_json, said["readings"])),
                float(said["confirmed_at"]),
                frozenset(map(str, said["filled"])) if "filled" in said else None,
                frozenset(map(str, said.get("libraries", ()))),
                frozenset(map(str, said.get("folders", ()))),
            )
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise Damaged(
                path,
                tr("a reading in it is not valid ({error})", error=error),
                tr("Nothing was changed."),
            ) from error

    @classmethod
    def understood(cls, texts: Iterable[str], path: object) -> list[Stored]:
        """Readings that can be used.

        Documents with other readings are not understood, nothing more.
        """
        found = []
        for text in texts:
            try:
                found.append(cls.from_text(text, path))
            except Damaged as error:
                _LOG.warning("%s", error)
        return found

    def fits(self, head: bytes) -> bool:
        """True if a document with these first bytes may have the same shape."""
        if is_database(head) != (self.container == "sqlite"):
            return False
        packed = self.container.partition("+")[0] if "+" in self.container else ""
        if (packed == "gzip") != head.startswith(_GZIP):
            return False
        if (packed == "zip") != head.startswith(_ZIP):
            return False
        text = unpacked_head(head)
        return all(mark in text for mark in self.marks)


def unpacked_head(head: bytes) -> bytes:
    """The first bytes inside a container."""
    if not head.startswith(_GZIP):
        return head
    try:
        return zlib.decompressobj(31).decompress(head, _HEAD)
    except zlib.error:
        return b""


def marks_of(head: bytes, container: str, readings: Iterable[Reading]) -> tuple[bytes, ...]:
    """Names of a reading that occur in the first bytes of its document."""
    text = unpacked_head(head)
    names: set[str] = set()
    for reading in readings:
        names |= {part for part in reading.table.replace(":", "/").split("/") if part}
        for piece in reading.pieces:
            names |= {part.strip("@") for part in piece.column.split("/")}
    words = {n.encode("utf-8", "surrogateescape") for n in names if len(n) > 1 and n not in "[]*#"}
    if container == "sqlite":
        # The application's id is in the header.
        words |= {head[68:72]} if any(head[68:72]) else set()
    return tuple(sorted(word for word in words if word in text))


class Confirmed:
    """The readings known in this program."""

    def __init__(self) -> None:
        self._stored: dict[bytes, Stored] = {}
        self._roots: Mapping[str, str] = {}
        self.drives: Mapping[str, str] = {}

    def use(
        self,
        stored: Iterable[Stored],
        drives: Mapping[str, str] | None = None,
        roots: Mapping[str, str] | None = None,
    ) -> None:
        """From now on these are known, and no others.

        Args:
            drives: identity of a connected drive → where it is mounted.
            roots: the folder of every known library and copy → the library's id.
        """
        self._stored = {one.shape: one for one in stored}
        self.drives, self._roots = dict(drives or {}), dict(roots or {})

    def holds(self, stored: Stored, document: bytes, library: str = "") -> bool:
        """True if somebody confirmed a reading for the library of a document.

        Args:
            document: its absolute path.
            library: the id of its library, if known already.
        """
        if library in stored.libraries:
            return True
        above = {os.fsdecode(document)}
        while (folder := posixpath.dirname(min(above, key=len))) not in above:
            above.add(folder)
        here = {id for root, id in self._roots.items() if root in above}
        return bool(above & stored.folders or here & stored.libraries)

    def all(self) -> list[Stored]:
        """All of them."""
        return list(self._stored.values())

    def may_fit(self, head: bytes, database: bool) -> bool:
        """True if a document with these first bytes may have a confirmed shape."""
        if not self._stored or is_database(head) != database:
            return False
        return any(one.fits(head) for one in self._stored.values())

    def of_shape(self, shape: bytes) -> Stored | None:
        """The confirmed reading for documents of this shape."""
        return self._stored.get(shape)


CONFIRMED = Confirmed()
"""What a person confirmed on this machine; see ``Workspace.use_readings``."""
