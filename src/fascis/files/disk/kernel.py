"""System calls that Python does not provide, by ctypes.

Each raises ``OSError`` with the kernel's number.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import fcntl
import os
import signal
import struct

_libc = ctypes.CDLL(None, use_errno=True)
_RENAME_NOREPLACE = 1
_RENAME_EXCHANGE = 2
# Since Linux 6.5, the same number on every architecture.
_CACHESTAT = 451
_FIEMAP = 0xC020660B  # linux/fiemap.h
_FIEMAP_SHARED = 0x2000
_STATX_MNT_ID, _STATX_MNT_ID_UNIQUE, _AT_EMPTY_PATH = 0x1000, 0x4000, 0x1000
_AT_SYMLINK_NOFOLLOW, _AT_NO_AUTOMOUNT = 0x100, 0x800
# Since Linux 5.6, the same number on every architecture.
_OPENAT2 = 437
_RESOLVE_NO_XDEV, _RESOLVE_NO_SYMLINKS, _RESOLVE_BENEATH = 0x01, 0x04, 0x08
_PDEATHSIG = 1
# SYNC_FILE_RANGE_WRITE: start writing out, do not wait.
_SYNC_WRITE = 2


def _check(result: int) -> int:
    if result < 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    return result


def rename_noreplace(old_fd: int, old: bytes, new_fd: int, new: bytes) -> None:
    """``renameat2(RENAME_NOREPLACE)``.

    EEXIST if ``new`` exists, EINVAL if the file system cannot guarantee it.
    """
    _check(_libc.renameat2(old_fd, old, new_fd, new, _RENAME_NOREPLACE))


def rename_exchange(folder_fd: int, one: bytes, other: bytes) -> None:
    """``renameat2(RENAME_EXCHANGE)``: exchanges two names of a folder in one step.

    EINVAL if that is not possible.
    """
    _check(_libc.renameat2(folder_fd, one, folder_fd, other, _RENAME_EXCHANGE))


def set_mode(fd: int, mode: int) -> None:
    """Gives a new file exactly this mode, if its file system has modes."""
    with contextlib.suppress(OSError):
        os.fchmod(fd, mode)


def syncfs(fd: int) -> None:
    """Flushes the whole file system of ``fd``.

    An error since ``fd`` was opened is reported here, once.
    """
    _check(_libc.syncfs(fd))


def begin_writeout(fd: int, offset: int, length: int) -> None:
    """Makes the kernel start writing a range, so that the later flush is short.

    A hint: errors do not matter.
    """
    _libc.sync_file_range(fd, ctypes.c_int64(offset), ctypes.c_int64(length), _SYNC_WRITE)


_range = (ctypes.c_uint64 * 2)(0, 0)
_range_pointer = ctypes.byref(_range)


def cached_pages(fd: int) -> int | None:
    """How many pages of the file are in the page cache; None before kernel 6.5."""
    answer = (ctypes.c_uint64 * 5)()
    result = _libc.syscall(_CACHESTAT, fd, _range_pointer, ctypes.byref(answer), 0)
    return int(answer[0]) if result == 0 else None


def take_lease(fd: int) -> bool | None:
    """A read lease on a file that is open for reading (fcntl(2)), which ends when it is closed.

    Returns:
        True: nobody has it open for writing, nor mapped so, and whoever opens it for that is
            noticed. False: somebody
        has. None: no lease is granted here (another's file, a file system that knows none).
    """
    try:
        # The notification; SIGIO, the usual one, would end the program.
        fcntl.fcntl(fd, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_RDLCK)
    except OSError as error:
        return False if error.errno == errno.EAGAIN else None
    return True


def lease_stands(fd: int) -> bool:
    """True while a lease is held and nobody waits for its end."""
    return fcntl.fcntl(fd, fcntl.F_GETLEASE) == fcntl.F_RDLCK


def end_lease(fd: int) -> None:
    """Ends a lease, so that waiting programs can write."""
    with contextlib.suppress(OSError):
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_UNLCK)


def die_with_parent() -> None:
    """Ends this process when the parent thread ends (prctl(2), PR_SET_PDEATHSIG)."""
    _libc.prctl(_PDEATHSIG, signal.SIGKILL)


def boot_id() -> str:
    """The identity of this start of the machine (random(4)); "" if the kernel has none."""
    try:
        with open("/proc/sys/kernel/random/boot_id") as said:
            return said.read().strip()
    except OSError:
        return ""


def mount_identity(fd: int) -> str:
    """The identity of an open file's mount.

    A number that is never used again (statx(2), since Linux 6.8). Before that the mount's id, which
    a later mount can get again.
    """
    answer = (ctypes.c_uint8 * 256)()
    for mask in (_STATX_MNT_ID_UNIQUE, _STATX_MNT_ID):
        if _libc.statx(fd, b"", _AT_EMPTY_PATH, mask, ctypes.byref(answer)) == 0:
            got, identity = (
                struct.unpack_from("=L", answer, 0)[0],
                struct.unpack_from("=Q", answer, 144)[0],
            )
            if got & mask:
                return f"{mask:x}:{identity}"
    return ""


def mount_of(fd: int, name: bytes = b"") -> int | None:
    """The id of the mount of a folder, or of a name in it (statx(2), since Linux 5.8).

    None if the kernel does not report it. A bind mount has the device of the mounted folder: only
    this id distinguishes it.
    """
    answer = (ctypes.c_uint8 * 256)()
    flags = _AT_SYMLINK_NOFOLLOW | _AT_NO_AUTOMOUNT | (0 if name else _AT_EMPTY_PATH)
    if _libc.statx(fd, name, flags, _STATX_MNT_ID, ctypes.byref(answer)) != 0:
        return None
    got, identity = struct.unpack_from("=L", answer, 0)[0], struct.unpack_from("=Q", answer, 144)[0]
    return int(identity) if got & _STATX_MNT_ID else None


def open_beneath(root_fd: int, place: bytes, flags: int) -> int | None:
    """Opens something below a folder with ``openat2``.

    Never through a link, out of the folder, or into another mount.

    Returns:
        A handle; None where the kernel has no such call.

    Raises:
        OSError: EXDEV for what lies in another mount, bind mounts too; ELOOP for a link.
    """
    how = struct.pack("=QQQ", flags, 0, _RESOLVE_NO_XDEV | _RESOLVE_NO_SYMLINKS | _RESOLVE_BENEATH)
    result = _libc.syscall(_OPENAT2, root_fd, place, how, len(how))
    if result < 0 and ctypes.get_errno() in (errno.ENOSYS, errno.EPERM):
        # An old kernel, or a sandbox without the call.
        return None
    return int(_check(result))


def shared_bytes(fd: int) -> int:
    """Bytes of a file in extents shared with other files or snapshots (FIEMAP).

    0 if the file system does not report it.
    """
    total, start = 0, 0
    while True:
        head = struct.pack("=QQLLLL", start, (1 << 64) - 1 - start, 0, 0, 256, 0)
        buffer = bytearray(head + bytes(56 * 256))
        try:
            fcntl.ioctl(fd, _FIEMAP, buffer)
        except OSError as error:
            if error.errno in (errno.EOPNOTSUPP, errno.ENOTTY, errno.EINVAL):
                return 0
            raise
        count = struct.unpack_from("=L", buffer, 20)[0]
        last = False
        for i in range(count):
            logical, _physical, length = struct.unpack_from("=QQQ", buffer, 32 + 56 * i)
            flags = struct.unpack_from("=L", buffer, 32 + 56 * i + 40)[0]
            total += length if flags & _FIEMAP_SHARED else 0
            start, last = logical + length, bool(flags & 1)
        if last or not count:
            return total
