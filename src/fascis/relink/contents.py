"""The contents of found files: digests, samples, lengths, capture times.

Only as far as a tie needs them. Files are only read, each once, and the results are kept. Lengths
and capture times are read in a child process with limits.
"""

from __future__ import annotations

import os
import stat
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress

from blake3 import blake3

from fascis.documents.photo_facts import Facts, facts_of
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import Cancelled
from fascis.words.speech import tr

_SAMPLE, _SAMPLES = 1 << 16, 16
_CHUNK = 1 << 22


class Contents:
    """Reads found files, on request.

    Args:
        control: checked between two pieces.
        report: called with a text about the present file.
    """

    def __init__(
        self, control: Control = UNSTOPPED, report: Callable[[str], None] = lambda _words: None
    ) -> None:
        self._control, self._report = control, report
        self._digests: dict[bytes, bytes] = {}
        self._samples: dict[bytes, bytes] = {}
        self._facts: dict[bytes, Facts] = {}

    def digest(self, path: bytes) -> bytes:
        """The BLAKE3 digest of a whole file; empty if it cannot be read.

        Raises:
            Cancelled: when ``control`` was stopped.
        """
        if path not in self._digests:
            self._digests[path] = self._read(path, _whole)
        return self._digests[path]

    def sample(self, path: bytes) -> bytes:
        """A digest of sixteen pieces of 64 KiB spread over a file, or of all of a smaller one.

        Empty if it cannot be read.

        Raises:
            Cancelled: when ``control`` was stopped.
        """
        if path not in self._samples:
            self._samples[path] = self._read(path, _spread)
        return self._samples[path]

    def _read(self, path: bytes, pieces: Callable[[int], Iterator[bytes]]) -> bytes:
        self._stop()
        hasher = blake3()
        try:
            fd = _open(path)
            try:
                for piece in pieces(fd):
                    hasher.update(piece)
                    self._stop()
            finally:
                os.close(fd)
        except OSError:
            return b""
        return hasher.digest()

    def alike(self, paths: Iterable[bytes]) -> bool:
        """True if all files have one size and equal samples.

        They are then treated as identical copies.
        """
        samples = {self.sample(p) for p in paths}
        return len(samples) == 1 and b"" not in samples

    def facts(self, paths: Iterable[bytes]) -> dict[bytes, Facts]:
        """Length, dimensions and capture time of each file, if it has them.

        Raises:
            Cancelled: when ``control`` was stopped.
        """
        wanted = list(dict.fromkeys(paths))
        fresh = [p for p in wanted if p not in self._facts]
        if fresh:
            self._report(tr("Reading lengths and dates"))
            opened = self._opened(fresh)
            # The previous handle is closed when the next one is requested.
            for path, facts in zip(fresh, facts_of(opened, clips=True), strict=True):
                self._facts[path] = facts
        return {p: self._facts[p] for p in wanted}

    def _opened(self, paths: list[bytes]) -> Iterator[tuple[int, None]]:
        for path in paths:
            self._stop()
            try:
                fd = _open(path)
            except OSError:
                fd = os.open(os.devnull, os.O_RDONLY | os.O_CLOEXEC)
            try:
                yield fd, None
            finally:
                with suppress(OSError):
                    os.close(fd)

    def _stop(self) -> None:
        if self._control.stopped:
            raise Cancelled(tr("Looking was stopped; nothing was changed."))


def groups(contents: Contents, paths: Iterable[bytes]) -> list[list[bytes]]:
    """Files of one size, in groups with equal samples."""
    found: dict[bytes, list[bytes]] = defaultdict(list)
    for path in paths:
        found[contents.sample(path)].append(path)
    return list(found.values())


def _open(path: bytes) -> int:
    fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise OSError(tr("no regular file"))
    return fd


def _whole(fd: int) -> Iterator[bytes]:
    while piece := os.read(fd, _CHUNK):
        yield piece


def _spread(fd: int) -> Iterator[bytes]:
    size = os.fstat(fd).st_size
    yield size.to_bytes(8, "little")
    if size <= _SAMPLE * _SAMPLES:
        yield from _whole(fd)
        return
    for i in range(_SAMPLES):
        yield os.pread(fd, _SAMPLE, (size - _SAMPLE) * i // (_SAMPLES - 1))
