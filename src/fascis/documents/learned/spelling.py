"""How a piece of a path is written in a document; reading and writing it in the same way."""

from __future__ import annotations

import re
from enum import StrEnum
from urllib.parse import quote, unquote_to_bytes

_URL = re.compile(r"file:(//[^/]*)?", re.IGNORECASE)
_LETTER = re.compile(r"^[A-Za-z]:[\\/]|^\\\\")
_ESCAPE = re.compile(r"%[0-9A-Fa-f]{2}")
_SAFE = (
    "/!$&'()*+,;=:@~",
    "/!$&'()*,;=:@~",
    "/!$&'()*+,;=@~",
    "/:",
    "/",
    "/()",
    "/'()*!~",
    "/&+,=@",
)


class Mode(StrEnum):
    """How a piece is written."""

    PLAIN = "plain"
    URL = "url"
    PERCENT = "percent"
    BACKSLASH = "backslash"


def is_foreign(value: str) -> bool:
    """True for a path with a drive letter, or from another machine."""
    return bool(_LETTER.match(value))


def decoded(value: str, mode: Mode) -> str | None:
    """The piece of a path for a value; None if it is not written in this way.

    An absolute one begins with a slash.
    """
    if mode is Mode.URL:
        found = _URL.match(value)
        if not found:
            return None
        rest = value[found.end() :]
        host = (found[1] or "//")[2:]
        if host.lower() not in ("", "localhost"):
            return None
        return _undone(rest)
    if mode is Mode.PERCENT:
        return _undone(value)
    if mode is Mode.BACKSLASH:
        return None if is_foreign(value) else value.replace("\\", "/")
    return value


def _undone(text: str) -> str | None:
    if "%" not in text:
        return text
    try:
        return unquote_to_bytes(text).decode("utf-8")
    except UnicodeDecodeError:
        return None


def encoded(piece: str, like: str, mode: Mode) -> str | None:
    """A piece as written in place of ``like``; None if it cannot be read back.

    Slashes at its ends are as in the old one.
    """
    old = decoded(like, mode)
    if old is None:
        return None
    piece = _ends_like(piece, old)
    if mode is Mode.URL:
        found = _URL.match(like)
        assert found
        value = like[: found.end()] + _escaped(piece, like[found.end() :])
    elif mode is Mode.PERCENT:
        value = _escaped(piece, like)
    elif mode is Mode.BACKSLASH:
        value = piece if "\\" not in like and "/" in like else piece.replace("/", "\\")
    else:
        value = piece
    return value if decoded(value, mode) == piece else None


def _ends_like(piece: str, old: str) -> str:
    """A piece with the slashes at its ends that the old one has; an absolute one keeps its own."""
    core = piece.strip("/")
    lead = "/" if piece.startswith("/") else ""
    if not lead and old.startswith("/"):
        # A later piece that begins with a slash.
        lead = "/"
    trail = "/" if old.endswith("/") and len(old) > 1 and core else ""
    found = lead + core + trail
    # One text, not two equal ones: there may be a million.
    return piece if found == piece else found


def _escaped(piece: str, like: str) -> str:
    """Percent-encoded like the old one: with the set of letters that gives the old one again."""
    was = _undone(like)
    lower = any(e != e.upper() for e in _ESCAPE.findall(like))
    for safe in _SAFE:
        if was is not None and _quoted(was, safe, lower) == like:
            return _quoted(piece, safe, lower)
    return _quoted(piece, _SAFE[0], lower)


def _quoted(text: str, safe: str, lower: bool) -> str:
    found = quote(text.encode("utf-8", "surrogateescape"), safe=safe)
    return _ESCAPE.sub(lambda m: m[0].lower(), found) if lower else found


def mode_of(values: list[str]) -> Mode:
    """How most of some values are written."""
    if not values:
        return Mode.PLAIN
    half = len(values) / 2
    if sum(bool(_URL.match(v)) for v in values) > half:
        return Mode.URL
    if sum("\\" in v and "/" not in v for v in values) > half / 2:
        return Mode.BACKSLASH
    return Mode.PLAIN
