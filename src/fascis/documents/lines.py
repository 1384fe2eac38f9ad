"""Documents of lines: playlists (M3U8, RFC 8216 for its lines) and edit lists (CMX 3600)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

from fascis.documents.model import LARGEST, Length, Means, NotUnderstood, Reference
from fascis.documents.targets import as_uri, can_be_text, is_elsewhere

_LINE = re.compile(rb"[^\r\n]*")
_EVENT = re.compile(
    rb"\s*\d{3,6}\s+(\S+)\s+(?:[AVNB]\S*|NONE)\s+(?:C|D|W\d{3}|K\w*)\s", re.IGNORECASE
)
_COMMENT = re.compile(
    rb"\s*\*\s*(FROM CLIP NAME|TO CLIP NAME|SOURCE FILE)\s*:\s*(.*?)\s*$", re.IGNORECASE
)
_BLANK_REELS = frozenset((b"BL", b"AX"))  # black, and "auxiliary": a reel that says nothing


def _lines(content: bytes, what: str) -> Iterator[tuple[int, bytes]]:
    if len(content) > LARGEST:
        raise NotUnderstood(f"It is {len(content)} bytes long, too large for {what}.")
    if b"\0" in content:
        at = content.index(b"\0")
        raise NotUnderstood(f"It is no text: byte {at} is zero.", at)
    for found in _LINE.finditer(content):
        if found.group():
            yield found.start(), found.group()


class M3u8:
    """The format ``.m3u8``: a path or URI a line; lines that begin with ``#`` are comments."""

    name = "m3u8"
    extensions = frozenset(("m3u8",))
    uris = False

    def read(self, content: bytes) -> list[Reference]:
        """Every line that is no comment."""
        found = []
        for at, line in _lines(content, "a playlist"):
            if at == 0 and line.startswith(b"\xef\xbb\xbf"):
                at, line = 3, line[3:]
            text = line.strip()
            if not text or text.startswith(b"#"):
                continue
            start = at + line.index(text)
            target = os.fsdecode(text)
            means = Means.ELSEWHERE if is_elsewhere(target) else Means.PATH
            found.append(Reference((start, start + len(text)), target, means))
        return found

    def written(self, target: str, url: bool = False) -> bytes:
        """The path as it is where it can stand in a line, else as a URI."""
        return self.literal(target if not url and self.can_be_plain(target) else as_uri(target))

    def literal(self, text: str) -> bytes:
        """The text of a line."""
        return text.encode()

    def can_be_plain(self, target: str) -> bool:
        """True for a path that is no comment and reads back as itself."""
        return can_be_text(target) and not target.startswith("#")

    def lengths(self, content: bytes) -> list[Length | None]:
        """None is told: the seconds of a playlist are rounded as somebody liked."""
        return []


class Edl:
    """The format ``.edl``, CMX 3600: refers by reel, clip name, and the path of a source file."""

    name = "edl"
    extensions = frozenset(("edl",))
    uris = False

    def read(self, content: bytes) -> list[Reference]:
        """For every event its source file and clip names.

        Its reel only where nothing else names its media.
        """
        found: list[Reference] = []
        reel: Reference | None = None
        events, named = 0, True
        for at, line in _lines(content, "an edit list"):
            if event := _EVENT.match(line):
                if reel and not named:
                    found.append(reel)
                events, named = events + 1, False
                reel = None if event[1].upper() in _BLANK_REELS else _by(Means.NAME, at, event, 1)
            elif (comment := _COMMENT.match(line)) and comment[2]:
                named = True
                path = comment[1].upper() == b"SOURCE FILE"
                found.append(_by(Means.PATH if path else Means.NAME, at, comment, 2))
        if reel and not named:
            found.append(reel)
        if not events:
            raise NotUnderstood("It has no event of a CMX 3600 edit list.")
        return found

    def written(self, target: str, url: bool = False) -> bytes:
        """The path as it is, or as a URI where it was one."""
        return self.literal(as_uri(target) if url else target)

    def literal(self, text: str) -> bytes:
        """The text after the colon."""
        return os.fsencode(text)

    def can_be_plain(self, target: str) -> bool:
        """True for all but what would end the line, or lose a space at its ends."""
        return target == target.strip() and not any(c in target for c in "\r\n")

    def lengths(self, content: bytes) -> list[Length | None]:
        """None is told: an edit list has in and out points, not how long a file is."""
        return []


def _by(means: Means, at: int, found: re.Match[bytes], group: int) -> Reference:
    start, end = found.span(group)
    return Reference((at + start, at + end), os.fsdecode(found[group]), means)
