"""What a target means: file URLs, paths, paths of other operating systems (RFC 3986, RFC 8089)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from urllib.parse import quote, unquote_to_bytes

# Two letters or more: one is a drive letter.
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]+:")
_ESCAPE = re.compile("%[0-9A-Fa-f]{2}")
_DRIVE_LETTER = re.compile(r"/?[A-Za-z]:[\\/]")


class Syntax(StrEnum):
    """How the targets of a kind of document are written."""

    # A path may stand as it is, or as a URI.
    TEXT = "text"
    # By its standard a URI reference.
    URI = "uri"
    # A path as the kernel takes it.
    EXACT = "exact"


@dataclass(frozen=True, slots=True)
class Target:
    """One way to read a target.

    Attributes:
        path: as this machine writes paths; names that are not UTF-8 are kept (surrogates).
        foreign: it was written on another operating system; ``path`` is then only good for its last
            parts.
    """

    path: str
    foreign: bool = False

    @property
    def absolute(self) -> bool:
        """True when it does not depend on where the document lies."""
        return self.path.startswith("/")


def readings(as_written: str, syntax: Syntax = Syntax.TEXT) -> list[Target]:
    """The ways to read a target, the likeliest first; empty when it names no file.

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
    """False for half of a surrogate pair, which no name can hold."""
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
            return [Target(f"//{host}{_decoded(path)}", foreign=True)]  # a share of another machine
    path = _decoded(path.partition("?")[0].partition("#")[0])
    if not path or "\0" in path:
        return []
    if _DRIVE_LETTER.match(path):
        return [Target(path.lstrip("/").replace("\\", "/"), foreign=True)]
    return [Target(path)]


def _decoded(text: str) -> str:
    """Percent-decoded; what is not UTF-8 then is kept as the bytes that it is."""
    if "%" not in text:
        return text
    return os.fsdecode(unquote_to_bytes(os.fsencode(text)))


def is_elsewhere(as_written: str) -> bool:
    """True for a URL that is no file."""
    return (
        as_written[:5].lower() != "file:"
        and bool(_SCHEME.match(as_written))
        and not _DRIVE_LETTER.match(as_written)
    )


def as_uri(path: str) -> str:
    """A path as a URI reference: relative, or a file URL when it is absolute."""
    quoted = quote(os.fsencode(path), safe="/!$&'()*+,;=@~")
    return "file://" + quoted if path.startswith("/") else quoted


def can_be_text(path: str) -> bool:
    """True when a path can stand in a text as it is.

    UTF-8 without control characters, and not taken for something else.
    """
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    plain = all(c.isprintable() for c in path) and not _ESCAPE.search(path) and "\\" not in path
    return plain and not _SCHEME.match(path) and path == path.strip()


def spellings(path: str) -> Iterator[str]:
    """Ways to spell a path as a URI reference, which all decode to it.

    As usual, then with one more letter encoded.

    Of two names of which one is the other percent-encoded, a spelling that is nobody's name means
    the same to those who decode it first and to those who take it as it is written first.
    """
    usual = as_uri(path)
    yield usual
    yield usual.replace("+", "%2B")
    begin = usual.rfind("/") + 1
    for at in range(begin, len(usual)):
        inside = any(usual[b : b + 1] == "%" for b in range(max(begin, at - 2), at + 1))
        if usual[at].isalnum() and not inside:
            yield f"{usual[:at]}%{ord(usual[at]):02X}{usual[at + 1 :]}"
