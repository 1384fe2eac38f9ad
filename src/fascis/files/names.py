"""Names of files.

On Linux they are bytes; here is how they are shown, written in lists, and compared.
"""

from __future__ import annotations

import os
import re
import unicodedata

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

    ``utf-8`` as it is; ``percent`` where the bytes are not UTF-8: they, and ``%``, are written
    ``%XX``.
    """
    try:
        return place.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        text = place.replace(b"%", b"%25").decode("utf-8", "surrogateescape")
        return "".join(
            f"%{ord(c) - 0xDC00:02X}" if 0xDC80 <= ord(c) <= 0xDCFF else c for c in text
        ), "percent"


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


# A part that is nothing, one dot or two; or a NUL anywhere.
_LEADS_OUT = re.compile(rb"(?:\A|/)\.{0,2}(?:/|\Z)|\0")


def safe_place(place: bytes) -> bool:
    """True when a place cannot lead out of its library.

    Relative, no empty, ``.`` or ``..`` part, no NUL.
    """
    return _LEADS_OUT.search(place) is None


STAGING = b".fascis-crossing-"
"""How folders begin that hold what a crossing has not brought to its place yet."""


def parent(place: bytes) -> bytes:
    """The folder a place lies in; ``b""`` is the root."""
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
    """A name typed by a person or given on a command line, as the bytes the file system takes."""
    try:
        return os.fsencode(text)
    except (
        UnicodeEncodeError
    ):  # half of a surrogate pair, from a foreign file: no name of a file holds it
        return text.encode("utf-8", "replace")


def name_key(name: bytes) -> str:
    """What two names share that differ only in case or normal form (NFC, case folded)."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", os.fsdecode(name)).casefold())


def cut(name: bytes, most: int) -> bytes:
    """The beginning of a name, ``most`` bytes at most, and not within a character."""
    if len(name) <= most:
        return name
    try:
        name.decode()
    except UnicodeDecodeError:
        return name[:most]
    return name[:most].decode("utf-8", "ignore").encode()
