"""The records of an arrived library: its lists, written anew or amended, and its history.

Each is written whole or not at all, and comes out the same when it is done again.
"""

from __future__ import annotations

import io
import os
import re
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from itertools import islice
from typing import BinaryIO

from fascis.crossing.arrival.arriving import Arriving
from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.which import Which
from fascis.crossing.places.places import Places
from fascis.files.disk.beneath import open_folder
from fascis.files.disk.medium import Medium, read_small, remove_own
from fascis.files.disk.writer import AtomicWriter, write_whole
from fascis.files.inventory import WITH_BEFORE, Entry, InventoryWriter, read_inventory
from fascis.files.manifest import read_manifest, write_manifest
from fascis.files.names import join, shown
from fascis.library.identity import (
    IDENTITY,
    INVENTORY,
    MANIFEST,
    OWN,
    Crossed,
    format_identity,
    parse_identity,
)
from fascis.library.roles import ROLES

RECEIPTS = OWN + b"/receipts"
_LISTED_AT_ONCE = 4096
_LONGEST_HEADER = 1024  # bytes
_ROLE_NAMES = [role.value for role in ROLES]
# Begun by a run that was cut off, see AtomicWriter.
_BEGUN = re.compile(rb"^\..+\.[0-9a-f]{12}\.new$")


def as_crossed(places: Places, clock: Callable[[], float]) -> Crossed:
    """A crossing as the history of the library tells it that it made, or that it went into."""
    header = places.header
    return Crossed.model_validate(
        {
            "id": places.crossing,
            "when": datetime.fromtimestamp(clock(), UTC),
            "from": shown(header.source),
            "to": shown(str(places.told)),
            "token": header.token,
            "part_of": header.whole if header.part else "",
        }
    )


def _entries(copies: Copies) -> Iterator[Entry]:
    for place, size, mtime, digest, role, before in copies.verified_files():
        yield Entry(place, size, mtime, digest, _ROLE_NAMES[role], before)


def write_both(inventory: BinaryIO, manifest: BinaryIO, copies: Copies) -> None:
    """Writes both lists in one pass, some thousand files at a time."""
    entries = _entries(copies)
    text = io.TextIOWrapper(inventory, "utf-8", newline="")
    lists = InventoryWriter(text, copies.journal.has_renamed())
    while some := list(islice(entries, _LISTED_AT_ONCE)):
        lists.write(some)
        write_manifest(manifest, ((entry.digest, entry.place) for entry in some))
    text.detach()


def write_lists(arriving: Arriving) -> None:
    """Writes manifest and inventory of an arrived library again. Raises ``OSError``."""
    if not arriving.landing.has_records:
        amend_lists(arriving)
        return
    _write_whole_lists(arriving.medium, join(arriving.landing.final, OWN), arriving.copies)


def _write_whole_lists(medium: Medium, folder: bytes, copies: Copies) -> None:
    own = open_folder(medium.handle, folder)
    try:
        inventory, manifest = (p.rpartition(b"/")[2] for p in (INVENTORY, MANIFEST))
        with AtomicWriter(own, inventory) as one, AtomicWriter(own, manifest) as other:
            write_both(one.file, other.file, copies)
            one.commit()
            other.commit()
    finally:
        os.close(own)


# -- a library that something became part of -------------------------------------------------------


def amend_records(arriving: Arriving, receipts: Callable[[], tuple[bytes, bytes]]) -> None:
    """Adds what arrived to the records of the library that it is part of now.

    Nothing for a folder that is none. Raises ``OSError``.

    Args:
        receipts: gives the receipt as JSON and HTML.
    """
    places, medium = arriving.places, arriving.medium
    if not places.goal.library:
        return
    amend_lists(arriving)
    if not medium.exists(RECEIPTS):
        medium.make_folder(RECEIPTS)
    _clear_begun(medium, RECEIPTS)
    name, (as_json, as_html) = places.crossing.encode(), receipts()
    _write(medium, RECEIPTS, {name + b".json": as_json, name + b".html": as_html})
    identity = parse_identity(read_small(medium, IDENTITY), places.target)
    if all(crossed.id != places.crossing for crossed in identity.history):
        history = [*identity.history, as_crossed(places, arriving.clock)]
        content = format_identity(identity.model_copy(update={"history": history}))
        # The last of all: from here on the library knows that this is part of it.
        _write(medium, OWN, {IDENTITY.rpartition(b"/")[2]: content})


def amend_lists(arriving: Arriving) -> None:
    """Adds what arrived to manifest and inventory of the library that it is part of now.

    Raises ``OSError``.
    """
    medium, copies = arriving.medium, arriving.copies
    if not arriving.places.goal.library:
        return
    _clear_begun(medium, OWN)
    if arriving.places.goal.updates:
        _write_whole_lists(medium, OWN, copies)
        return
    new = {entry.place for entry in _entries(copies)}
    # What was there before keeps what the lists say of it.
    new -= {item.there for item in copies.items(Which.STOOD)}
    with ExitStack() as stack:
        own = open_folder(medium.handle, OWN)
        stack.callback(os.close, own)
        _amend(own, INVENTORY, lambda old, out: _inventory(old, out, copies, new))
        _amend(own, MANIFEST, lambda old, out: _manifest(old, out, copies, new))


def _amend(own: int, place: bytes, write: Callable[[BinaryIO, BinaryIO], None]) -> None:
    name = place.rpartition(b"/")[2]
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
    with ExitStack() as stack:
        try:
            old = stack.enter_context(open(os.open(name, flags, dir_fd=own), "rb"))
        except FileNotFoundError:
            # It has none, and gets none that would be only half of one.
            return
        out = stack.enter_context(AtomicWriter(own, name))
        write(old, out.file)
        out.commit()


def _manifest(old: BinaryIO, out: BinaryIO, copies: Copies, new: set[bytes]) -> None:
    listed = set()

    def before() -> Iterator[tuple[bytes, bytes]]:
        for digest, place in read_manifest(old, "the manifest"):
            if place not in new:
                listed.add(place)
                yield digest, place

    write_manifest(out, before())
    added = (e for e in _entries(copies) if e.place in new or e.place not in listed)
    write_manifest(out, ((e.digest, e.place) for e in added))


def _inventory(old: BinaryIO, out: BinaryIO, copies: Copies, new: set[bytes]) -> None:
    renamed = WITH_BEFORE[-1].encode() in old.readline(_LONGEST_HEADER)
    old.seek(0)
    reading = io.TextIOWrapper(old, "utf-8", newline="")
    writing = io.TextIOWrapper(out, "utf-8", newline="")
    listed = set()

    def before() -> Iterator[Entry]:
        for entry in read_inventory(reading, "the inventory"):
            if entry.place not in new:
                listed.add(entry.place)
                yield entry

    try:
        writer = InventoryWriter(writing, renamed or copies.journal.has_renamed())
        writer.write(before())
        writer.write(e for e in _entries(copies) if e.place in new or e.place not in listed)
    finally:
        reading.detach()
        writing.detach()


def _write(medium: Medium, folder: bytes, files: dict[bytes, bytes]) -> None:
    fd = open_folder(medium.handle, folder)
    try:
        for name, content in files.items():
            write_whole(fd, name, content)
    finally:
        os.close(fd)


def _clear_begun(medium: Medium, folder: bytes) -> None:
    """Removes what a run that was cut off had begun to write."""
    for name in medium.names(folder):
        if _BEGUN.match(name):
            remove_own(medium, join(folder, name))
