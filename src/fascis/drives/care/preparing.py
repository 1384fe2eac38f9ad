"""Preparing a drive: which file system suits, what each costs, and the folder for libraries.

Nothing is formatted here.

The costs are those of docs/drives.md.
"""

from __future__ import annotations

import os
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from fascis.drives.connected import Drives
from fascis.drives.model import Drive
from fascis.files.codes import Code
from fascis.files.errors import Refused, told
from fascis.files.names import fsname, shown

LIBRARIES = "Libraries"


@dataclass(frozen=True, slots=True)
class Choice:
    """A file system that a drive could have: what speaks for it, and what it costs, in words."""

    filesystem: str
    name: str
    good: str
    cost: str


CHOICES = (
    Choice(
        "ext4",
        "ext4",
        "Holds every name and date, links and permissions; has a journal, so that it is whole "
        "again after a power cut.",
        "Other systems than Linux cannot read it without help.",
    ),
    Choice(
        "btrfs",
        "btrfs",
        "Holds every name and date, links and permissions; checks what it reads against checksums "
        "of its own.",
        "Other systems than Linux cannot read it; small drives lose room to its own records.",
    ),
    Choice(
        "exfat",
        "exFAT",
        "Every system reads and writes it; no limit of 4 GiB.",
        "No journal: a cable pulled at the wrong moment can cost files. A.jpg and a.jpg are one; "
        "no links, no permissions; dates in steps of two seconds.",
    ),
    Choice(
        "ntfs",
        "NTFS",
        "Other systems read it, one of them by birth; has a journal; no limit of 4 GiB.",
        "A.jpg and a.jpg are one elsewhere; no permissions as Linux has them; written through a "
        "driver that may answer from memory.",
    ),
    Choice(
        "vfat",
        "FAT32",
        "Every system and every camera reads it.",
        "No file over 4 GiB, no journal, no links, no permissions; dates in steps of two seconds.",
    ),
)


def make_folder_for_libraries(
    drives: Drives, drive: Drive, name: str = LIBRARIES
) -> tuple[Path, Drive]:
    """Makes the folder for libraries on a drive, or takes the one there, and tries to write.

    Returns:
        The folder, and the drive with what it said when it was asked what it can hold.

    Raises:
        Refused: the drive is away or can only be read, the name cannot be used, something else has
            it, or it cannot be written.
        EnvironmentTrouble: the drive failed.
    """
    label = shown(drive.label)
    if not drive.connected:
        raise Refused(Code.AWAY, f"{label} is away; nothing was made on it.")
    if drive.read_only:
        raise Refused(
            Code.DESTINATION_READ_ONLY, f"{label} can only be read; nothing was made on it."
        )
    raw = fsname(name)
    why = drive.rules.refuses_name(raw)
    if "/" in name or name in ("", ".", ".."):
        why = "has a slash in it"
    if why:
        raise Refused(
            Code.NAME_NOT_USABLE,
            f"A folder on {label} cannot be called {shown(name) or 'nothing'}: it {why}.",
        )
    with closing(drives.open(drive.mount)) as medium:
        try:
            medium.make_folder(raw)
            medium.sync_folder(b"")
        except FileExistsError:
            pass
        except OSError as error:
            raise told(error, "make the folder", raw) from error
    folder = drive.mount / name
    if not folder.is_dir() or folder.is_symlink():
        raise Refused(
            Code.DESTINATION_NOT_A_FOLDER,
            f"{shown(str(folder))} is there and is no folder; nothing was changed.",
        )
    asked = drives.asked(drive, folder)
    if not os.access(folder, os.W_OK | os.X_OK) or not (asked.rules.asked or drive.free < 4 << 20):
        raise Refused(
            Code.DESTINATION_NOT_PERMITTED, f"{shown(str(folder))} cannot be written by you."
        )
    return folder, asked
