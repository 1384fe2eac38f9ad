"""Decoding pictures and clips in a child process, with limits.

Files in a library can come from anybody. The child gets open files, never a path; it has limits of
memory, processor time and waiting time, and writes only its results. If it dies, the present
picture is lost, and the next child continues.
"""

from __future__ import annotations

import io
import math
import os
import resource
import struct
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from typing import Any

MEMORY = 2 << 30  # Bytes of address space.
# Seconds of processor time for one batch, and of waiting for one picture.
SECONDS = 30
WIDTH = 320
_BATCH = 64
_LARGEST_PICTURE = 250_000_000  # Pixels.
_OK, _NOT = b"+", b"-"


# The first bytes of pictures, sound and films, by their formats' standards.
_BEGINNINGS = (
    b"\xff\xd8\xff",
    b"\x89PNG\r\n",
    b"GIF8",
    b"BM",
    b"II*\0",
    b"MM\0*",
    b"II+\0",
    b"MM\0+",
    b"RIFF",
    b"RF64",
    b"FORM",
    b"fLaC",
    b"OggS",
    b"ID3",
    b"\xff\xfb",
    b"\xff\xf3",
    b"\xff\xf1",
    b"\xff\xf9",
    b"\x1aE\xdf\xa3",
    b"8BPS",
    b"SDPX",
    b"XPDS",
    b"v/1\x01",
    b"\0\0\0\x0cJXL",
    b"\xff\x0a",
    b"0&\xb2u",
    b"\0\0\x01\xba",
    b"\0\0\x01\xb3",
    b"\x06\x0e+4",
    b"G",
)
_ATOMS = frozenset((b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot"))


def may_be_media(head: bytes) -> bool:
    """False for a file whose first bytes (16 or more) belong to no picture, sound or film.

    It need not be tried.
    """
    return head.startswith(_BEGINNINGS) or head[4:8] in _ATOMS


def decode(
    files: Sequence[int], width: int = WIDTH, at: float = 0.0, until: float = math.inf
) -> list[bytes | None]:
    """A small PNG of each open file's picture, or of one of its frames, or of its sound.

    None for files that cannot be decoded.

    Args:
        files: handles of open files, read from their present position.
        width: the largest width of the picture.
        at: the time of the frame in a clip, in seconds from its start.
        until: a time of the monotonic clock; afterwards no more are decoded, and the result has
            only earlier ones.
    """
    found: list[bytes | None] = []
    for first in range(0, len(files), _BATCH):
        batch = [fd for fd in files[first : first + _BATCH] if may_be_media(os.pread(fd, 16, 0))]
        done: list[bytes | None] = []
        while len(done) < len(batch) and time.monotonic() < until:
            done += _run(batch[len(done) :], width, at, until - time.monotonic())
        if len(done) < len(batch):
            seen = files.index(batch[len(done)], first)
            by_file = dict(zip(batch, done, strict=False))
            return found + [by_file.get(fd) for fd in files[first:seen]]
        by_file = dict(zip(batch, done, strict=True))
        found += [by_file.get(fd) for fd in files[first : first + _BATCH]]
    return found


def _run(files: list[int], width: int, at: float, most: float) -> list[bytes | None]:
    """The results of one child: for all files, or up to the one at which it died."""
    child = subprocess.Popen(
        [
            sys.executable,
            "-P",
            "-m",
            "fascis.library.decoding",
            str(width),
            repr(at),
            *map(str, files),
        ],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        pass_fds=files,
    )
    try:
        out, _ = child.communicate(timeout=min(SECONDS * 2, max(most, 0.1)))
    except subprocess.TimeoutExpired:
        child.kill()
        out, _ = child.communicate()
    found = list(_parse(out))[: len(files)]
    return found if len(found) == len(files) else [*found, None]


def _parse(out: bytes) -> Iterator[bytes | None]:
    at = 0
    while at + 5 <= len(out):
        (length,) = struct.unpack_from("<I", out, at + 1)
        if at + 5 + length > len(out):
            return
        yield out[at + 5 : at + 5 + length] if out[at : at + 1] == _OK else None
        at += 5 + length


# -- in the child ----------------------------------------------------------------------------------


def _limit() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))  # It writes no file.
    os.nice(10)


def _picture(fd: int, width: int, at: float) -> bytes:
    from PIL import Image, ImageOps

    Image.MAX_IMAGE_PIXELS = _LARGEST_PICTURE
    with open(fd, "rb", closefd=False) as file:
        try:
            image: Any = Image.open(file)
            image.draft("RGB", (width, width))
            image = ImageOps.exif_transpose(image)
        except Exception:
            file.seek(0)
            image = _frame(file, at)
        image.thumbnail((width, width))
        out = io.BytesIO()
        image.convert("RGB").save(out, "PNG")
        return out.getvalue()


def _frame(file: Any, at: float) -> Any:
    """A frame of a clip; for sound, its loudness over the first seconds."""
    import av

    with av.open(file) as container:
        if not container.streams.video:
            return _wave(container)
        if at > 0:
            container.seek(int(at * 1_000_000))  # To the key frame before it.
        frame = None
        for frame in container.decode(video=0):
            if frame.time is None or frame.time >= at - 1e-6:
                break
        if frame is None:
            raise ValueError("no frame")
        return frame.to_image()


def _wave(container: Any) -> Any:
    import numpy as np
    from PIL import Image, ImageDraw

    loud: list[float] = []
    for frame in container.decode(audio=0):
        samples = frame.to_ndarray().astype("float64")
        loud.append(float(np.abs(samples).mean()))
        if len(loud) >= 160:
            break
    image = Image.new("RGB", (320, 120), "white")
    pen, most = ImageDraw.Draw(image), max(loud) or 1.0
    for i, value in enumerate(loud):
        height = 2 + 50 * value / most
        pen.line((2 * i, 60 - height, 2 * i, 60 + height), fill="black")
    return image


def main(arguments: list[str]) -> None:
    """The child's work: decodes each handle, and writes its results to standard output."""
    _limit()
    width, at, files = int(arguments[0]), float(arguments[1]), [int(a) for a in arguments[2:]]
    for fd in files:
        try:
            os.lseek(fd, 0, os.SEEK_SET)
            content, mark = _picture(fd, width, at), _OK
        except Exception:
            content, mark = b"", _NOT
        sys.stdout.buffer.write(mark + struct.pack("<I", len(content)) + content)
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main(sys.argv[1:])
