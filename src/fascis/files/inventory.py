"""The inventory: every file of a library as CSV (RFC 4180), names of any bytes included."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator
from typing import NamedTuple, TextIO

from fascis.files.errors import Damaged
from fascis.files.names import listed, safe_place, unlisted
from fascis.files.times import kept, whole
from fascis.words.speech import tr

HEADER = ("path", "path_encoding", "size_bytes", "mtime_ns", "blake3", "role")
WITH_BEFORE = (*HEADER, "path_before", "path_before_encoding")


_LARGEST = 1 << 63


class Entry(NamedTuple):
    """One file.

    Its place in the library, size in bytes, time in ns, digest (32 bytes, or empty), role.

    ``before`` is the place it had before its name, or a folder's, was changed because a drive could
    not hold it; else nothing.
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
        renamed: some have a place before: two more columns tell it, empty for all others.
    """

    def __init__(self, out: TextIO, renamed: bool = False) -> None:
        self._writer = csv.writer(out, lineterminator="\r\n")
        self._renamed = renamed
        self._writer.writerow(WITH_BEFORE if renamed else HEADER)

    def write(self, entries: Iterable[Entry]) -> None:
        """Writes more records."""
        self._writer.writerows(map(self._renamed_row if self._renamed else _row, entries))

    @staticmethod
    def _renamed_row(entry: Entry) -> tuple[object, ...]:
        return (*_row(entry), *(listed(entry.before) if entry.before else ("", "")))


def _row(entry: Entry) -> tuple[object, ...]:
    place, size, mtime, digest, role, _ = entry
    return (*listed(place), size, whole(mtime), digest.hex(), role)


def read_inventory(stream: TextIO, path: object) -> Iterator[Entry]:
    """Gives the entries.

    Raises:
        Damaged: with the record's number.
    """
    rows = csv.reader(stream)
    meaning = tr("Nothing was changed; the files are as they were.")
    try:
        header = next(rows, None)
    except (csv.Error, ValueError):
        header = None
    if header not in (list(HEADER), list(WITH_BEFORE)):
        raise Damaged(path, tr("it does not start like an inventory"), meaning)
    length = len(header)
    try:
        for row in rows:
            if len(row) != length:
                raise ValueError
            name, encoding, size_text, mtime_text, digest, role = row[:6]
            # Nearly all are so, and there may be a million.
            place = name.encode() if encoding == "utf-8" else unlisted(name, encoding)
            before = unlisted(row[6], row[7]) if length > 6 and row[6] else b""
            size, mtime = int(size_text), int(mtime_text)
            if not safe_place(place) or (before and not safe_place(before)):
                raise ValueError
            if not 0 <= size < _LARGEST:
                raise ValueError
            yield Entry(place, size, kept(mtime), bytes.fromhex(digest), role, before)
    except (ValueError, IndexError, csv.Error) as error:
        raise Damaged(
            path,
            tr("record {line_num} is not an inventory record", line_num=rows.line_num),
            meaning,
        ) from error
