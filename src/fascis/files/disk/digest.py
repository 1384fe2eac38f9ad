"""BLAKE3 digests of streams: the same in copying and in verifying."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import ExitStack, closing, suppress
from pathlib import Path
from typing import Protocol

from blake3 import blake3

from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import EnvironmentTrouble

_FIRST = 64 << 10
CHUNK = 4 << 20
DIGEST_BYTES = 32


class Reads(Protocol):
    """Anything with ``readinto``."""

    def readinto(self, buffer: bytearray | memoryview, /) -> int | None:
        """Fills the buffer from the present position; 0 at the end."""


def digest_of(stream: Reads, beat: Callable[[int], None] | None = None) -> bytes:
    """The BLAKE3 digest (32 bytes) of the rest of ``stream``.

    ``beat`` is called with each count of bytes read.
    """
    hasher = blake3()
    view = memoryview(bytearray(_FIRST))
    while count := stream.readinto(view):
        hasher.update(view[:count])
        if beat:
            beat(count)
        if count == len(view) < CHUNK:
            # Most files are small: making a large buffer would take longer than reading them.
            view = memoryview(bytearray(CHUNK))
    return hasher.digest()


def digest_of_bytes(content: bytes | memoryview) -> bytes:
    """The BLAKE3 digest of bytes in memory."""
    return blake3(content).digest()


def digest_at(path: bytes) -> bytes | None:
    """The BLAKE3 digest of a file by its absolute path; None if it cannot be read.

    No link is followed.
    """
    folder, _, name = path.rpartition(b"/")
    with suppress(OSError, EnvironmentTrouble), ExitStack() as stack:
        above = Path(os.fsdecode(folder or b"/"))
        medium = stack.enter_context(closing(PosixMedium.at(above)))
        return digest_of(stack.enter_context(closing(medium.open(name))))
    return None
