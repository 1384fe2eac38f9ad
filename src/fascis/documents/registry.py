"""The formats that are understood."""

from __future__ import annotations

from fascis.documents.lines import Edl, M3u8
from fascis.documents.model import DocumentFormat
from fascis.documents.otio import Otio
from fascis.documents.xspf import Xspf

FORMATS: tuple[DocumentFormat, ...] = (Otio(), Edl(), Xspf(), M3u8())
_BY_EXTENSION = {extension: f for f in FORMATS for extension in f.extensions}


def format_of(name: bytes) -> DocumentFormat | None:
    """The format that a file's extension names, or None."""
    return (
        _BY_EXTENSION.get(name.rpartition(b".")[2].lower().decode("ascii", "replace"))
        if b"." in name
        else None
    )
