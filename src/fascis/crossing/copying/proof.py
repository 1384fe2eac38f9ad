"""Whether the data read back comes from the drive itself and not from memory: rule 8.

Dropping pages is advice and fails silently. Therefore each batch is checked. If there is a block
device, its read counter must grow by about the bytes that were read; otherwise the kernel must
report that none of a file's pages were in memory before. Behind a user-space driver the pages of
the block device are dropped first, where that is permitted. Where it is not, nothing is read from
the device, its counter does not change, and the batch is only *compared*.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from fascis.drives.model import Drive
from fascis.drives.system.device import Device
from fascis.files.errors import told
from fascis.words.speech import tr

T = TypeVar("T")

# Files of at most so many bytes may lie among a file system's own records; they are not counted.
INLINE = 4096
_ABOUT = 0.9


class Proof:
    """The proof for one destination.

    Not for several threads at once; only the reading thread uses it.
    """

    def __init__(self, drive: Drive) -> None:
        self._device = Device.below(drive)
        self._user_space = drive.user_space
        self._counts = not drive.compresses
        self._from_memory = drive.answers_from_memory
        self._before: int | None = None
        self._dropped = False

    def begin(self) -> None:
        """Called before a batch is read back, after it was flushed.

        Raises:
            OSError: the device could not be flushed.
        """
        if self._user_space and self._device:
            self._dropped = self._device.drop()
        self._before = self._device.bytes_read() if self._device else None

    def holds(self, expected: int) -> bool:
        """Called after a batch was read back: true if the drive read as much as was read here.

        Args:
            expected: bytes on the drive for the files that were read, without files of at most
                ``INLINE``.
        """
        if self._from_memory:
            return False
        grown = self._device.bytes_read() if self._device else None
        if grown is None or self._before is None:
            return not self._user_space
        enough = grown - self._before >= _ABOUT * expected
        if self._user_space:
            return enough and (self._dropped or expected > 0)
        return enough or not self._counts

    def proves(self, pages_gone: bool) -> bool:
        """The proof for one file of a batch that holds.

        With a kernel driver its pages must have been gone too.
        """
        return pages_gone or self._user_space

    def read(
        self, name: str, read: Callable[[], list[T]], stored: Callable[[T], int]
    ) -> tuple[list[T], bool]:
        """Reads a batch, and again if the first reading did not prove that it came from the drive.

        Args:
            name: the drive's name, for messages.
            stored: the bytes on the drive for one result.

        Returns:
            What the last reading gave, and whether it holds, see :meth:`holds`.
        """
        for _ in range(2):
            try:
                self.begin()
            except OSError as error:
                raise told(error, tr("flush to {drive}", drive=name)) from error
            results = read()
            expected = sum(n for n in map(stored, results) if n > INLINE)
            holds = self.holds(expected)
            if holds or not self.again:
                break
        return results, holds

    @property
    def again(self) -> bool:
        """True if reading a second time may prove what the first time did not.

        Pages can be dropped again.
        """
        return self._device is not None and self._device.may_open and not self._from_memory

    def close(self) -> None:
        """Closes the device."""
        if self._device:
            self._device.close()
