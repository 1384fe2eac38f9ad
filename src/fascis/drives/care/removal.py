"""Removing a drive safely: everything is written out, then it is unmounted.

It is switched off too if possible. If it is in use, finds the programs.
"""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from jeepney import DBusErrorResponse

from fascis.drives.model import Drive
from fascis.drives.stand_in import DESCRIPTION
from fascis.drives.system.holders import Holder, holders_of
from fascis.drives.system.udisks import Busy, kernel_name, take_out
from fascis.files.disk.writer import write_whole
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import shown
from fascis.machine.bus import Absent
from fascis.words.speech import tr


def remove_safely(drive: Drive) -> bool:
    """Unmounts a drive and switches it off; True if it is off and not only unmounted.

    Raises:
        EnvironmentTrouble: it could not be; it is still mounted, and nothing of it was changed.
    """
    if drive.stand_in:
        describe(drive.mount, connected=False)
        return True
    label = shown(drive.label)
    if not kernel_name(drive.device):
        raise EnvironmentTrouble(
            tr(
                "{label} has no device of its own here. Remove it with your file manager.",
                label=label,
            )
        )
    try:
        return take_out(drive)
    except Busy as error:
        raise EnvironmentTrouble(
            tr(
                "{label} could not be removed: {holding}. It is still connected; nothing "
                "of it was changed.",
                label=label,
                holding=_holding(drive),
            )
        ) from error
    except DBusErrorResponse as error:
        said = str(error.data[0]) if error.data else error.name
        raise EnvironmentTrouble(
            tr(
                "{label} could not be removed ({said}). It is still connected; nothing "
                "of it was changed.",
                label=label,
                said=said,
            )
        ) from error
    except Absent as error:
        raise EnvironmentTrouble(
            tr(
                "{label} cannot be removed from here: the system's service for drives "
                "does not answer. Remove it with your file manager.",
                label=label,
            )
        ) from error


def _holding(drive: Drive) -> str:
    holders, all_seen = holders_of(drive.mount)
    words = ", ".join(
        tr("{program} has {file} of it open", program=_who(h), file=shown(Path(h.what).name))
        for h in holders[:4]
    )
    if words:
        return words
    return tr("a program uses it") if all_seen else tr("a program of another user uses it")


def _who(holder: Holder) -> str:
    if holder.pid == os.getpid():
        return tr("Fascis itself")
    return tr("{program} (process {pid})", program=shown(holder.program), pid=holder.pid)


def describe(folder: Path, **facts: Any) -> None:
    """Changes the description of a stand-in drive.

    Raises:
        EnvironmentTrouble: it cannot be read or written.
    """
    try:
        said = json.loads((folder / DESCRIPTION).read_bytes())
        fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            write_whole(
                fd, os.fsencode(DESCRIPTION), json.dumps({**said, **facts}, indent=1).encode()
            )
        finally:
            os.close(fd)
    except (OSError, ValueError) as error:
        raise told(OSError(5, str(error)), tr("change the stand-in drive")) from error
