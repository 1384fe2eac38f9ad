"""Copying one file; together with reading it back, the act on which everything depends.

A file is read once; its bytes go to the copy and into the digest. It counts as copied only if the
source was the same after reading as before.
"""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Callable
from concurrent.futures import Future
from functools import partial
from typing import TypeVar

from msgspec import Struct

from fascis.crossing.copying.reading_back import CHUNK, Buffers
from fascis.crossing.journal.copies import Copied, Item
from fascis.crossing.model.seen import Fidelity, copy_seen_of, seen_of
from fascis.crossing.model.small import SMALL_FILE
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.putting import give_attributes
from fascis.files.control import Control
from fascis.files.disk.medium import Medium, MediumFile, remove_own
from fascis.files.errors import told
from fascis.words.speech import tr

T = TypeVar("T")
_SOURCE_TRIES = 3
_ZEROS = memoryview(bytes(CHUNK))
# A file that changed since may not have all its blocks yet.
_SETTLED_SECONDS = 600.0
# Bytes of blocks that hold no content: maps of a large file.
_UNCOUNTED = 1 << 20
# Seconds, and twice that before the last attempt.
_PAUSE = 0.25


class SourceTrouble(Exception):
    """The source of one file could not be read; the others continue. Internal to the engine."""

    def __init__(self, error: OSError) -> None:
        super().__init__(str(error))
        self.error = error


class Written(Exception):
    """Somebody opened the source for writing while it was read: the copy does not count.

    Internal to the engine.
    """


class Held:
    """A source file under a read lease, if one is granted.

    A write through an old mapping changes neither size nor time.
    """

    def __init__(self, reading: MediumFile) -> None:
        self._reading, self._granted = reading, reading.hold()

    def check(self) -> None:
        """Raises :class:`Written` if somebody writes, or waits for us in order to write."""
        if self._granted is False:
            raise Written
        if self._granted and not self._reading.held():
            self._reading.let_go()
            raise Written


class Passage(Struct, frozen=True):
    """Source and target of one copied file.

    ``origin`` is its place in the source, ``place`` its new one in the destination.
    """

    source: Medium
    origin: bytes
    destination: Medium
    place: bytes


def copy_file(
    item: Item, passage: Passage, keeps: Fidelity, buffers: Buffers, control: Control
) -> Copied:
    """Copies one regular file to a place that does not exist.

    Returns:
        The outcome: copied, or unreadable, changing, vanished (then nothing is left at the place).

    Raises:
        EnvironmentTrouble: the destination failed; what was begun there is left for the resume.
        Cancelled: by the control.
    """
    destination, place = passage.destination, passage.place
    for attempt in range(_SOURCE_TRIES):
        if attempt:
            # The other program may finish writing in a moment.
            time.sleep(_PAUSE * attempt)
        control.checkpoint()
        try:
            outcome = _copy_once(item, passage, keeps, buffers, control)
        except SourceTrouble as trouble:
            remove_staged(destination, place)
            return Copied(item.id, hindered_by(trouble.error))
        if outcome is not None:
            return outcome
        remove_staged(destination, place)
    return Copied(item.id, CopyState.CHANGING)


def hindered_by(error: OSError) -> CopyState:
    """The state of a copy after an error in reading the source.

    The source vanished, or cannot be read.
    """
    return (
        CopyState.VANISHED if error.errno in (errno.ENOENT, errno.ENOTDIR) else CopyState.UNREADABLE
    )


def remove_staged(destination: Medium, place: bytes) -> None:
    """Removes a staged file of this crossing, if it exists."""
    try:
        remove_own(destination, place)
    except FileNotFoundError:
        return
    except OSError as error:
        raise told(error, tr("clear the unfinished copy"), place) from error


def flush(destination: Medium, name: str) -> None:
    """Flushes a destination to its drive; the name is for messages.

    Raises:
        EnvironmentTrouble: it failed.
    """
    try:
        destination.sync()
    except OSError as error:
        raise told(error, tr("flush to {drive}", drive=name)) from error


def _copy_once(
    item: Item, passage: Passage, keeps: Fidelity, buffers: Buffers, control: Control
) -> Copied | None:
    place = passage.place
    try:
        reading = passage.source.open(passage.origin)
    except OSError as error:
        raise SourceTrouble(error) from error
    try:
        held = Held(reading)
        held.check()
        before = reading.opened
        try:
            writing = passage.destination.create(place)
        except OSError as error:
            raise told(error, tr("write"), place) from error
        try:
            transfer = _Transfer(reading, writing, held, buffers, control)
            digest = transfer.all(before, keeps.holes)
            lost = _keep_attributes(reading, writing, before, keeps)
            copy = writing.status()
        except OSError as error:
            raise told(error, tr("write"), place) from error
        finally:
            _close(writing, place)
        held.check()
        after = reading.status()
    except Written:
        return None
    except OSError as error:
        raise SourceTrouble(error) from error
    finally:
        reading.close()
    if seen_of(after) != seen_of(before) or copy.st_size != before.st_size:
        return None
    zeros = (
        before.st_size > SMALL_FILE
        and before.st_blocks * 512 < before.st_size
        and not copy.st_blocks
    )
    return Copied(
        item.id,
        CopyState.COPIED,
        digest,
        seen_of(before),
        copy_seen_of(copy),
        zeros,
        tuple(lost),
        transfer.digests.others(),
    )


