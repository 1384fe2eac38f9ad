"""Updating the lists of a library that stays.

Without the files that left, and with updated documents: ``.fascis/manifest.b3`` and
``.fascis/inventory.csv``, each whole or not at all. A file that cannot be read as such a list is
left unchanged. Repeating it gives the same result.
"""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import BinaryIO

from msgspec import Struct

from fascis.files.disk.writer import AtomicWriter
from fascis.files.errors import FascisError
from fascis.files.inventory import WITH_BEFORE, Entry, InventoryWriter, read_inventory
from fascis.files.manifest import read_manifest, write_manifest
from fascis.files.names import unlisted
from fascis.files.times import mtime_of
from fascis.library.own import INVENTORY, MANIFEST, OWN
from fascis.relink.acts import Act
from fascis.words.speech import tr

_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
_LONGEST_HEADER = 1024  # bytes
_STAYS = tr(
    "it could not be made right, and stays as it was: verifying tells what "
    "left as missing, and documents that were led elsewhere as edited"
)
# Place → its present digest.
Anew = Mapping[bytes, bytes]
_Write = Callable[[BinaryIO, BinaryIO], None]


class NotMended(Struct, frozen=True):
    """A list that could not be updated: its absolute path, and what that means."""

    path: bytes
    meaning: str


def lists_after_act(act: Act, undone: bool = False) -> list[NotMended]:
    """Updates the lists of every library in which an act changed documents.

    Returns those that could not be updated.

    Args:
        undone: the act was undone: they are as before.
    """
    by_library: dict[bytes, dict[bytes, bytes]] = {}
    for one in act.documents:
        path = unlisted(one.path, one.path_encoding)
        root = None if one.link else _library_of(path)
        if root is not None:
            digest = bytes.fromhex(one.before if undone else one.after)
            by_library.setdefault(root, {})[path[len(root) + 1 :]] = digest
    wrong = []
    for root, anew in by_library.items():
        wrong += mend_lists(Path(os.fsdecode(root)), (), anew)
    return wrong


def mend_lists(root: Path, gone: Collection[bytes], anew: Anew) -> list[NotMended]:
    """Removes some places from a library's lists, and updates the content of others.

    A library without lists gets none. Returns the lists that could not be updated.
    """
    return [
        *_tried(root, MANIFEST, lambda old, new: _manifest(old, new, gone, anew)),
        *_tried(root, INVENTORY, lambda old, new: _inventory(old, new, root, gone, anew)),
    ]


def _tried(root: Path, place: bytes, write: _Write) -> Iterator[NotMended]:
    try:
        _mend(root, place, write)
    except (FascisError, OSError) as error:
        yield NotMended(bytes(root) + b"/" + place, f"{_STAYS} ({error})")


def _library_of(document: bytes) -> bytes | None:
    """The nearest folder above a document that has a manifest."""
    folder = document.rpartition(b"/")[0]
    while folder:
        if Path(os.fsdecode(folder + b"/" + MANIFEST)).is_file():
            return folder
        folder = folder.rpartition(b"/")[0]
    return None


def _mend(root: Path, place: bytes, write: _Write) -> None:
    name = place.rpartition(b"/")[2]
    with ExitStack() as stack:
        try:
            own = os.open(root / os.fsdecode(OWN), _READ | os.O_DIRECTORY)
            stack.callback(os.close, own)
            old = stack.enter_context(open(os.open(name, _READ, dir_fd=own), "rb"))
        except FileNotFoundError:
            return
        new = stack.enter_context(AtomicWriter(own, name))
        write(old, new.file)
        new.commit()


def _manifest(old: BinaryIO, new: BinaryIO, gone: Collection[bytes], anew: Anew) -> None:
    kept = (
        (anew.get(place, digest), place)
        for digest, place in read_manifest(old, tr("the manifest"))
        if place not in gone
    )
    write_manifest(new, kept)


def _inventory(
    old: BinaryIO, new: BinaryIO, root: Path, gone: Collection[bytes], anew: Anew
) -> None:
    renamed = WITH_BEFORE[-1].encode() in old.readline(_LONGEST_HEADER)
    old.seek(0)
    reading = io.TextIOWrapper(old, "utf-8", newline="")
    writing = io.TextIOWrapper(new, "utf-8", newline="")
    try:
        entries = read_inventory(reading, tr("the inventory"))
        InventoryWriter(writing, renamed).write(_kept(entries, root, gone, anew))
    finally:
        reading.detach()
        writing.detach()


def _kept(
    entries: Iterable[Entry], root: Path, gone: Collection[bytes], anew: Anew
) -> Iterator[Entry]:
    for entry in entries:
        if entry.place in gone:
            continue
        if entry.place in anew:
            status = os.lstat(bytes(root) + b"/" + entry.place)
            entry = entry._replace(
                size=status.st_size, mtime_ns=mtime_of(status), digest=anew[entry.place]
            )
        yield entry
