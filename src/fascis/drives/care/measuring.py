"""A short measurement of a drive's speed that does not disturb others.

Some tens of megabytes are written, flushed, read back, and removed again: never more than a
twentieth of the free space, never longer than a few seconds, in a folder of our own, and stopped at
once on request. Reading goes around the page cache where the drive can, otherwise after its pages
were dropped. If a driver still answers from memory, the figure for reading is too good, and this is
reported.
"""

from __future__ import annotations

import mmap
import os
import time
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.drives.connected import Drives
from fascis.drives.leftovers import MEASURED, MEASURES, own_folder
from fascis.drives.model import Drive
from fascis.drives.system.device import Device
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import Cancelled, Refused, told
from fascis.files.names import join, shown
from fascis.words.speech import tr

MOST_BYTES, LEAST_BYTES = 256 << 20, 4 << 20
_SECONDS = 2.5  # Each way.
_CHUNK = 4 << 20


class Speed(Struct, frozen=True):
    """Measured speeds in MB/s (10⁶ bytes a second), and the bytes measured.

    ``proven``: read from the drive itself.
    """

    write_mb_s: float
    read_mb_s: float
    bytes: int
    proven: bool


def measure(
    drives: Drives, drive: Drive, folder: Path | None = None, control: Control = UNSTOPPED
) -> Speed:
    """Measures a drive. Writes one file in a folder of its own and removes both again.

    Args:
        folder: a folder of the drive; by default its top folder.

    Raises:
        Refused: it is away, can only be read, or is too full; nothing was written.
        Cancelled: on request; what was written is removed.
        EnvironmentTrouble: the drive failed.
    """
    label = shown(drive.label)
    if not drive.connected:
        raise Refused(Code.AWAY, tr("{label} is away; it cannot be measured.", label=label))
    if drive.read_only:
        raise Refused(
            Code.DESTINATION_READ_ONLY,
            tr("{label} can only be read; its speed is not measured.", label=label),
        )
    most = min(MOST_BYTES, drive.free // 20) // _CHUNK * _CHUNK
    if most < LEAST_BYTES:
        raise Refused(
            Code.NOT_ENOUGH_ROOM,
            tr("{label} is too full to be measured; nothing was written.", label=label),
        )
    where = folder or drive.mount
    with closing(drives.open(where)) as medium:
        try:
            with own_folder(medium, MEASURES) as own:
                return _measured(medium, drive, join(own, MEASURED), most, control)
        except OSError as error:
            raise told(error, tr("measure in"), os.fsencode(str(where))) from error


def _measured(medium: Medium, drive: Drive, place: bytes, most: int, control: Control) -> Speed:
    buffer = memoryview(mmap.mmap(-1, _CHUNK))
    # Compressible data would be stored too quickly.
    buffer[:] = os.urandom(_CHUNK)
    written, begun = 0, time.monotonic()
    with closing(medium.create(place)) as file:
        while written < most and (written < LEAST_BYTES or time.monotonic() - begun < _SECONDS):
            _stop(control)
            file.write(buffer)
            written += len(buffer)
        file.flush()
    wrote = time.monotonic() - begun
    device = Device.below(drive)
    with closing(medium.open(place)) as file:
        gone = file.drop_cached()
        gone = file.go_around_cache(True) or gone
        if device and drive.user_space:
            device.drop()
        before = device.bytes_read() if device else None
        read, begun = 0, time.monotonic()
        while (count := file.readinto(buffer)) and time.monotonic() - begun < _SECONDS:
            _stop(control)
            read += count
        took = time.monotonic() - begun
    after = device.bytes_read() if device else None
    if device:
        device.close()
    counted = after - before if after is not None and before is not None else None
    proven = gone if counted is None else counted > read // 2
    return Speed(written / 1e6 / max(wrote, 1e-6), read / 1e6 / max(took, 1e-6), written, proven)


def _stop(control: Control) -> None:
    if control.stopped:
        raise Cancelled(tr("The measurement was stopped; what it wrote is removed."))
