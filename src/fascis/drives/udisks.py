"""Unmounting and mounting a drive again through UDisks2, the system's own service for drives (D-Bus, udisks(8)).

Only drives that UDisks2 itself has mounted are touched: they come back at the place where the desktop puts them.
"""

from __future__ import annotations

import time
from pathlib import Path

from jeepney import DBusAddress
from jeepney.io.blocking import DBusConnection

from fascis.drives.mounts import mount_text, read_mounts
from fascis.files.errors import DriveGone
from fascis.machine.bus import SYSTEM, Absent, call, connection

_BUS = "org.freedesktop.UDisks2"
_FILESYSTEM = "org.freedesktop.UDisks2.Filesystem"
_PATIENCE = 60.0  # seconds that a driver may take to write out what it holds
_HELPER = "uhelper=udisks2"


def mounted_by_service(mount: Path, table: Path = Path("/run/mount/utab")) -> bool:
    """True when UDisks2 mounted what is mounted there: libmount's own table names the helper (mount(8))."""
    try:
        lines = table.read_text(errors="surrogateescape").splitlines()
    except OSError:
        return False
    fields = [dict(part.split("=", 1) for part in line.split(" ") if "=" in part) for line in lines]
    return any(
        mount_text(f.get("TARGET", "")) == str(mount) and _HELPER in f.get("OPTS", "").split(",") for f in fields
    )


def mount_again(device: str, mount: Path) -> Path | None:
    """Unmounts a drive, waits for its driver to end, and mounts it; gives where it is then.

    Args:
        device: ``major:minor`` of its block device.

    Returns:
        None when it was not unmounted: a program uses it, the service is not there, or does not permit it.

    Raises:
        DriveGone: it was unmounted and could not be mounted again.
    """
    if not device or not mounted_by_service(mount):
        return None
    name = Path(f"/sys/dev/block/{device}").resolve().name
    try:
        with connection(SYSTEM) as bus:
            _call(bus, name, "Unmount")
            _wait_until_gone(mount)
            try:
                return Path(str(_call(bus, name, "Mount")[0]))
            except Absent as error:
                raise DriveGone(
                    f"The drive at {mount} was unmounted, to be read again from the drive itself, and could not be mounted"
                    f" again ({error}). All that was copied is on it; connect it again and resume."
                ) from error
    except Absent:
        return None


def _call(bus: DBusConnection, name: str, method: str) -> tuple[object, ...]:
    address = DBusAddress(f"/org/freedesktop/UDisks2/block_devices/{name}", _BUS, _FILESYSTEM)
    options = {"auth.no_user_interaction": ("b", True)}
    return call(bus, address, method, "a{sv}", (options,), _PATIENCE)


def _wait_until_gone(mount: Path) -> None:
    until = time.monotonic() + _PATIENCE
    while any(m.where == str(mount) for m in read_mounts()):
        if time.monotonic() > until:
            raise TimeoutError("the driver does not end")
        time.sleep(0.05)
