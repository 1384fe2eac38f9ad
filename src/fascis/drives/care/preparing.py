"""Preparing a drive: which file system suits, what each costs, and the folder for libraries.

Nothing is formatted here. The costs are those of docs/drives.md.
"""

from __future__ import annotations

import os
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.drives.connected import Drives
from fascis.drives.model import Drive
from fascis.files.codes import Code
from fascis.files.errors import Refused, told
from fascis.files.names import fsname, shown
from fascis.words.speech import tr

LIBRARIES = "Libraries"


class Choice(Struct, frozen=True):
    """A possible file system: its advantages and costs, in words."""

    filesystem: str
    name: str
    good: str
    cost: str


CHOICES = (
    Choice(
        "ext4",
        "ext4",
        tr(
            "Holds every name and date, links and permissions; has a journal, so "
            "that it is whole again after a power cut."
        ),
        tr("Other systems than Linux cannot read it without help."),
    ),
    Choice(
        "btrfs",
        "btrfs",
        tr(
            "Holds every name and date, links and permissions; checks what it reads "
            "against checksums of its own."
        ),
        tr("Other systems than Linux cannot read it; small drives lose room to its own records."),
    ),
    Choice(
        "exfat",
        "exFAT",
        tr("Every system reads and writes it; no limit of 4 GiB."),
        tr(
            "No journal: a cable pulled at the wrong moment can cost files. A.jpg "
            "and a.jpg are one; no links, no permissions; dates in steps of two "
            "seconds."
        ),
    ),
    Choice(
        "ntfs",
        "NTFS",
        tr("Other systems read it, one of them natively; has a journal; no limit of 4 GiB."),
        tr(
            "A.jpg and a.jpg are one elsewhere; no permissions as Linux has them; "
            "written through a driver that may answer from memory."
        ),
    ),
    Choice(
        "vfat",
        "FAT32",
        tr("Every system and every camera reads it."),
        tr(
            "No file over 4 GiB, no journal, no links, no permissions; dates in "
            "steps of two seconds."
        ),
    ),
)


def make_folder_for_libraries(
    drives: Drives, drive: Drive, name: str = LIBRARIES
) -> tuple[Path, Drive]:
    """Makes the folder for libraries on a drive, or uses the existing one, and tests writing.

    Returns:
        The folder, and the drive with what it said when it was asked what it can hold.

    Raises:
        Refused: the drive is away or can only be read, the name cannot be used, something else has
            it, or it cannot be written.
        EnvironmentTrouble: the drive failed.
    """
    label = shown(drive.label)
    if not drive.connected:
        raise Refused(Code.AWAY, tr("{label} is away; nothing was made on it.", label=label))
    if drive.read_only:
        raise Refused(
            Code.DESTINATION_READ_ONLY,
            tr("{label} can only be read; nothing was made on it.", label=label),
        )
    raw = fsname(name)
    why = drive.rules.refuses_name(raw)
    if "/" in name or name in ("", ".", ".."):
        why = tr("contains a slash")
    if why:
        raise Refused(
            Code.NAME_NOT_USABLE,
            tr(
                "A folder on {label} cannot be called {value}: it {why}.",
                label=label,
                value=shown(name) or tr("nothing"),
                why=why,
            ),
        )
    with closing(drives.open(drive.mount)) as medium:
        try:
            medium.make_folder(raw)
            medium.sync_folder(b"")
        except FileExistsError:
            pass
        except OSError as error:
            raise told(error, tr("make the folder"), raw) from error
    folder = drive.mount / name
    if not folder.is_dir() or folder.is_symlink():
        raise Refused(
            Code.DESTINATION_NOT_A_FOLDER,
            tr(
                "{folder} is there and is no folder; nothing was changed.",
                folder=shown(str(folder)),
            ),
        )
    asked = drives.asked(drive, folder)
    if not os.access(folder, os.W_OK | os.X_OK) or not (asked.rules.asked or drive.free < 4 << 20):
        raise Refused(
            Code.DESTINATION_NOT_PERMITTED,
            tr("You do not have permission to write to {folder}.", folder=shown(str(folder))),
        )
    return folder, asked
