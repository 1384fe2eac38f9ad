"""Small files by the thousand, with helper processes; the parent flushes, journals and decides.

Only copies without problems are recorded here. Files that helpers returned, and copies that differ
from what was written, are left for :mod:`fascis.crossing.copying.engine`, which goes over
everything that is not verified, and handles and reports every hindrance.

A file is a row of the journal throughout: with a hundred thousand files, making an object for each
costs more than copying it.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from operator import itemgetter
from typing import Any

from msgspec import Struct

from fascis.crossing.copying.file import flush
from fascis.crossing.copying.helpers import Helpers
from fascis.crossing.copying.pipeline import ended_in_time, gathered, in_pipeline
from fascis.crossing.copying.proof import Proof
from fascis.crossing.copying.sides import Ends
from fascis.crossing.journal.copies import Copies, SmallCopy, SmallFile
from fascis.crossing.model.events import Advanced, Report
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.files.own.helper import helper_count

Rows = list[tuple[Any, ...]]
# For fewer files starting helpers takes longer than it saves.
LEAST_FILES = 256
_BATCH_FILES, _BATCH_BYTES = (256, 2048), 256 << 20
# If a batch takes longer, the next is not larger.
_BATCH_SECONDS = 1.0
# Small, so that a stop is noticed soon.
_JOB_FILES, _JOB_BYTES = 128, 8 << 20
_ENTRY = itemgetter(0)
_DIGEST = itemgetter(SmallCopy.ENTRY, SmallCopy.DIGEST)
_OF_STRAND = itemgetter(SmallFile.STRAND, SmallFile.SIZE)
# Files near each other at the source.
_NEAR = itemgetter(SmallFile.FOLDER, SmallFile.INODE)


class _Batch(Struct, frozen=True):
    files: Rows
    copies: Rows


class Bulk:
    """Copies and verifies the small files of one destination that are not copied yet."""

    def __init__(
        self, copies: Copies, ends: Ends, proof: Proof, control: Control, report: Report
    ) -> None:
        self._copies, self._root, self._destination = copies, ends.root, ends.destination
        self._keeps = (ends.keeps.modes, ends.keeps.attributes, ends.keeps.owner)
        self._proof, self._control, self._report = proof, control, report
        count = helper_count()
        self._helpers = Helpers(ends.source.medium.handle, ends.destination.medium.handle, count)
        self._threads = ThreadPoolExecutor(2 * count, "bulk")

    def run(self) -> None:
        """Does all of them.

        Raises:
            EnvironmentTrouble: the destination failed, or a helper ended.
            Cancelled: by the control.
        """
        try:
            in_pipeline(self._copied(), self._finish)
        finally:
            self._threads.shutdown(wait=True, cancel_futures=True)
            self._helpers.close()

    # -- copying -----------------------------------------------------------------------------------

    def _copied(self) -> Iterator[_Batch]:
        most = _BATCH_FILES[0]
        last = -1
        while files := self._copies.small_files(last, most):
            files = _within(files, _BATCH_BYTES)
            last = files[-1][SmallFile.ENTRY]
            begun = time.monotonic()
            yield _Batch(files, self._copy(sorted(files, key=_NEAR)))
            if time.monotonic() - begun < _BATCH_SECONDS:
                most = min(2 * most, _BATCH_FILES[1])

    def _copy(self, files: Rows) -> Rows:
        whole: Rows = []
        try:
            return self._in_jobs(partial(self._copy_job, whole), files)
        except Cancelled:
            self._keep(whole)
            raise

    def _copy_job(self, whole: Rows, files: Rows) -> Rows:
        copies = self._helpers.do(("copy", self._root, files, self._keeps), self._control)
        whole += copies
        self._tell(files, copies, verified=False)
        return copies

    def _keep(self, whole: Rows) -> None:
        """Stopped in the middle of a batch: finished copies are not copied again."""
        destination = self._destination
        if whole and ended_in_time(lambda: flush(destination.medium, destination.name)):
            self._copies.record_small(whole)

    # -- flushing, reading back --------------------------------------------------------------------

    def _finish(self, batch: _Batch) -> None:
        if not batch.copies:
            return
        name = self._destination.name
        flush(self._destination.medium, name)
        self._copies.record_small(batch.copies)
        digests = dict(map(_DIGEST, batch.copies))
        files = [f for f in batch.files if f[SmallFile.ENTRY] in digests]
        reads, holds = self._proof.read(
            name, lambda: self._in_jobs(self._read_job, files), lambda row: int(row[3])
        )
        equal = [
            (entry, digest, gone, stored)
            for entry, digest, gone, stored in reads
            if digests[entry] == digest
        ]
        self._copies.record_verified(
            (entry, holds and self._proof.proves(gone)) for entry, _, gone, _ in equal
        )
        self._tell(files, equal, verified=True)

    def _read_job(self, files: Rows) -> Rows:
        return self._helpers.do(("read", self._root, files), self._control)

    # -- both --------------------------------------------------------------------------------------

    def _in_jobs(self, work: Callable[[Rows], Rows], files: Rows) -> Rows:
        results = [self._threads.submit(work, job) for job in _jobs(files)]
        return gathered(results)

    def _tell(self, files: Rows, done: Rows, verified: bool) -> None:
        """Reports once for each strand, not once for each file."""
        if len(done) < len(files):
            entries = set(map(_ENTRY, done))
            files = [file for file in files if file[SmallFile.ENTRY] in entries]
        sizes: dict[int, list[int]] = {}
        for strand, size in map(_OF_STRAND, files):
            sizes.setdefault(strand, []).append(size)
        for strand, some in sizes.items():
            size, count = sum(some), len(some)
            if verified:
                event = Advanced(strand, 0, 0, size, count, self._copies.number)
            else:
                event = Advanced(strand, size, count, destination=self._copies.number)
            self._report(event)


def _within(files: Rows, most: int) -> Rows:
    """As many of the first files as have at most that many bytes; at least one."""
    total = 0
    for number, file in enumerate(files):
        total += file[SmallFile.SIZE]
        if total > most and number:
            return files[:number]
    return files


def _jobs(files: Rows) -> Iterator[Rows]:
    first = size = 0
    for number, file in enumerate(files):
        size += file[SmallFile.SIZE]
        if number - first >= _JOB_FILES - 1 or size >= _JOB_BYTES:
            yield files[first : number + 1]
            first, size = number + 1, 0
    if first < len(files):
        yield files[first:]
