"""What the parent and a helper say to each other: values, one after the other, over a socket.

Both are this program, started by the same person a moment ago: ``marshal`` is the quickest way, and
nothing else can speak on a socket that was never given a name.
"""

from __future__ import annotations

import marshal
from typing import Any, BinaryIO

_LENGTH = 4  # bytes that say how long a value is


def send(channel: BinaryIO, value: tuple[Any, ...]) -> None:
    """Sends a value of built-in types. Raises ``OSError`` when nobody listens any more."""
    content = marshal.dumps(value)
    channel.write(len(content).to_bytes(_LENGTH, "little"))
    channel.write(content)
    channel.flush()


def receive(channel: BinaryIO) -> Any:
    """The next value.

    Raises:
        EOFError: the other side has ended, between two values or within one.
        OSError: the socket failed.
    """
    length = int.from_bytes(_exactly(channel, _LENGTH), "little")
    return marshal.loads(_exactly(channel, length))


def _exactly(channel: BinaryIO, count: int) -> bytes:
    content = channel.read(count)
    if len(content) < count:
        raise EOFError
    return content
