"""What a drive seems to be used for, from the names in its top folder.

A backup disk, or the disk of a system. Decided only by words and dates in names, never by the files
of a certain program; a guess, and shown as one.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from msgspec import Struct

from fascis.drives.model import Drive
from fascis.files.names import shown
from fascis.words.speech import tr

MOST_NAMES = 2_000
_BACKUP = re.compile(r"(?i)(?<![a-z])(back-?ups?|snapshots?|sicherung(en)?|sauvegardes?)(?![a-z])")
_DATED = re.compile(r"(?:19|20)\d\d[-_.]?(?:0[1-9]|1[0-2])[-_.]?(?:0[1-9]|[12]\d|3[01])")
_SYSTEM = frozenset(("etc", "usr", "bin", "var", "proc"))
# Folders named by a date, and most of all folders: one after each run.
_LEAST_DATED = 4


class Character(Struct, frozen=True):
    """Reasons to think that a drive is a backup disk, or holds a system.

    "" if there are none.
    """

    backup: str = ""
    system: str = ""


def character_of(names: list[str], label: str) -> Character:
    """Decides by the drive's label and the names in its top folder (folders end in ``/``). Pure."""
    folders = [n[:-1] for n in names if n.endswith("/")]
    backup = ""
    dated = [n for n in folders if _DATED.search(n)]
    if _BACKUP.search(label):
        backup = tr("its name is {label}", label=shown(label))
    elif named := next((n for n in names if _BACKUP.search(n)), ""):
        backup = tr("it has {rstrip}", rstrip=shown(named.rstrip("/")))
    elif len(dated) >= _LEAST_DATED and 2 * len(dated) > len(folders):
        backup = tr(
            "it has {dated} folders called by dates, {dated_2} first",
            dated=len(dated),
            dated_2=shown(dated[0]),
        )
    system = tr("it has the folders of a system") if set(folders) >= _SYSTEM else ""
    return Character(backup, system)


def look_at_character(drive: Drive) -> Character:
    """Reads the top folder of a drive, not deeper, and at most 2,000 names.

    Empty if that is not possible. May wait for a drive that does not answer; call it where nobody
    has to wait.
    """
    if not drive.connected:
        return Character()
    return character_of(top_names(drive.mount), drive.label)


def top_names(folder: Path) -> list[str]:
    """Names in a folder, folders with a slash at their end; at most 2,000."""
    found = []
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                found.append(entry.name + ("/" if entry.is_dir(follow_symlinks=False) else ""))
                if len(found) >= MOST_NAMES:
                    break
    except OSError:
        return []
    return found
