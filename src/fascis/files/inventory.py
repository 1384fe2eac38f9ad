"""The inventory: every file of a library as CSV (RFC 4180), names of any bytes included."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TextIO

from fascis.files.errors import Damaged
from fascis.files.names import listed, safe_place, unlisted

HEADER = ("path", "path_encoding", "size_bytes", "mtime_ns", "blake3", "role")


@dataclass(frozen=True, slots=True)
class Entry:
    """One file: its place in the library, size in bytes, time in ns, digest (32 bytes, or empty), role."""

    place: bytes
    size: int
    mtime_ns: int
    digest: bytes
    role: str


def write_inventory(out: TextIO, entries: Iterable[Entry]) -> None:
    """Writes the header and one record a file."""
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(HEADER)
    for e in entries:
        writer.writerow((*listed(e.place), e.size, e.mtime_ns, e.digest.hex(), e.role))


def read_inventory(stream: TextIO, path: object) -> Iterator[Entry]:
    """Gives the entries.

    Raises:
        Damaged: with the record's number.
    """
    rows = csv.reader(stream)
    meaning = "Nothing was changed; the files are as they were."
    if next(rows, None) != list(HEADER):
        raise Damaged(path, "it does not begin as an inventory", meaning)
    try:
        for row in rows:
            place = unlisted(row[0], row[1])
            if len(row) != 6 or not safe_place(place):
                raise ValueError
            yield Entry(place, int(row[2]), int(row[3]), bytes.fromhex(row[4]), row[5])
    except (ValueError, IndexError, csv.Error) as error:
        raise Damaged(path, f"record {rows.line_num} is not an inventory record", meaning) from error
