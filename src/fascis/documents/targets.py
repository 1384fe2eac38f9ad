"""The meaning of a target: file URLs and paths, also of other systems (RFC 3986, RFC 8089)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from enum import StrEnum
from urllib.parse import quote, unquote_to_bytes

from msgspec import Struct

# Two letters or more: one is a drive letter.
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]+:")
_ESCAPE = re.compile("%[0-9A-Fa-f]{2}")
_DRIVE_LETTER = re.compile(r"/?[A-Za-z]:[\\/]")


class Syntax(StrEnum):
    """How the targets of a kind of document are written."""

    # A path as it is, or a URI.
    TEXT = "text"
    # By its standard a URI reference.
    URI = "uri"
    # A path as the kernel takes it.
    EXACT = "exact"


class Target(Struct, frozen=True):
    """One way of reading a target.

    Attributes:
        path: as on this machine; names that are not UTF-8 are kept (surrogates).
        foreign: written on another operating system; only the last parts of ``path`` are usable
            then.
    """

    path: str
    foreign: bool = False

    @property
    def absolute(self) -> bool:
        """True if it does not depend on the document's folder."""
        return self.path.startswith("/")


def readings(as_written: str, syntax: Syntax = Syntax.TEXT) -> list[Target]:
    """The ways of reading a target, likeliest first; empty if it names no file.

    Args:
        syntax: a text is tried as written, then percent-decoded.
    """
    if not as_written or "\0" in as_written or not _is_encodable(as_written):
        return []
    if syntax is Syntax.EXACT:
        return [Target(as_written)]
    if as_written[:5].lower() == "file:":
        return _file_url(as_written[5:])
    if as_written.startswith("\\\\") or _DRIVE_LETTER.match(as_written):
        return [Target(as_written.replace("\\", "/"), foreign=True)]
    if _SCHEME.match(as_written):
        return []
    decoded = _decoded(as_written)
    if "\0" in decoded:
        decoded = as_written
    ways = [decoded] if syntax is Syntax.URI else [as_written, decoded]
    found = [Target(way) for way in dict.fromkeys(ways)]
    if "\\" in as_written and "/" not in as_written:
        found.append(Target(as_written.replace("\\", "/"), foreign=True))
    return found


def _is_encodable(text: str) -> bool:
    """False for half of a surrogate pair, which no name can contain."""
    try:
        os.fsencode(text)
    except UnicodeEncodeError:
        return False
    return True


def _file_url(rest: str) -> list[Target]:
    path = rest
    if rest.startswith("//"):
        host, slash, after = rest[2:].partition("/")
        path = slash + after
        if host.lower() not in ("", "localhost"):
            return [
                Target(f"//{host}{_decoded(path)}", foreign=True)
            ]  # A share of another machine.
    path = _decoded(path.partition("?")[0].partition("#")[0])
    if not path or "\0" in path:
        return []
    if _DRIVE_LETTER.match(path):
        return [Target(path.lstrip("/").replace("\\", "/"), foreign=True)]
    return [Target(path)]


def _decoded(text: str) -> str:
    """Percent-decoded; bytes that are not UTF-8 are kept."""
    if "%" not in text:
        return text
    return os.fsdecode(unquote_to_bytes(os.fsencode(text)))


def is_elsewhere(as_written: str) -> bool:
    """True for a URL that is not a file."""
    return (
        as_written[:5].lower() != "file:"
        and bool(_SCHEME.match(as_written))
        and not _DRIVE_LETTER.match(as_written)
    )


def as_uri(path: str) -> str:
    """A path as a URI reference: relative, or a file URL if it is absolute."""
    quoted = quote(os.fsencode(path), safe="/!$&'()*+,;=@~")
    return "file://" + quoted if path.startswith("/") else quoted


def can_be_text(path: str) -> bool:
    """True if a path can be written in a text as it is.

    UTF-8 without control characters, and with no other meaning.
    """
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    plain = all(c.isprintable() for c in path) and not _ESCAPE.search(path) and "\\" not in path
    return plain and not _SCHEME.match(path) and path == path.strip()


def spellings(path: str) -> Iterator[str]:
    """Ways of writing a path as a URI reference, which all decode to it.

    The usual one, then with one more letter encoded. If one of two names is the other one
    percent-encoded, a spelling that is nobody's name means the same to programs that decode it
    first and to those that take it literally.
    """
    usual = as_uri(path)
    yield usual
    yield usual.replace("+", "%2B")
    begin = usual.rfind("/") + 1
    for at in range(begin, len(usual)):
        inside = any(usual[b : b + 1] == "%" for b in range(max(begin, at - 2), at + 1))
        if usual[at].isalnum() and not inside:
            yield f"{usual[:at]}%{ord(usual[at]):02X}{usual[at + 1 :]}"
