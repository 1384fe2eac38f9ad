"""Reading one file back from its drive: a copy counts as verified if its digest is the same."""

from __future__ import annotations

import errno
import mmap
from collections.abc import Collection
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Self

from msgspec import Struct, field

from fascis.crossing.model.seen import CopySeen, copy_seen_of
from fascis.crossing.model.small import SMALL_FILE
from fascis.files.control import Control
from fascis.files.digests import Algorithm, Digests, Threads
from fascis.files.disk.medium import Medium, MediumFile
from fascis.files.errors import told
from fascis.words.speech import tr

CHUNK = 4 << 20
PAGE = 4096


class Buffers:
    """The buffers of one copying thread, and the one thread that hashes for it.

    A digest must be computed in order.
    """

    def __init__(self, also: Collection[Algorithm] = ()) -> None:
        """``also``: digests to compute beside BLAKE3, for other hash lists."""
        self.hasher = ThreadPoolExecutor(1, "hash")
        self._digests = Threads(also)
        # Whole pages: direct I/O needs them.
        self.ring = [memoryview(mmap.mmap(-1, CHUNK)) for _ in range(3)]
        self.small = memoryview(bytearray(SMALL_FILE))

    def close(self) -> None:
        """Ends the hashing thread."""
        self.hasher.shutdown(wait=True, cancel_futures=True)
        self._digests.close()

    def begin_digests(self) -> Digests:
        """Starts the digests of one file, which are computed in order."""
        return self._digests.begin()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


class ReadBack(Struct, frozen=True):
    """The result of reading a copy back.

    Its digest, whether no page of it was in memory, its size and times, its bytes on the drive, and
    the digests for other hash lists, if needed.
    """

    digest: bytes
    pages_gone: bool
    seen: CopySeen
    stored: int
    others: dict[Algorithm, bytes] = field(default_factory=dict)


def read_back(destination: Medium, place: bytes, buffers: Buffers, control: Control) -> ReadBack:
    """Drops the copy's pages and reads it.

    Raises:
        EnvironmentTrouble: the destination failed.
    """
    try:
        file = destination.open(place)
        try:
            gone = file.drop_cached()
            before = file.opened
            if before.st_size <= SMALL_FILE:
                buffer, filled = buffers.small, 0
                while filled < before.st_size and (count := file.readinto(buffer[filled:])):
                    filled += count
                digests = buffers.begin_digests()
                digests.update(buffer[:filled])
            else:
                digests = _digest_large(file, buffers, control)
            stored = min(before.st_size, before.st_blocks * 512)
            return ReadBack(digests.digest(), gone, copy_seen_of(before), stored, digests.others())
        finally:
            file.close()
    except OSError as error:
        raise told(error, tr("read back"), place) from error


def _digest_large(file: MediumFile, buffers: Buffers, control: Control) -> Digests:
    digests = buffers.begin_digests()
    pending: list[Future[object] | None] = [None] * len(buffers.ring)
    turn = at = 0
    around = file.go_around_cache(True)
    try:
        while True:
            control.checkpoint()
            if not around:
                file.begin_reading(at, 2 * CHUNK)
            if (waiting := pending[turn]) is not None:
                waiting.result()
            try:
                count = file.readinto(buffers.ring[turn])
            except OSError as error:
                if not around or error.errno != errno.EINVAL:
                    raise
                # This drive needs larger pieces: through the cache then.
                around = file.go_around_cache(False)
                continue
            if not count:
                break
            at += count
            # The end of the file; more is read through the cache.
            if around and count % PAGE:
                around = file.go_around_cache(False)
            pending[turn] = buffers.hasher.submit(digests.update, buffers.ring[turn][:count])
            turn = (turn + 1) % len(pending)
    finally:
        for waiting in pending:
            if waiting is not None:
                waiting.result()
    return digests
