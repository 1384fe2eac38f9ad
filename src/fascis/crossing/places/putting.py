"""Writing one of Fascis's own files, or a rewritten one, into a place of this crossing.

It is read back before it counts.
"""

from __future__ import annotations

import errno
import io
import os
from collections.abc import Callable
from contextlib import closing
from typing import BinaryIO

from blake3 import blake3
from msgspec import Struct

from fascis.crossing.model.seen import CopySeen, Fidelity, copy_seen_of
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium, MediumFile, remove_own
from fascis.files.errors import EnvironmentTrouble
from fascis.files.names import parent, shown
from fascis.words.speech import tr

_NO_ROOM_FOR_ATTRIBUTE = {errno.ENOSPC, errno.E2BIG, errno.ERANGE, errno.EOPNOTSUPP}


class _Stream(io.RawIOBase):
    """A new file of a medium as a binary stream that computes its digest."""

    def __init__(self, file: MediumFile) -> None:
        self._file, self.hasher = file, blake3()

    def writable(self) -> bool:
        return True

    def write(self, content) -> int:  # type: ignore[no-untyped-def]
        view = memoryview(content).cast("B")
        self.hasher.update(view)
        self._file.write(view)
        return len(view)


class Like(Struct, frozen=True):
    """The properties that a rewritten file takes from the earlier one.

    Mode, times, owner if wanted, attributes.
    """

    status: os.stat_result
    attributes: dict[str, bytes]
    owner: bool
    modes: bool

    @classmethod
    def of(cls, medium: Medium, place: bytes, keeps: Fidelity) -> Like:
        """Reads them from a file. Raises ``OSError``."""
        with closing(medium.open(place)) as file:
            attributes = file.attributes() if keeps.attributes else {}
            return cls(file.status(), attributes, keeps.owner, keeps.modes)

    def give(self, file: MediumFile) -> None:
        """Sets them on a new file. Raises ``OSError``."""
        give_attributes(file, self.attributes)
        try:
            file.set_status(self.status, self.owner)
        except PermissionError:
            if self.modes:
                raise


def put(
    medium: Medium, place: bytes, fill: Callable[[BinaryIO], object], like: Like | None = None
) -> tuple[CopySeen, bytes]:
    """Writes one file into the staged library and reads it back.

    Returns its size and times, and its digest.

    Args:
        like: properties from the earlier file; without it, everybody can read the file.

    Raises:
        EnvironmentTrouble: it read back wrong. An ``OSError`` is the caller's to translate.
    """
    if medium.exists(place):
        remove_own(medium, place)
    file = medium.create(place, 0o644 if like is None else 0o600)
    try:
        raw = _Stream(file)
        buffered = io.BufferedWriter(raw, 1 << 16)
        fill(buffered)
        buffered.flush()
        buffered.detach()
        if like is not None:
            like.give(file)
        file.flush()
    finally:
        file.close()
    again = medium.open(place)
    try:
        again.drop_cached()
        if digest_of(again) != raw.hasher.digest():
            raise EnvironmentTrouble(
                tr(
                    "{place} read back wrong; this drive is unreliable. The originals "
                    "are untouched.",
                    place=shown(place),
                ),
                place,
            )
    finally:
        again.close()
    return copy_seen_of(medium.status(place)), raw.hasher.digest()


def make_parents(medium: Medium, root: bytes, place: bytes) -> None:
    """Makes missing folders above a place in ``root``. Raises ``OSError``."""
    missing = []
    above = parent(place)
    while len(above) > len(root) and not medium.exists(above):
        missing.append(above)
        above = parent(above)
    for folder in reversed(missing):
        medium.make_folder(folder)


def give_attributes(file: MediumFile, attributes: dict[str, bytes]) -> list[str]:
    """Sets extended attributes on a file; returns the names that its drive cannot store.

    Raises other ``OSError``.
    """
    lost = []
    for name, value in attributes.items():
        try:
            file.set_attributes({name: value})
        except OSError as error:
            if error.errno not in _NO_ROOM_FOR_ATTRIBUTE:
                raise
            # If the drive is really full, the next write shows it.
            lost.append(name)
    return lost
