"""Mounted file systems, and changes of them.

From ``/proc/self/mountinfo``, see proc_pid_mountinfo(5).
"""

from __future__ import annotations

import os
import re
import select
from collections.abc import Iterator, Sequence
from functools import lru_cache
from pathlib import Path

from msgspec import Struct

MOUNTINFO = Path("/proc/self/mountinfo")
_OCTAL = re.compile(r"\\([0-7]{3})")

NETWORK = frozenset(("nfs", "nfs4", "cifs", "smb3", "9p", "fuse.sshfs"))


class Mount(Struct, frozen=True):
    """One line.

    The mount's id, its device as ``major:minor``, the mounted folder of the file system, the mount
    point.
    """

    id: int
    device: str
    root: str
    where: str
    options: frozenset[str]
    filesystem: str
    source: str
    super_options: frozenset[str]

    @property
    def may_hang(self) -> bool:
        """True for a user-space driver or a network: it may stop answering."""
        return self.filesystem.startswith("fuse") or self.filesystem in NETWORK

    @property
    def read_only(self) -> bool:
        """True if the mount or its file system is read-only."""
        return "ro" in self.options or "ro" in self.super_options


def mount_text(field: str) -> str:
    """A field of mountinfo without octal escapes."""
    return _OCTAL.sub(lambda m: chr(int(m[1], 8)), field)


def parse_mounts(text: str) -> Iterator[Mount]:
    """Parses the text of mountinfo; unknown lines are skipped."""
    for line in text.splitlines():
        left, separator, right = line.partition(" - ")
        fields, rest = left.split(" "), right.split(" ")
        if (
            separator
            and len(fields) >= 6
            and len(rest) >= 3
            and fields[0].isascii()
            and fields[0].isdigit()
        ):
            yield Mount(
                int(fields[0]),
                fields[2],
                mount_text(fields[3]),
                mount_text(fields[4]),
                frozenset(fields[5].split(",")),
                rest[0],
                mount_text(rest[1]),
                frozenset(rest[2].split(",")),
            )


def other_ways(path: bytes, mounts: Sequence[Mount]) -> Iterator[bytes]:
    """Other paths of a real path.

    If its file system, or a folder of it, is mounted more than once (bind mounts).
    """
    on = max(
        (m for m in mounts if _below(path, os.fsencode(m.where))),
        key=lambda m: len(m.where),
        default=None,
    )
    if on is None:
        return
    inner = _join(os.fsencode(on.root), path[len(os.fsencode(on.where).rstrip(b"/")) :])
    for m in mounts:
        if m.device == on.device and m.where != on.where and _below(inner, os.fsencode(m.root)):
            yield _join(os.fsencode(m.where), inner[len(os.fsencode(m.root).rstrip(b"/")) :])


def _below(path: bytes, folder: bytes) -> bool:
    return path == folder or path.startswith(folder.rstrip(b"/") + b"/")


def _join(folder: bytes, rest: bytes) -> bytes:
    return folder.rstrip(b"/") + (b"/" + rest.lstrip(b"/") if rest.strip(b"/") else b"") or b"/"


def read_mounts() -> tuple[Mount, ...]:
    """The present mounts."""
    return _parsed(mounts_now())


def mounts_now() -> str:
    """The text of mountinfo; it changes with every mount."""
    with open(MOUNTINFO, "rb", buffering=0) as lines:
        return os.fsdecode(lines.readall())


@lru_cache(maxsize=2)
def _parsed(text: str) -> tuple[Mount, ...]:
    """The kernel is read each time; the same text is not parsed again."""
    return tuple(parse_mounts(text))


def may_hang() -> tuple[Mount, ...]:
    """The present mounts that may stop answering."""
    return _hanging(mounts_now())


@lru_cache(maxsize=2)
def _hanging(text: str) -> tuple[Mount, ...]:
    return tuple(m for m in _parsed(text) if m.may_hang)


def mount_id_of(fd: int) -> int:
    """The id of the mount of an open file or folder."""
    return mount_id_of_line(Path(f"/proc/self/fdinfo/{fd}").read_text())


def mount_id_of_line(fdinfo: str) -> int:
    """The id of a mount from the text of ``/proc/*/fdinfo/*``; -1 if missing."""
    return next(
        (int(line.split()[1]) for line in fdinfo.splitlines() if line.startswith("mnt_id:")), -1
    )


class MountWatch:
    """Reports when anything was mounted or unmounted, without polling.

    The kernel wakes whoever waits on ``fd``.
    """

    def __init__(self) -> None:
        self.fd = os.open(MOUNTINFO, os.O_RDONLY | os.O_CLOEXEC)
        self._poll = select.poll()
        self._poll.register(self.fd, select.POLLPRI | select.POLLERR)

    def wait(self, milliseconds: int | None = None) -> bool:
        """Waits for a change; True if there was one."""
        return bool(self._poll.poll(milliseconds))

    def close(self) -> None:
        """Closes the handle."""
        os.close(self.fd)
