"""Reads the files of a library from its drive, some batches ahead of the comparison."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Collection, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, suppress
from typing import Any, NamedTuple, Self

from fascis.copies.verifying.records import File, Place
from fascis.crossing.copying.helpers import Helpers
from fascis.crossing.copying.proof import Proof
from fascis.crossing.copying.reading_back import Buffers, read_back
from fascis.crossing.model.small import SMALL_FILE
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.digests import Algorithm
from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble
from fascis.files.own.helper import helper_count

# Bytes read between two readings of the drive's counter; more for small files, which helpers read.
BATCH_FILES, BATCH_BYTES = 256, 256 << 20
SMALL_FILES = 2048
# Batches given to the drive before the first is compared.
EARLY = 3
# So few are read here, before a helper would have started.
LEAST_FILES = 512


class Got(NamedTuple):
    """The result of reading a file.

    Its digest, whether it was read from the drive itself, and the digests that other hash lists
    use.
    """

    digest: bytes
    proven: bool
    others: dict[Algorithm, bytes]


class _Read(NamedTuple):
    """See :class:`~fascis.crossing.copying.reading_back.ReadBack`."""

    place: Place
    digest: bytes
    pages_gone: bool
    stored: int
    others: dict[Algorithm, bytes]


class Reader:
    """Reads files from the drive, batch by batch, in a thread of its own.

    Many small files are read by helpers in processes of their own; all others in this thread.

    Args:
        algorithms: digests to compute beside BLAKE3.
        drive: the files' drive; without it, it is not known whether they were read from it.
        gentle: pauses as long as it reads, so that others can use the drive.
    """

    def __init__(
        self,
        medium: Medium,
        algorithms: Collection[Algorithm],
        control: Control,
        drive: Drive | None,
        gentle: bool,
    ) -> None:
        self._medium, self._control, self._gentle = medium, control, gentle
        self._held = ExitStack()
        self._buffers = self._held.enter_context(Buffers(algorithms))
        self._proof = Proof(drive) if drive else None
        if self._proof:
            self._held.callback(self._proof.close)
        self._turn = ThreadPoolExecutor(1, "read")
        self._helpers: Helpers | None = None
        self._threads: ThreadPoolExecutor | None = None
        self._count = helper_count()
        self._shares = medium.shareable and not algorithms

    @property
    def most(self) -> int:
        """How many files make a batch."""
        return SMALL_FILES if self._shares else BATCH_FILES

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._turn.shutdown(wait=True, cancel_futures=True)
        if self._threads:
            self._threads.shutdown(wait=True, cancel_futures=True)
        if self._helpers:
            self._helpers.close()
        self._held.close()

    def read(self, batches: Iterable[list[File]]) -> Iterator[tuple[list[File], dict[Place, Got]]]:
        """Returns each batch with the files that could be read, and reads ahead meanwhile.

        Raises:
            EnvironmentTrouble: the drive failed.
            Cancelled: by the control.
        """
        under_way: deque[tuple[list[File], Future[dict[Place, Got]]]] = deque()
        for batch in batches:
            under_way.append((batch, self._turn.submit(self._batch, batch)))
            while _are_enough([files for files, _ in under_way]):
                files, future = under_way.popleft()
                yield files, future.result()
        for files, future in under_way:
            yield files, future.result()

    def _batch(self, batch: list[File]) -> dict[Place, Got]:
        """Reads a batch, and repeats this if it was not read from the drive itself."""
        begun = time.monotonic()
        proof = self._proof
        if proof:
            found, holds = proof.read("the drive", lambda: self._all(batch), lambda r: r.stored)
        else:
            found, holds = self._all(batch), False
        if self._gentle:
            _rest(time.monotonic() - begun, self._control)
        return {
            r.place: Got(r.digest, bool(proof and holds and proof.proves(r.pages_gone)), r.others)
            for r in found
        }

    def _all(self, batch: list[File]) -> list[_Read]:
        found = self._by_helpers(batch) if self._shares else []
        if len(found) < len(batch):
            done = {r.place for r in found}
            found += self._here(file.place for file in batch if file.place not in done)
        return found

    def _by_helpers(self, batch: list[File]) -> list[_Read]:
        files: list[tuple[Any, ...]] = [
            (n, None, None, *_split(file.place))
            for n, file in enumerate(batch)
            if file.size <= SMALL_FILE
        ]
        if len(files) < LEAST_FILES and self._helpers is None:
            return []
        if self._helpers is None or self._threads is None:
            # A helper replaces both handles with its own: they must be different.
            second = os.dup(self._medium.handle)
            self._held.callback(os.close, second)
            self._helpers = Helpers(self._medium.handle, second, self._count)
            self._threads = ThreadPoolExecutor(self._count, "verify")
        helpers, each = self._helpers, -(-len(files) // self._count) or 1
        jobs = [("read", b"", files[at : at + each]) for at in range(0, len(files), each)]
        found: list[_Read] = []
        try:
            for rows in self._threads.map(lambda job: helpers.do(job, self._control), jobs):
                for number, digest, gone, stored in rows:
                    found.append(_Read(batch[number].place, digest, gone, stored, {}))
        except EnvironmentTrouble:
            # A helper ended: the rest is read here.
            self._shares = False
        return found

    def _here(self, places: Iterable[Place]) -> Iterator[_Read]:
        """Reads files one by one; files that cannot be read are left out."""
        for place in places:
            self._control.checkpoint()
            with suppress(EnvironmentTrouble):
                got = read_back(self._medium, place, self._buffers, self._control)
                yield _Read(place, got.digest, got.pages_gone, got.stored, got.others)


def _are_enough(batches: list[list[File]]) -> bool:
    """True if the drive has enough to do; for large files two batches, to show progress."""
    if len(batches) < 2:
        return False
    size = sum(file.size for files in batches for file in files)
    return len(batches) > EARLY or size > BATCH_BYTES


def _split(place: Place) -> tuple[bytes, bytes]:
    folder, _, name = place.rpartition(b"/")
    return folder, name


def _rest(seconds: float, control: Control) -> None:
    end = time.monotonic() + seconds
    while (left := end - time.monotonic()) > 0:
        control.checkpoint()
        time.sleep(min(left, 0.2))
