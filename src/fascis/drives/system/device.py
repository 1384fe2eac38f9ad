"""The block device below a drive: bytes read from it, and its pages in memory.

A user-space driver reads and writes through those pages: what it returns after a write may never
have been on the drive. Source: block/stat in sysfs, posix_fadvise(2), fsync(2).
"""

from __future__ import annotations

import os
from pathlib import Path

from fascis.drives.model import Drive

# The unit of block/stat, whatever the device's own sectors are.
_SECTOR = 512


class Device:
    """One block device, identified by ``major:minor``."""

    def __init__(self, number: str) -> None:
        self.number = number
        self._fd: int | None = None
        try:
            self._fd = os.open(f"/dev/block/{number}", os.O_RDONLY | os.O_CLOEXEC)
        except OSError:
            self._fd = self._by_name()

    def _by_name(self) -> int | None:
        """Opens it by the kernel's own name: without udev there is no /dev/block."""
        try:
            name = next(
                line[8:].strip()
                for line in Path(f"/sys/dev/block/{self.number}/uevent").read_text().splitlines()
                if line.startswith("DEVNAME=")
            )
            return os.open(f"/dev/{name}", os.O_RDONLY | os.O_CLOEXEC)
        except (OSError, StopIteration):
            return None

    @classmethod
    def below(cls, drive: Drive) -> Device | None:
        """The device below a drive, or None.

        A network share, a stand-in, a file system in memory have none.
        """
        if drive.device and Path(f"/sys/dev/block/{drive.device}/stat").exists():
            return cls(drive.device)
        return None

    def bytes_read(self) -> int | None:
        """Bytes read from the device so far, by anybody.

        None if not known.
        """
        try:
            return int(Path(f"/sys/dev/block/{self.number}/stat").read_text().split()[2]) * _SECTOR
        except (OSError, ValueError, IndexError):
            return None

    @property
    def may_open(self) -> bool:
        """True if its pages can be flushed and dropped here; usually only root can."""
        return self._fd is not None

    def flush(self) -> None:
        """Writes its pages to the medium; does nothing if it cannot be opened.

        Raises ``OSError`` if that failed.
        """
        if self._fd is not None:
            os.fsync(self._fd)

    def drop(self) -> bool:
        """Writes its pages out and drops them; False if it cannot be opened."""
        if self._fd is None:
            return False
        os.fsync(self._fd)
        os.posix_fadvise(self._fd, 0, 0, os.POSIX_FADV_DONTNEED)
        return True

    def close(self) -> None:
        """Closes the handle."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None
