"""The records of an arrived library: its lists, rewritten or amended, and its history.

Each is written whole or not at all, and repeating it gives the same result.
"""

from __future__ import annotations

import io
import os
import re
import shutil
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing
from datetime import UTC, datetime
from itertools import islice
from typing import BinaryIO

from fascis.crossing.arrival.arriving import Arriving
from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.which import Which
from fascis.crossing.places.clearing import RECORDS
from fascis.crossing.places.places import Places
from fascis.files.disk.beneath import open_folder
from fascis.files.disk.medium import Medium, as_stream, remove_own
from fascis.files.disk.writer import AtomicWriter, write_whole
from fascis.files.inventory import WITH_BEFORE, Entry, InventoryWriter, read_inventory
from fascis.files.manifest import read_manifest, write_manifest
from fascis.files.names import join, shown
from fascis.library.identity import Crossed, Home, Identity, format_identity, read_identity
from fascis.library.own import IDENTITY, INVENTORY, MANIFEST, OWN
from fascis.library.roles import ROLES
from fascis.words.speech import tr

RECEIPTS = OWN + b"/receipts"
_LISTED_AT_ONCE = 4096
_LONGEST_HEADER = 1024  # bytes
_ROLE_NAMES = [role.value for role in ROLES]
_AMENDED = (INVENTORY, MANIFEST, IDENTITY)
# In the journal: which records existed.
_RECORDS_BEFORE = "records_before"
# Left by an interrupted run, see AtomicWriter.
_BEGUN = re.compile(rb"^\..+\.[0-9a-f]{12}\.new$")


def as_crossed(places: Places, clock: Callable[[], float]) -> Crossed:
    """A crossing as an entry in the history of its library, or of the one it landed in."""
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


def amend_records(
    arriving: Arriving, home: Home, receipts: Callable[[], tuple[bytes, bytes]]
) -> None:
    """Adds arrived files to the records of the library that they are part of now.

    Does nothing for a folder that is not a library. Raises ``OSError``.

    Args:
        home: what the identity file of a library that comes back will say.
        receipts: gives the receipt as JSON and HTML.
    """
    places, medium = arriving.places, arriving.medium
    if not places.goal.library:
        return
    keep_records(arriving.copies, places, medium)
    if not medium.exists(OWN):
        medium.make_folder(OWN)
    amend_lists(arriving)
    if not medium.exists(RECEIPTS):
        medium.make_folder(RECEIPTS)
    _clear_begun(medium, RECEIPTS)
    name, (as_json, as_html) = places.crossing.encode(), receipts()
    _write(medium, RECEIPTS, {name + b".json": as_json, name + b".html": as_html})
    identity = read_identity(medium, places.target)
    if identity is None or all(crossed.id != places.crossing for crossed in identity.history):
        if identity is None or places.header.restores:
            # A library that comes back brings its history along.
            identity = new_identity(places, home, arriving.clock)
        else:
            history = [*identity.history, as_crossed(places, arriving.clock)]
            identity = identity.model_copy(update={"history": history})
        # This comes last: from here on the library knows about the new part.
        _write(medium, OWN, {IDENTITY.rpartition(b"/")[2]: format_identity(identity)})


def new_identity(places: Places, home: Home, clock: Callable[[], float]) -> Identity:
    """The identity of the library at its new path."""
    header = places.header
    crossed = as_crossed(places, clock)
    old = Identity.model_validate(header.identity) if header.identity else None
    return Identity(
        library_id=header.library_id,
        name=shown(header.name),
        kind=header.kind,
        home=home,
        roles=old.roles if old else {},
        history=[*(old.history if old and not header.part else []), crossed],
    )


def keep_records(copies: Copies, places: Places, medium: Medium) -> None:
    """Keeps the present records of a library beside the arriving files, before they are amended.

    Raises ``OSError``.
    """
    if copies.value(_RECORDS_BEFORE) is not None:
        return
    there = [place for place in _AMENDED if medium.exists(place)]
    kept = join(places.staging, RECORDS)
    if not medium.exists(kept):
        medium.make_folder(kept)
    for place in there:
        _keep(medium, place, join(kept, place.rpartition(b"/")[2]))
    medium.sync()
    copies.put(_RECORDS_BEFORE, [os.fsdecode(place) for place in there])


def give_records_back(copies: Copies, places: Places, medium: Medium) -> None:
    """Restores the records from before :func:`amend_records`. Raises ``OSError``."""
    before = copies.value(_RECORDS_BEFORE)
    if before is None:
        return
    for place in _AMENDED:
        kept = join(join(places.staging, RECORDS), place.rpartition(b"/")[2])
        if os.fsdecode(place) in before:
            if medium.exists(kept):
                _copy(medium, kept, place)
        elif medium.exists(place):
            remove_own(medium, place)
    receipt = join(RECEIPTS, places.crossing.encode())
    for place in (receipt + b".json", receipt + b".html"):
        if medium.exists(place):
            remove_own(medium, place)
    for folder in (RECEIPTS, OWN):
        if medium.exists(folder):
            _clear_begun(medium, folder)
            if not medium.names(folder):
                medium.remove_folder(folder)
    medium.sync()
    copies.put(_RECORDS_BEFORE, None)


def _keep(medium: Medium, place: bytes, to: bytes) -> None:
    """Gives a record a second name; if the drive cannot do that, copies it.

    A record is rewritten beside itself, never over itself, so the second name keeps the earlier
    one.
    """
    try:
        if not medium.exists(to):
            medium.hard_link(place, to)
    except OSError:
        _copy(medium, place, to)


def _copy(medium: Medium, place: bytes, to: bytes) -> None:
    """Copies a record, whole or not at all."""
    folder, _, name = to.rpartition(b"/")
    with ExitStack() as stack:
        source = stack.enter_context(closing(medium.open(place)))
        above = open_folder(medium.handle, folder)
        stack.callback(os.close, above)
        out = stack.enter_context(AtomicWriter(above, name))
        shutil.copyfileobj(as_stream(source), out.file)
        out.commit()


def amend_lists(arriving: Arriving) -> None:
    """Adds arrived files to manifest and inventory of the library that they are part of now.

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
    # The lists keep what they state for existing files.
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
            # It has no list, and gets none that would be incomplete.
            return
        out = stack.enter_context(AtomicWriter(own, name))
        write(old, out.file)
        out.commit()


def _manifest(old: BinaryIO, out: BinaryIO, copies: Copies, new: set[bytes]) -> None:
    listed = set()

    def before() -> Iterator[tuple[bytes, bytes]]:
        for digest, place in read_manifest(old, tr("the manifest")):
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
        for entry in read_inventory(reading, tr("the inventory")):
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
    """Removes unfinished files of an interrupted run."""
    for name in medium.names(folder):
        if _BEGUN.match(name):
            remove_own(medium, join(folder, name))
