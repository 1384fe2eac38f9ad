"""Which programs have files of a folder open, from ``/proc/*/fd`` and ``/proc/*/maps`` (proc(5)).

Compared by device and inode, never by path text. Programs of other users cannot be seen without
permission; :attr:`Openers.all_seen` shows this.
"""

from __future__ import annotations

import os
import re
from collections.abc import Container
from pathlib import Path

from msgspec import Struct, field

from fascis.drives.system.mounts import Mount, read_mounts
from fascis.words.speech import tr

# What the kernel calls handles that are no files, and on no drive.
_NO_FILE = ("socket:", "pipe:", "anon_inode:")
# Ways of access, device, inode and path of a mapped file: the inode is 0 for anything else.
_MAPPED = re.compile(rb"^\S+ (\S+) \S+ ([0-9a-f]+:[0-9a-f]+) ([1-9][0-9]*) +(\S.*)$", re.MULTILINE)
_DELETED = b" (deleted)"


class OpenFile(Struct, frozen=True):
    """One open file.

    The program's name and process id, the file's device and inode, open for writing or not.
    """

    program: str
    pid: int
    device: int
    inode: int
    writing: bool
    deleted: bool
    size: int


class Openers(Struct):
    """The result, and whether every process could be examined."""

    files: list[OpenFile] = field(default_factory=list)
    all_seen: bool = True


def find_open(
    inodes: Container[tuple[int, int]], devices: Container[int], skip_self: bool = True
) -> Openers:
    """Finds open regular files whose ``(device, inode)`` is in ``inodes``.

    Args:
        devices: the devices of those inodes. Files on other drives that may not answer are not
            examined: waiting for such a drive would block us too.
    """
    found, me = Openers(), os.getpid()
    hanging = _may_hang(devices)
    silent = {m.id for m in hanging}
    mapped = _Mapped(inodes, {_number(m.device) for m in hanging})
    for program in programs():
        if skip_self and program == me:
            continue
        try:
            found.files += _of_process(program, inodes, silent) + mapped.of_process(program)
        except PermissionError:
            found.all_seen = False
        except (FileNotFoundError, ProcessLookupError):
            continue
    return found


def programs() -> list[int]:
    """The process ids of all programs that run now."""
    return [int(name) for name in os.listdir("/proc") if name.isdigit()]


def _may_hang(devices: Container[int]) -> list[Mount]:
    """The mounts with a user-space driver or on a network, without those on ``devices``."""
    return [m for m in read_mounts() if m.may_hang and _number(m.device) not in devices]


def _number(device: str) -> int:
    major, minor = device.split(":")
    return os.makedev(int(major), int(minor))


def _of_process(pid: int, inodes: Container[tuple[int, int]], silent: set[int]) -> list[OpenFile]:
    found = []
    base = f"/proc/{pid}"
    for name in os.listdir(f"{base}/fd"):
        handle = f"{base}/fd/{name}"
        try:
            if os.readlink(handle).startswith(_NO_FILE):
                continue
            if silent and _field(f"{base}/fdinfo/{name}", b"mnt_id:", 10) in silent:
                continue
            s = os.stat(handle)
        except OSError:
            continue
        if (s.st_dev, s.st_ino) in inodes and s.st_mode & 0o170000 == 0o100000:
            flags = _field(f"{base}/fdinfo/{name}", b"flags:", 8)
            writing = flags & os.O_ACCMODE in (os.O_WRONLY, os.O_RDWR)
            found.append(
                OpenFile(
                    _name(base),
                    pid,
                    s.st_dev,
                    s.st_ino,
                    writing,
                    s.st_nlink == 0,
                    s.st_blocks * 512,
                )
            )
    return found


class _Mapped:
    """Finds the files that programs have mapped into their memory; no handle need be open.

    ``maps`` names a file by the number of its file system. On one whose parts have numbers of their
    own (btrfs), ``stat`` gives another: there the file's path is asked.

    Args:
        inodes: the files searched for.
        silent: numbers of devices that may not answer.
    """

    def __init__(self, inodes: Container[tuple[int, int]], silent: Container[int]) -> None:
        self._inodes, self._silent = inodes, silent

    def of_process(self, pid: int) -> list[OpenFile]:
        """What one program has mapped of them."""
        base = f"/proc/{pid}"
        # Hundreds of lines a program, for a few dozen files: each file is examined once.
        mapped = set(_MAPPED.findall(_text(f"{base}/maps")))
        keys = {file: self._key(base, *file) for file in {tuple(m[1:]) for m in mapped}}
        found = []
        for access, *file in mapped:
            key = keys[tuple(file)]
            if key in self._inodes:
                writing = b"w" in access and b"s" in access
                deleted = file[-1].endswith(_DELETED)
                found.append(OpenFile(_name(base), pid, *key, writing, deleted, 0))
        return found

    def _key(self, base: str, device: bytes, inode: bytes, path: bytes) -> tuple[int, int]:
        """Device and inode, as ``stat`` gives them, of a file in a line of ``maps``."""
        major, minor = (int(part, 16) for part in device.split(b":"))
        key = os.makedev(major, minor), int(inode)
        if major or key in self._inodes or key[0] in self._silent or path.endswith(_DELETED):
            # A number with a major part is a block device's: the same for all of its files.
            return key
        try:
            s = os.stat(os.fsencode(f"{base}/root") + path)
        except OSError:
            return key
        return (s.st_dev, s.st_ino) if s.st_ino == key[1] else key


def _field(path: str, field: bytes, base: int) -> int:
    """A number of ``/proc/*/fdinfo/*``; 0 if it cannot be read. Accesses no drive."""
    try:
        for line in _text(path).splitlines():
            if line.startswith(field):
                return int(line.split()[1], base)
    except OSError:
        pass
    return 0


def _text(path: str) -> bytes:
    """What the kernel answers in a file of ``/proc``: read by the thousand, hence without more."""
    with open(path, "rb", buffering=0) as file:
        return file.read()


def _name(base: str) -> str:
    try:
        return Path(base, "comm").read_text(errors="replace").strip()
    except OSError:
        return tr("a program")
