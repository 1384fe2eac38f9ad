"""Reading again what was only compared.

After a drive was mounted or connected anew nothing of it is in memory.
"""

from __future__ import annotations

import errno
from collections.abc import Callable
from contextlib import closing

from fascis.crossing.copying.file import Buffers, read_back
from fascis.crossing.copying.proof import INLINE, Proof
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Control
from fascis.drives.model import Drive
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.medium import Medium

BATCH = 256


def prove(
    copies: Copies,
    medium: Medium,
    drive: Drive,
    place_of: Callable[[Item], bytes],
    control: Control,
) -> list[Item]:
    """Reads every copy that is not proven, and records those that are now.

    Gives those that were read back wrong.

    Args:
        place_of: where an item's copy is in ``medium``.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    wrong: list[Item] = []
    batch: list[Item] = []
    with Buffers() as buffers, closing(Proof(drive)) as proof:
        for item in copies.items(Which.NOT_PROVEN):
            batch.append(item)
            if len(batch) == BATCH:
                wrong += _prove(copies, medium, batch, place_of, buffers, proof, control)
                batch = []
        if batch:
            wrong += _prove(copies, medium, batch, place_of, buffers, proof, control)
    return wrong


def _prove(
    copies: Copies,
    medium: Medium,
    items: list[Item],
    place_of: Callable[[Item], bytes],
    buffers: Buffers,
    proof: Proof,
    control: Control,
) -> list[Item]:
    try:
        proof.begin()
    except OSError as error:
        raise told(error, "flush the drive") from error
    right, wrong, stored = [], [], 0
    for item in items:
        control.checkpoint()
        try:
            got = read_back(medium, place_of(item), buffers, control)
        except EnvironmentTrouble as error:
            if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.EINVAL):
                raise
            wrong.append(item)  # taken away, or something else has its name
            continue
        stored += got.stored if got.stored > INLINE else 0
        if got.digest != item.digest:
            wrong.append(item)
        elif proof.proves(got.pages_gone):
            right.append((item.id, True))
    if proof.holds(stored):
        copies.record_verified(right)
    return wrong
