"""The formats that are understood."""

from __future__ import annotations

from fascis.documents.lines import Edl, M3u8
from fascis.documents.model import DocumentFormat
from fascis.documents.otio import Otio
from fascis.documents.xspf import Xspf

FORMATS: tuple[DocumentFormat, ...] = (Otio(), Edl(), Xspf(), M3u8())
_BY_EXTENSION = {extension.encode(): f for f in FORMATS for extension in f.extensions}


def endings() -> list[bytes]:
    """The extensions of all formats, in lower case and without the dot."""
    return list(_BY_EXTENSION)


def format_of(name: bytes) -> DocumentFormat | None:
    """The format that a file's extension names, or None."""
    _, dot, extension = name.rpartition(b".")
    return _BY_EXTENSION.get(extension.lower()) if dot else None
