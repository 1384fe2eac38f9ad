"""Which programs use a drive, from ``/proc`` (proc(5)).

The drive itself is not accessed, so one that does not answer blocks nobody. Open files are
recognised by their mount (``mnt_id`` in fdinfo); working folders, programs and mapped files by
their paths.
"""

from __future__ import annotations

import os
from pathlib import Path

from msgspec import Struct

from fascis.drives.system.mounts import mount_id_of_line, read_mounts
from fascis.words.speech import tr

PROC = Path("/proc")
_LINKS = ("cwd", "root", "exe")


class Holder(Struct, frozen=True):
    """A program that uses a drive.

    Its name, its process id, and one file or folder of the drive.
    """

    program: str
    pid: int
    what: str


def holders_of(mount: Path, proc: Path = PROC) -> tuple[list[Holder], bool]:
    """The programs that use a mounted drive, by name.

    And True if every program could be examined.
    """
    ids = {m.id for m in read_mounts() if m.where == str(mount)}
    found, all_seen = [], True
    for entry in sorted((p for p in proc.iterdir() if p.name.isdigit()), key=lambda p: int(p.name)):
        try:
            what = _held(entry, ids, str(mount))
        except PermissionError:
            all_seen = False
            continue
        except (FileNotFoundError, ProcessLookupError):
            continue
        if what is not None:
            found.append(Holder(_name(entry), int(entry.name), what))
    return found, all_seen


def _held(process: Path, ids: set[int], mount: str) -> str | None:
    """What a process uses of the drive, or None."""
    for link in _LINKS:
        path = os.readlink(process / link)
        if _below(path, mount):
            return path
    for number in os.listdir(process / "fd"):
        try:
            if mount_id_of_line((process / "fdinfo" / number).read_text()) in ids:
                return os.readlink(process / "fd" / number)
        except OSError:
            continue
    for line in (process / "maps").read_text(errors="surrogateescape").splitlines():
        fields = line.split(maxsplit=5)
        if len(fields) == 6 and _below(fields[5], mount):
            return fields[5]
    return None


def _below(path: str, mount: str) -> bool:
    return path == mount or path.startswith(mount.rstrip("/") + "/")


def _name(process: Path) -> str:
    try:
        return (process / "comm").read_text(errors="replace").strip()
    except OSError:
        return tr("a program")
