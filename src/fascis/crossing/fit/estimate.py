"""How long a crossing takes.

From measured speeds, otherwise from cautious figures for the kind of drive.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from fascis.drives.model import Drive
from fascis.library.register import KnownDrive

# Creating, flushing and opening again one small file; from our own measurements.
_PER_FILE_SECONDS = 0.0006
_SETTLING_SECONDS = 2.0
# Hashed twice, one after the other.
_ZEROS_PER_SECOND = 1e9
# Not measured: a guess.
_GUESSES = {
    "nvme": (900.0, 900.0),
    "sata": (120.0, 130.0),
    "usb": (90.0, 100.0),
    "network": (40.0, 50.0),
}


class Estimate(Struct, frozen=True):
    """Seconds for copying and reading back (they overlap) and settling.

    ``measured`` if it is based on measured speeds.
    """

    seconds: float
    measured: bool


def _speeds(drive: Drive | None, known: Mapping[str, KnownDrive]) -> tuple[float, float, bool]:
    if drive is None:
        return 100.0, 100.0, False
    if drive.write_mb_s and drive.read_mb_s:
        return drive.write_mb_s, drive.read_mb_s, True
    seen = known.get(drive.uuid)
    if seen and seen.write_mb_s and seen.read_mb_s:
        return seen.write_mb_s, seen.read_mb_s, True
    return (*_GUESSES.get(drive.transport, (100.0, 100.0)), False)


def estimate(
    size: int,
    files: int,
    source: Drive | None,
    destination: Drive | None,
    known: Mapping[str, KnownDrive],
    holes: int = 0,
) -> Estimate:
    """Estimates a crossing of ``size`` bytes in ``files`` files up to settled.

    ``holes`` are bytes in which nothing is written.
    """
    write, read, measured = _speeds(destination, known)
    _, source_read, _ = _speeds(source, known)
    megabytes = size / 1e6
    copying, reading = megabytes / min(write, source_read), megabytes / read
    return Estimate(
        max(copying, reading)
        + 0.3 * min(copying, reading)
        + files * _PER_FILE_SECONDS
        + holes / _ZEROS_PER_SECOND
        + _SETTLING_SECONDS,
        measured,
    )
