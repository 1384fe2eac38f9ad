"""Documents made of lines: playlists (M3U8, RFC 8216 for its lines) and edit lists (CMX 3600)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from typing import BinaryIO

from fascis.documents.model import Change, Means, NotUnderstood, Reference
from fascis.documents.targets import as_uri, can_be_text, is_elsewhere
from fascis.documents.text import TextKind
from fascis.words.speech import tr

_CHUNK = 1 << 20
_LINE = re.compile(rb"[^\r\n]+")
_EVENT = re.compile(
    rb"\s*\d{3,6}\s+(\S+)\s+(?:[AVNB]\S*|NONE)\s+(?:C|D|W\d{3}|K\w*)\s", re.IGNORECASE
)
_COMMENT = re.compile(
    rb"\s*\*\s*(FROM CLIP NAME|TO CLIP NAME|SOURCE FILE)\s*:\s*(.*?)\s*$", re.IGNORECASE
)
# Black, and "auxiliary": reels without a name.
_BLANK_REELS = frozenset((b"BL", b"AX"))


def _lines(stream: BinaryIO) -> Iterator[tuple[int, bytes]]:
    """Every line that is not empty, and its first byte."""
    at, rest = 0, b""
    while chunk := stream.read(_CHUNK):
        if b"\0" in chunk:
            zero = at + len(rest) + chunk.index(b"\0")
            raise NotUnderstood(tr("It is not text: byte {zero} is zero.", zero=zero), zero)
        text = rest + chunk
        end = max(text.rfind(b"\n"), text.rfind(b"\r")) + 1
        for found in _LINE.finditer(text, 0, end):
            yield at + found.start(), found.group()
        at, rest = at + end, text[end:]
    if rest:
        yield at, rest


class M3u8(TextKind):
    """The format ``.m3u8``: a path or URI a line; lines that begin with ``#`` are comments."""

    name = "m3u8"
    extensions = frozenset(("m3u8",))

    def recognises(self, head: bytes) -> bool:
        """By the tag in the first line of such a list, if there is one."""
        return head.removeprefix(b"\xef\xbb\xbf").startswith(b"#EXTM3U")

    def read(self, stream: BinaryIO) -> Iterator[Reference]:
        """Every line that is not a comment."""
        for at, line in _lines(stream):
            if at == 0 and line.startswith(b"\xef\xbb\xbf"):
                at, line = 3, line[3:]
            text = line.strip()
            if not text or text.startswith(b"#"):
                continue
            start = at + line.index(text)
            target = os.fsdecode(text)
            means = Means.ELSEWHERE if is_elsewhere(target) else Means.PATH
            yield Reference((start, start + len(text)), target, means)

    def literal(self, text: str) -> bytes:
        """The text of a line."""
        return text.encode()

    def can_be_plain(self, target: str) -> bool:
        """True for a path that is not a comment and can be read back unchanged."""
        return can_be_text(target) and not target.startswith("#")


class Edl(TextKind):
    """The format ``.edl``, CMX 3600: refers by reel, clip name, and the path of a source file."""

    name = "edl"
    extensions = frozenset(("edl",))

    def recognises(self, head: bytes) -> bool:
        """By an event with its reel, track and transition."""
        return b"\0" not in head and any(_EVENT.match(line) for line in head.splitlines())

    def read(self, stream: BinaryIO) -> Iterator[Reference]:
        """For every event, its source file and clip names.

        Its reel only if nothing else names its media.
        """
        reel: Reference | None = None
        events, named = 0, True
        for at, line in _lines(stream):
            if event := _EVENT.match(line):
                if reel and not named:
                    yield reel
                events, named = events + 1, False
                reel = None if event[1].upper() in _BLANK_REELS else _by(Means.NAME, at, event, 1)
            elif (comment := _COMMENT.match(line)) and comment[2]:
                named = True
                path = comment[1].upper() == b"SOURCE FILE"
                yield _by(Means.PATH if path else Means.NAME, at, comment, 2)
        if reel and not named:
            yield reel
        if not events:
            raise NotUnderstood(tr("It contains no event of a CMX 3600 edit list."))

    def written(self, change: Change) -> bytes:
        """The path unchanged, or as a URI if it was one."""
        if change.text is not None:
            return self.literal(change.text)
        return self.literal(as_uri(change.target) if change.as_url else change.target)

    def literal(self, text: str) -> bytes:
        """The text after the colon."""
        return os.fsencode(text)

    def can_be_plain(self, target: str) -> bool:
        """True for everything that does not end the line, or lose a space at its ends."""
        return target == target.strip() and not any(c in target for c in "\r\n")


def _by(means: Means, at: int, found: re.Match[bytes], group: int) -> Reference:
    start, end = found.span(group)
    return Reference((at + start, at + end), os.fsdecode(found[group]), means)
