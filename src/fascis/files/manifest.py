"""The manifest: digests in the format of ``b3sum --check``. Parsing and writing.

A line is 64 hex digits, two spaces, and the path. A newline or backslash in a path is written
``\\n`` or ``\\\\``, and the line then begins with a backslash. A carriage return is written
unchanged, because b3sum 1.2 has no escape for it (seen; ``\\r`` is read). A path that is not UTF-8,
or contains U+FFFD, is not listed, because b3sum cannot check such a line.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import islice
from typing import BinaryIO

from fascis.files.errors import Damaged
from fascis.files.names import safe_place, split_safe
from fascis.words.speech import tr

_LINES = 1024  # Lines written at once.
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
    """Writes ``(digest, place)`` entries that can be listed; returns how many."""
    count, rest = 0, iter(entries)
    while some := list(islice(rest, _LINES)):
        joined = b"\0".join(place for _, place in some)
        if b"\\" in joined or b"\n" in joined or not listable(joined):
            some = [(digest, place) for digest, place in some if listable(place)]
            lines = [format_line(digest, place) for digest, place in some]
        else:
            # Nearly all are like this.
            lines = [b"%b  %b\n" % (digest.hex().encode(), place) for digest, place in some]
        out.write(b"".join(lines))
        count += len(lines)
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
    """Returns ``(digest, place)`` of each line.

    Raises:
        Damaged: a line that is no manifest line, or a path that leads out of the library.
    """
    lines, at = iter(lambda: stream.readline(LONGEST_LINE), b""), 0
    while some := _next(lines):
        entries = _at_once(some)
        if entries is not None:
            yield from entries
            at += len(some)
            continue
        for line in some:
            at += 1
            entry = parse_line(line)
            if entry is None:
                raise Damaged(
                    path,
                    tr("line {at} is not a manifest line", at=at),
                    tr("Nothing was changed; the files are as they were."),
                )
            yield entry


def _next(lines: Iterator[bytes]) -> list[bytes]:
    """The next lines; a few if they are long, as in a damaged list, so that memory is bounded."""
    some, length = [], 0
    for line in lines:
        some.append(line)
        length += len(line)
        if length >= LONGEST_LINE:
            break
    return some


def _at_once(lines: list[bytes]) -> Iterable[tuple[bytes, bytes]] | None:
    """``(digest, place)`` of plain lines, as nearly all are; None if one is not plain."""
    if any(line[:1] == b"\\" or line[64:66] != b"  " or line[-1:] != b"\n" for line in lines):
        return None
    places = split_safe(b"".join([line[66:] for line in lines])[:-1])
    if places is None:
        return None
    try:
        digests = [bytes.fromhex(line[:64].decode("ascii")) for line in lines]
    except ValueError:
        return None
    return zip(digests, places, strict=True)


def parse_line(line: bytes) -> tuple[bytes, bytes] | None:
    """``(digest, place)`` of one line, or None if it cannot be read."""
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
