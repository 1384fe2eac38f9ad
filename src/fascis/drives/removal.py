"""Removing a drive safely: everything written out, unmounted, and switched off where it can be (UDisks2, udisks(8))."""

from __future__ import annotations

import json
import os
from pathlib import Path

from jeepney import DBusAddress, DBusErrorResponse

from fascis.drives.model import Drive
from fascis.drives.stand_in import DESCRIPTION
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.writer import write_whole
from fascis.machine.bus import SYSTEM, Absent, call, connection

_BUS = "org.freedesktop.UDisks2"
_PATIENCE = 120.0  # seconds that writing out may take
_QUIETLY = ({"auth.no_user_interaction": ("b", True)},)


def remove_safely(drive: Drive) -> bool:
    """Unmounts a drive and switches it off; True when it is off and not only unmounted.

    Raises:
        EnvironmentTrouble: it could not be; it is still mounted, and nothing of it was changed.
    """
    if drive.stand_in:
        return _take_away(drive.mount)
    name = Path(f"/sys/dev/block/{drive.device}").resolve().name if drive.device else ""
    if not name:
        raise EnvironmentTrouble(f"{drive.label} has no device of its own here; remove it with your file manager.")
    block = f"/org/freedesktop/UDisks2/block_devices/{name}"
    try:
        with connection(SYSTEM) as bus:
            call(bus, DBusAddress(block, _BUS, _BUS + ".Filesystem"), "Unmount", "a{sv}", _QUIETLY, _PATIENCE)
            try:
                properties = DBusAddress(block, _BUS, "org.freedesktop.DBus.Properties")
                ((_, path),) = call(bus, properties, "Get", "ss", (_BUS + ".Block", "Drive"))
                call(bus, DBusAddress(str(path), _BUS, _BUS + ".Drive"), "PowerOff", "a{sv}", _QUIETLY, _PATIENCE)
                return True
            except Absent:
                return False  # unmounted it is; many drives cannot be switched off
    except DBusErrorResponse as error:
        said = str(error.data[0]) if error.data else error.name
        raise EnvironmentTrouble(
            f"{drive.label} could not be removed ({said}). It is still connected; nothing of it was changed."
        ) from error
    except Absent as error:
        raise EnvironmentTrouble(
            f"{drive.label} cannot be removed from here: the system's service for drives does not answer."
            " Remove it with your file manager."
        ) from error


def _take_away(folder: Path) -> bool:
    try:
        facts = json.loads((folder / DESCRIPTION).read_bytes())
        fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            write_whole(fd, os.fsencode(DESCRIPTION), json.dumps({**facts, "connected": False}, indent=1).encode())
        finally:
            os.close(fd)
    except (OSError, ValueError) as error:
        raise told(OSError(5, str(error)), "take the stand-in drive away") from error
    return True
