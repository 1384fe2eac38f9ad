"""Names of files.

On Linux they are bytes; this is how they are shown, written in lists, and compared.
"""

from __future__ import annotations

import os
import re
import unicodedata
from collections.abc import Sequence

_PERCENT = re.compile(rb"%([0-9A-Fa-f]{2})")


def shown(name: bytes | str) -> str:
    """A name as plain text for a window, a terminal or a page.

    Control and bidirectional characters escaped.

    Bytes that are not UTF-8 come out as ``\\xNN``. Not reversible; for showing only.
    """
    text = name.decode("utf-8", "surrogateescape") if isinstance(name, bytes) else name
    if text.isascii() and text.isprintable():
        return text
    out = []
    for c in text:
        code = ord(c)
        if 0xDC80 <= code <= 0xDCFF:
            out.append(f"\\x{code - 0xDC00:02x}")
        elif unicodedata.category(c) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp") and c != "\u200d":
            out.append({"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(c, f"\\u{code:04x}"))
        else:
            out.append(c)
    return "".join(out)


def listed(place: bytes) -> tuple[str, str]:
    """A place for JSON and the inventory: ``(text, encoding)``.

    ``utf-8`` unchanged; ``percent`` if the bytes are not UTF-8: these, and ``%``, are written
    ``%XX``.
    """
    try:
        return place.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        text = place.replace(b"%", b"%25").decode("utf-8", "surrogateescape")
        return "".join(
            f"%{ord(c) - 0xDC00:02X}" if 0xDC80 <= ord(c) <= 0xDCFF else c for c in text
        ), "percent"


def all_listed(places: Sequence[bytes]) -> tuple[list[str], list[str]]:
    """The texts of many places, and their encodings, as in :func:`listed`."""
    if not places:
        return [], []
    try:
        # All at once: no name contains a NUL.
        return b"\0".join(places).decode("utf-8").split("\0"), ["utf-8"] * len(places)
    except UnicodeDecodeError:
        texts, encodings = zip(*map(listed, places), strict=True)
        return list(texts), list(encodings)


def unlisted(text: str, encoding: str) -> bytes:
    """The reverse of :func:`listed`."""
    raw = text.encode("utf-8")
    return _PERCENT.sub(lambda m: bytes([int(m[1], 16)]), raw) if encoding == "percent" else raw


def place_text(place: bytes) -> str:
    """The text of :func:`listed` alone, for JSON."""
    return listed(place)[0]


def folded(name: bytes) -> str:
    """The form by which a case-insensitive drive compares names (case and normal form folded)."""
    return unicodedata.normalize(
        "NFC", unicodedata.normalize("NFD", name.decode("utf-8", "surrogateescape")).casefold()
    )


# An empty part, one dot or two; or a NUL anywhere.
_LEADS_OUT = re.compile(rb"(?:\A|/)\.{0,2}(?:/|\Z)|\0")


def safe_place(place: bytes) -> bool:
    """True if a place cannot lead out of its library.

    Relative, no empty, ``.`` or ``..`` part, no NUL.
    """
    return _LEADS_OUT.search(place) is None


# The same of many places, one a line.
_ONE_LEADS_OUT = re.compile(rb"(?:^|/)\.{0,2}(?:/|$)|\0", re.MULTILINE)


def split_safe(lines: bytes) -> list[bytes] | None:
    """Places, one a line without a newline in any of them; None if one could lead out."""
    return None if _ONE_LEADS_OUT.search(lines) else lines.split(b"\n")


STAGING = b".fascis-crossing-"
"""How folders begin that hold what a crossing has not brought to its place yet."""


def parent(place: bytes) -> bytes:
    """The folder of a place; ``b""`` is the root."""
    return place.rpartition(b"/")[0]


def join(folder: bytes, name: bytes) -> bytes:
    """A name inside a folder; ``b""`` is the root."""
    return folder + b"/" + name if folder else name


def elided(text: str, most: int) -> str:
    """Text shortened in the middle to at most ``most`` characters."""
    if len(text) <= most:
        return text
    left = (most - 1) // 2
    return f"{text[:left]}…{text[len(text) - (most - 1 - left) :]}"


def fsname(text: str) -> bytes:
    """A name typed by a person or given on a command line, as bytes for the file system."""
    try:
        return os.fsencode(text)
    except (
        UnicodeEncodeError
    ):  # Half of a surrogate pair, from a foreign file: no file name contains it.
        return text.encode("utf-8", "replace")


def name_key(name: bytes) -> str:
    """Equal for two names that differ only in case or normal form (NFC, case folded)."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", os.fsdecode(name)).casefold())


def cut(name: bytes, most: int) -> bytes:
    """The beginning of a name, at most ``most`` bytes, and not within a character."""
    if len(name) <= most:
        return name
    try:
        name.decode()
    except UnicodeDecodeError:
        return name[:most]
    return name[:most].decode("utf-8", "ignore").encode()
