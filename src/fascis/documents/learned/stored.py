"""Readings that a person confirmed: a hint for documents of the same shape, never believed.

They are followed anew, and proven, in every document.
"""

from __future__ import annotations

import json
import logging
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from fascis.documents.learned.containers import is_database
from fascis.documents.learned.reading import Reading
from fascis.files.errors import Damaged

_LOG = logging.getLogger(__name__)

FORMAT = 1
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"
_HEAD = 1 << 16


@dataclass(frozen=True, slots=True)
class Stored:
    """What is kept of a confirmed reading.

    Attributes:
        container: what the document was packed in.
        shape: what documents of its make have in common.
        marks: what their first bytes have in common: only such are opened.
        confirmed_at: in seconds since 1970.
    """

    container: str
    shape: bytes
    marks: tuple[bytes, ...]
    readings: tuple[Reading, ...]
    confirmed_at: float

    def as_text(self) -> str:
        """As JSON."""
        said = {
            "format": FORMAT,
            "container": self.container,
            "shape": self.shape.hex(),
            "marks": [mark.hex() for mark in self.marks],
            "readings": [reading.as_json() for reading in self.readings],
            "confirmed_at": self.confirmed_at,
        }
        return json.dumps(said, ensure_ascii=False, indent=1)

    @classmethod
    def from_text(cls, text: str, path: object) -> Stored:
        """As it was written.

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
            )
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise Damaged(
                path, f"a reading in it cannot be understood ({error})", "Nothing was changed."
            ) from error

    @classmethod
    def understood(cls, texts: Iterable[str], path: object) -> list[Stored]:
        """Those that can be understood. Of others their documents are not: that is all."""
        found = []
        for text in texts:
            try:
                found.append(cls.from_text(text, path))
            except Damaged as error:
                _LOG.warning("%s", error)
        return found

    def fits(self, head: bytes) -> bool:
        """True when a document with these first bytes may be of the same shape."""
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
    """The first bytes of what is packed."""
    if not head.startswith(_GZIP):
        return head
    try:
        return zlib.decompressobj(31).decompress(head, _HEAD)
    except zlib.error:
        return b""


def marks_of(head: bytes, container: str, readings: Iterable[Reading]) -> tuple[bytes, ...]:
    """Names of a reading that stand in the first bytes of its document."""
    text = unpacked_head(head)
    names: set[str] = set()
    for reading in readings:
        names |= {part for part in reading.table.replace(":", "/").split("/") if part}
        for piece in reading.pieces:
            names |= {part.strip("@") for part in piece.column.split("/")}
    words = {n.encode("utf-8", "surrogateescape") for n in names if len(n) > 1 and n not in "[]*#"}
    if container == "sqlite":
        # The application's id stands in the header.
        words |= {head[68:72]} if any(head[68:72]) else set()
    return tuple(sorted(word for word in words if word in text))


class Confirmed:
    """The readings that are known in this program."""

    def __init__(self) -> None:
        self._stored: dict[bytes, Stored] = {}
        self.drives: Mapping[str, str] = {}

    def use(self, stored: Iterable[Stored], drives: Mapping[str, str] | None = None) -> None:
        """From now on these are known, and no others.

        Args:
            drives: what identifies a drive that is connected → where it is mounted.
        """
        self._stored = {one.shape: one for one in stored}
        self.drives = dict(drives or {})

    def all(self) -> list[Stored]:
        """All of them."""
        return list(self._stored.values())

    def may_fit(self, head: bytes, database: bool) -> bool:
        """True when a document with these first bytes may be of a shape that was confirmed."""
        if not self._stored or is_database(head) != database:
            return False
        return any(one.fits(head) for one in self._stored.values())

    def of_shape(self, shape: bytes) -> Stored | None:
        """What was confirmed of documents of this shape."""
        return self._stored.get(shape)


CONFIRMED = Confirmed()
"""What a person confirmed on this machine; see ``Workspace.use_readings``."""
