"""Reading again what was only compared.

After a drive was mounted or connected again, nothing of it is in memory.
"""

from __future__ import annotations

import errno
from collections.abc import Callable
from contextlib import closing

from msgspec import Struct

from fascis.crossing.copying.proof import INLINE, Proof
from fascis.crossing.copying.reading_back import Buffers, read_back
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.which import Which
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble, told
from fascis.words.speech import tr

BATCH = 256


def prove(
    copies: Copies,
    medium: Medium,
    drive: Drive,
    place_of: Callable[[Item], bytes],
    control: Control,
) -> list[Item]:
    """Reads every copy that is not proven, and records those that are proven now.

    Returns those that were read back wrong.

    Args:
        place_of: where an item's copy is in ``medium``.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    wrong: list[Item] = []
    batch: list[Item] = []
    with Buffers() as buffers, closing(Proof(drive)) as proof:
        again = _Again(copies, medium, place_of, buffers, proof, control)
        for item in copies.items(Which.NOT_PROVEN):
            batch.append(item)
            if len(batch) == BATCH:
                wrong += again.read(batch)
                batch = []
        if batch:
            wrong += again.read(batch)
    return wrong


class _Again(Struct, frozen=True):
    """What is needed to read a batch again."""

    copies: Copies
    medium: Medium
    place_of: Callable[[Item], bytes]
    buffers: Buffers
    proof: Proof
    control: Control

    def read(self, items: list[Item]) -> list[Item]:
        """Reads a batch and records what is proven; returns those that were read back wrong."""
        try:
            self.proof.begin()
        except OSError as error:
            raise told(error, tr("flush the drive")) from error
        right, wrong, stored = [], [], 0
        for item in items:
            self.control.checkpoint()
            try:
                got = read_back(self.medium, self.place_of(item), self.buffers, self.control)
            except EnvironmentTrouble as error:
                if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.EINVAL):
                    raise
                # Removed, or another file has its name.
                wrong.append(item)
                continue
            stored += got.stored if got.stored > INLINE else 0
            if got.digest != item.digest:
                wrong.append(item)
            elif self.proof.proves(got.pages_gone):
                right.append((item.id, True))
        if self.proof.holds(stored):
            self.copies.record_verified(right)
        return wrong