def _close(file: MediumFile, place: bytes) -> None:
    try:
        file.close()
    except OSError as error:  # some drives report a failed write only here
        raise told(error, tr("write"), place) from error


def _keep_attributes(
    reading: MediumFile, writing: MediumFile, like: os.stat_result, keeps: Fidelity
) -> list[str]:
    lost = give_attributes(writing, reading.attributes()) if keeps.attributes else []
    try:
        writing.set_status(like, keeps.owner)
    except PermissionError:
        if keeps.modes:
            raise
    return lost


class _Transfer:
    """The content of one file on its way to its copy and into its digest."""

    def __init__(
        self,
        reading: MediumFile,
        writing: MediumFile,
        held: Held,
        buffers: Buffers,
        control: Control,
    ) -> None:
        self._reading, self._writing = reading, writing
        self._held, self._buffers, self._control = held, buffers, control
        self.digests = buffers.begin_digests()

    def all(self, before: os.stat_result, keeps_holes: bool) -> bytes:
        """Copies all of it; returns the digest.

        Args:
            before: size and times of the source.
            keeps_holes: the copy can have holes where the source has them.
        """
        has_holes = before.st_blocks * 512 < before.st_size
        if before.st_size <= SMALL_FILE and not has_holes:
            return self._small(before.st_size)
        if keeps_holes and has_holes:
            self._with_holes(before)
        else:
            self._part(0, None)
        return self.digests.digest()

    def _small(self, size: int) -> bytes:
        buffer = self._buffers.small
        filled = 0
        try:
            while filled < size and (count := self._reading.readinto(buffer[filled:size])):
                filled += count
        except OSError as error:
            raise SourceTrouble(error) from error
        if filled:
            self._writing.write(buffer[:filled])
        self.digests.update(buffer[:filled])
        return self.digests.digest()

    def _with_holes(self, before: os.stat_result) -> None:
        ranges = _read(self._reading.data_ranges)
        doubtful = _doubtful(before, ranges)
        at = 0
        for begin, end in ranges:
            if begin > at:
                self._hole(at, begin, doubtful)
                self._move_to(begin)
            at = self._part(begin, end)
        if at < before.st_size:
            self._hole(at, before.st_size, doubtful)
        self._writing.set_size(before.st_size)

    def _hole(self, at: int, end: int, doubtful: bool) -> None:
        if doubtful:
            self._move_to(at)
            self._part(at, end, leaves_zeros=True)
            return
        length = end - at
        while length:
            self._control.checkpoint()
            count = min(length, len(_ZEROS))
            self.digests.update(_ZEROS[:count])
            length -= count

    def _move_to(self, offset: int) -> None:
        _read(partial(self._reading.skip_to, offset))
        self._writing.skip_to(offset)

    def _part(self, at: int, end: int | None, leaves_zeros: bool = False) -> int:
        """Copies up to ``end`` (or the whole file), while another thread hashes."""
        ring = self._buffers.ring
        pending: list[Future[object] | None] = [None] * len(ring)
        turn = 0
        try:
            while end is None or at < end:
                self._control.checkpoint()
                self._held.check()
                if (waiting := pending[turn]) is not None:
                    waiting.result()
                buffer = ring[turn]
                part = buffer if end is None else buffer[: min(len(buffer), end - at)]
                try:
                    count = self._reading.readinto(part)
                except OSError as error:
                    raise SourceTrouble(error) from error
                if not count:
                    break
                read = part[:count]
                pending[turn] = self._buffers.hasher.submit(self.digests.update, read)
                # The next chunk is read while this one is written.
                self._reading.begin_reading(at + count, CHUNK)
                if leaves_zeros and read == _ZEROS[:count]:
                    self._writing.skip_to(at + count)
                else:
                    self._writing.write(read)
                    self._writing.begin_writeout(at, count)
                at += count
                turn = (turn + 1) % len(pending)
        finally:
            for waiting in pending:
                if waiting is not None:
                    waiting.result()
        return at


def _doubtful(before: os.stat_result, ranges: list[tuple[int, int]]) -> bool:
    """True if holes must be read although the file system reports them.

    It may report a hole where something was written a moment ago that is not on the drive yet (one
    did, for a time), or where it keeps more blocks than the written parts need.
    """
    written = sum(end - begin for begin, end in ranges)
    recent = max(before.st_mtime, before.st_ctime) > time.time() - _SETTLED_SECONDS
    return recent or before.st_blocks * 512 > written + max(_UNCOUNTED, written // 16)


def _read(work: Callable[[], T]) -> T:
    try:
        return work()
    except OSError as error:
        raise SourceTrouble(error) from error
