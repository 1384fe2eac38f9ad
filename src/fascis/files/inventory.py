"""The inventory: every file of a library as CSV (RFC 4180), including names of any bytes."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator
from itertools import chain, islice
from typing import NamedTuple, TextIO

from fascis.files.errors import Damaged
from fascis.files.names import all_listed, listed, safe_place, split_safe, unlisted
from fascis.files.records import records
from fascis.files.times import all_kept, all_whole, kept
from fascis.words.speech import tr

HEADER = ("path", "path_encoding", "size_bytes", "mtime_ns", "blake3", "role")
WITH_BEFORE = (*HEADER, "path_before", "path_before_encoding")


_LARGEST = 1 << 63
_AT_ONCE = 4096  # Records written.
_READ_AT_ONCE = 1 << 20  # Characters, so that long lines of a damaged list take no memory.


class Entry(NamedTuple):
    """One file.

    Its place in the library, size in bytes, time in ns, digest (32 bytes, or empty), role.
    ``before`` is its place before its name, or a folder's, was changed for a drive; otherwise
    empty.
    """

    place: bytes
    size: int
    mtime_ns: int
    digest: bytes
    role: str
    before: bytes = b""


class InventoryWriter:
    """Writes the header, then a record for each file.

    Args:
        renamed: some have an earlier place: two more columns, empty for all others.
    """

    def __init__(self, out: TextIO, renamed: bool = False) -> None:
        self._out, self._renamed = out, renamed
        out.write(records([(title,) for title in (WITH_BEFORE if renamed else HEADER)]))

    def write(self, entries: Iterable[Entry]) -> None:
        """Writes more records."""
        rest = iter(entries)
        # Column by column: a library may have a million files.
        while some := list(islice(rest, _AT_ONCE)):
            places, sizes, mtimes, digests, roles, befores = zip(*some, strict=True)
            columns = [
                *all_listed(places),
                sizes,
                all_whole(mtimes),
                [digest.hex() for digest in digests],
                roles,
            ]
            if self._renamed:
                columns += zip(*map(_before, befores), strict=True)
            self._out.write(records(columns))


def _before(place: bytes) -> tuple[str, str]:
    return listed(place) if place else ("", "")


def read_inventory(stream: TextIO, path: object) -> Iterator[Entry]:
    """Returns the entries.

    Raises:
        Damaged: with the record's number.
    """
    meaning = tr("Nothing was changed; the files are as they were.")
    try:
        header = next(csv.reader(stream), None)
    except (csv.Error, ValueError):
        header = None
    if header not in (list(HEADER), list(WITH_BEFORE)):
        raise Damaged(path, tr("it does not start like an inventory"), meaning)
    length, done = len(header), 1
    try:
        while some := stream.readlines(_READ_AT_ONCE):
            entries = _at_once(some, length)
            if entries is None:
                # A record may go on behind these lines.
                rows = csv.reader(chain(some, stream))
                for row in rows:
                    entry = _entry(row, length)
                    done += 1
                    yield entry
                return
            yield from entries
            done += len(some)
    except (ValueError, IndexError, csv.Error) as error:
        raise Damaged(
            path, tr("record {line_num} is not an inventory record", line_num=done + 1), meaning
        ) from error


def _entry(row: list[str], length: int) -> Entry:
    """One record. Raises ``ValueError``."""
    if len(row) != length:
        raise ValueError
    name, encoding, size_text, mtime_text, digest, role = row[:6]
    place = unlisted(name, encoding)
    before = unlisted(row[6], row[7]) if length > len(HEADER) and row[6] else b""
    size, mtime = int(size_text), int(mtime_text)
    if not safe_place(place) or (before and not safe_place(before)):
        raise ValueError
    if not 0 <= size < _LARGEST:
        raise ValueError
    return Entry(place, size, kept(mtime), bytes.fromhex(digest), role, before)


def _at_once(lines: list[str], length: int) -> Iterable[Entry] | None:
    """Records of some lines, column by column; None if they must be read one by one.

    A library may have a million files, and nearly all records are alike.
    """
    text = "".join(lines)
    if "\r" in text.replace("\r\n", "\n") or max(map(len, lines)) > csv.field_size_limit():
        return None
    if '"' in text:
        if any(line.count('"') % 2 for line in lines):
            return None
        rows = list(csv.reader(lines))
        if any("\n" in field for row in rows for field in row):
            return None
    else:
        rows = [line.rstrip("\r\n").split(",") for line in lines]
    if len(rows) != len(lines) or set(map(len, rows)) != {length}:
        return None
    names, encodings, sizes, mtimes, digests, roles, *before = zip(*rows, strict=True)
    if set(encodings) != {"utf-8"} or (before and any(before[0])):
        return None
    try:
        places = split_safe("\n".join(names).encode())
        lengths = list(map(int, sizes))
        times = all_kept(list(map(int, mtimes)))
        contents = list(map(bytes.fromhex, digests))
    except ValueError:
        return None
    if places is None or min(lengths) < 0 or max(lengths) >= _LARGEST:
        return None
    assert len(places) == len(lines), "no name has a newline here"
    return map(Entry, places, lengths, times, contents, roles)
