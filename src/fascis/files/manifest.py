"""The manifest: digests in the format that ``b3sum --check`` reads. Parsing and writing.

A line is ``<64 hex digits>  <path>``. A path with a newline or backslash has them written ``\\n``
and ``\\\\``, and the line
then begins with a backslash; a carriage return stands as it is, since b3sum 1.2 knows no escape for
it (seen; ``\\r`` is
read). A path that is not UTF-8, or holds U+FFFD, is not listed,
since b3sum can check no such line.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import BinaryIO

from fascis.files.errors import Damaged
from fascis.files.names import safe_place
from fascis.words.speech import tr

_LINES = 1024  # written at once
# A path may be longer than one call takes.
LONGEST_LINE = 1 << 20


def listable(place: bytes) -> bool:
    """True for a path that b3sum can read from a list."""
    try:
        return "\ufffd" not in place.decode("utf-8")
    except UnicodeDecodeError:
        return False


def format_line(digest: bytes, place: bytes) -> bytes:
    """One line of a manifest, with its newline."""
    if b"\\" not in place and b"\n" not in place:
        return b"%b  %b\n" % (digest.hex().encode(), place)
    escaped = place.replace(b"\\", b"\\\\").replace(b"\n", b"\\n")
    return b"\\%b  %b\n" % (digest.hex().encode(), escaped)


def write_manifest(out: BinaryIO, entries: Iterable[tuple[bytes, bytes]]) -> int:
    """Writes ``(digest, place)`` entries that can be listed; gives how many were."""
    count = 0
    lines: list[bytes] = []
    for digest, place in entries:
        if place.isascii() or listable(place):
            lines.append(format_line(digest, place))
            count += 1
        if len(lines) == _LINES:
            out.write(b"".join(lines))
            lines.clear()
    out.write(b"".join(lines))
    return count


def _unescaped(text: bytes) -> bytes | None:
    out, i = bytearray(), 0
    while i < len(text):
        if text[i] == 0x5C:
            mapped = {b"n": b"\n", b"r": b"\r", b"\\": b"\\"}.get(text[i + 1 : i + 2])
            if mapped is None:
                return None
            out += mapped
            i += 2
        else:
            out.append(text[i])
            i += 1
    return bytes(out)


def read_manifest(stream: BinaryIO, path: object) -> Iterator[tuple[bytes, bytes]]:
    """Gives ``(digest, place)`` of each line.

    Raises:
        Damaged: a line that is no manifest line, or a path that leads out of the library.
    """
    for at, line in enumerate(iter(lambda: stream.readline(LONGEST_LINE), b""), 1):
        entry = parse_line(line)
        if entry is None:
            raise Damaged(
                path,
                tr("line {at} is not a manifest line", at=at),
                tr("Nothing was changed; the files are as they were."),
            )
        yield entry


def parse_line(line: bytes) -> tuple[bytes, bytes] | None:
    """``(digest, place)`` of one line, or None when it is none."""
    line = line.removesuffix(b"\n")
    escaped = line.startswith(b"\\")
    body = line[1:] if escaped else line
    if body[64:66] != b"  ":
        return None
    place = _unescaped(body[66:]) if escaped else body[66:]
    if place is None or not safe_place(place):
        return None
    try:
        return bytes.fromhex(body[:64].decode("ascii")), place
    except ValueError:
        return None
