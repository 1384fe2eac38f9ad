"""How fast a drive was in a crossing.

Copying with its flush, and reading back, from batches of large files. Batches of small files show
how many files a second are possible, not how many bytes; they are left out, and so are batches
during which the crossing was paused.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from msgspec import Struct, field

from fascis.files.control import Control

LEAST_FILE = 1 << 20  # Bytes a file on average.
LEAST_BYTES, LEAST_SECONDS = 32 << 20, 0.5


class _Sum(Struct):
    bytes: int = 0
    seconds: float = 0.0

    def mb_s(self) -> float | None:
        enough = self.bytes >= LEAST_BYTES and self.seconds >= LEAST_SECONDS
        return self.bytes / 1e6 / self.seconds if enough else None


class Speeds(Struct):
    """Totals of one destination's run; several threads can add to them."""

    control: Control
    written: _Sum = field(default_factory=_Sum)
    read: _Sum = field(default_factory=_Sum)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @contextmanager
    def writing(self, sizes: list[int], more: bool = False) -> Iterator[None]:
        """Times a batch that is copied; ``more``: its flush, whose bytes are counted already."""
        with self._timed(self.written, sizes, more):
            yield

    @contextmanager
    def reading(self, sizes: list[int]) -> Iterator[None]:
        """Times a batch that is read back."""
        with self._timed(self.read, sizes, False):
            yield

    @contextmanager
    def _timed(self, there: _Sum, sizes: list[int], more: bool) -> Iterator[None]:
        pauses, begun = self.control.pauses, time.monotonic()
        yield
        took, total = time.monotonic() - begun, sum(sizes)
        if sizes and total >= LEAST_FILE * len(sizes) and self.control.pauses == pauses:
            with self._lock:
                there.seconds += took
                there.bytes += 0 if more else total

    def figures(self) -> tuple[float, float] | None:
        """``(write, read)`` in MB/s; None if too little was copied."""
        write, read = self.written.mb_s(), self.read.mb_s()
        return (write, read) if write and read else None
