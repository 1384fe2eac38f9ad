"""The system's drive service, UDisks2 (D-Bus, udisks(8)).

Mounting, unmounting, switching off, and news of drives.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path

from jeepney import DBusAddress, DBusErrorResponse, MatchRule
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import DBusConnection

from fascis.drives.model import Drive
from fascis.drives.system.mounts import mount_text, read_mounts
from fascis.files.errors import DriveGone, EnvironmentTrouble
from fascis.files.names import shown
from fascis.machine.bus import SYSTEM, Absent, call, connection, opened
from fascis.words.speech import tr

_BUS = "org.freedesktop.UDisks2"
_ROOT = "/org/freedesktop/UDisks2"
_FILESYSTEM = _BUS + ".Filesystem"
# Seconds for a driver to write out its data.
_PATIENCE = 60.0
# Seconds for writing out when a drive is removed.
_REMOVING = 120.0
_HELPER = "uhelper=udisks2"
_QUIETLY = {"auth.no_user_interaction": ("b", True)}
_BUSY = ("DeviceBusy", "Failed: target is busy")  # for programs
# Seconds for whoever only looks at a drive, as the desktop does at what is new, and as Fascis does.
_LOOKED_AT = 1.0


class Busy(Exception):
    """A program uses the drive, so it was not unmounted."""


def mounted_by_service(mount: Path, table: Path = Path("/run/mount/utab")) -> bool:
    """True if UDisks2 mounted what is mounted there.

    Libmount's own table names the helper (mount(8)).
    """
    try:
        lines = table.read_text(errors="surrogateescape").splitlines()
    except OSError:
        return False
    fields = [dict(part.split("=", 1) for part in line.split(" ") if "=" in part) for line in lines]
    return any(
        mount_text(f.get("TARGET", "")) == str(mount) and _HELPER in f.get("OPTS", "").split(",")
        for f in fields
    )


def mount(drive: Drive) -> Path:
    """Mounts a connected drive; returns its mount point.

    May ask the person for a password, like the desktop.

    Raises:
        EnvironmentTrouble: it was not mounted; nothing of it was changed.
    """
    label = shown(drive.label)
    if not (name := kernel_name(drive.device)):
        raise EnvironmentTrouble(
            tr(
                "{label} has no device of its own here; mount it with your file manager.",
                label=label,
            )
        )
    try:
        with connection(SYSTEM) as bus:
            return Path(str(_call(bus, name, "Mount", {}, _REMOVING)[0]))
    except DBusErrorResponse as error:
        raise EnvironmentTrouble(
            tr(
                "{label} could not be mounted ({said}). Nothing of it was changed.",
                label=label,
                said=_said(error),
            )
        ) from error
    except Absent as error:
        raise EnvironmentTrouble(
            tr(
                "{label} cannot be mounted from here: the system's service for drives "
                "does not answer. Mount it with your file manager.",
                label=label,
            )
        ) from error


def mount_again(device: str, mount: Path) -> Path | None:
    """Unmounts a drive, waits for its driver to end, and mounts it; returns its mount point.

    Only drives mounted by UDisks2: they are mounted again where the desktop mounts them.

    Args:
        device: ``major:minor`` of its block device.

    Returns:
        None when it was not unmounted: a program uses it, the service is not there, or does not
        permit it.

    Raises:
        DriveGone: it was unmounted and could not be mounted again.
    """
    if not device or not mounted_by_service(mount):
        return None
    name = kernel_name(device)
    try:
        with connection(SYSTEM) as bus:
            _unmount(bus, name, _PATIENCE)
            _wait_until_gone(mount)
            try:
                return Path(str(_call(bus, name, "Mount")[0]))
            except Absent as error:
                raise DriveGone(
                    tr(
                        "The drive at {mount} was unmounted, to be read again from the drive "
                        "itself, and could not be mounted again ({error}). All that was copied "
                        "is on it; connect it again and resume.",
                        mount=mount,
                        error=error,
                    )
                ) from error
    except (*Absent, Busy):
        return None


def take_out(drive: Drive) -> bool:
    """Unmounts a drive, which writes everything out, and switches it off.

    True if it is off and not only unmounted.

    Raises:
        Busy: some program uses it; it is still mounted.
        DBusErrorResponse: it was refused for another reason.
        OSError, KeyError, ValueError, TimeoutError: there is no such service.
    """
    name = kernel_name(drive.device)
    with connection(SYSTEM) as bus:
        if drive.mounted:
            _unmount(bus, name, _REMOVING)
        try:
            properties = DBusAddress(_path(name), _BUS, "org.freedesktop.DBus.Properties")
            ((_, path),) = call(bus, properties, "Get", "ss", (_BUS + ".Block", "Drive"))
            call(
                bus,
                DBusAddress(str(path), _BUS, _BUS + ".Drive"),
                "PowerOff",
                "a{sv}",
                (_QUIETLY,),
                _REMOVING,
            )
            return True
        except Absent:
            # It is unmounted; many drives cannot be switched off.
            return False


def service_there() -> bool:
    """True if the service answers on this machine."""
    try:
        with connection(SYSTEM) as bus:
            call(
                bus,
                DBusAddress(_ROOT + "/Manager", _BUS, "org.freedesktop.DBus.Peer"),
                "Ping",
                "",
                (),
            )
    except Absent:
        return False
    return True


class News:
    """Calls ``heard`` when the service reports any change.

    A drive is connected, removed, mounted, unmounted or renamed. In a thread of its own, which ends
    with :meth:`close`. Does nothing if there is no such service: the kernel's own table still shows
    mounts.
    """

    def __init__(self, heard: Callable[[], None]) -> None:
        self._heard, self._bus, self._closed = heard, _listening(), False
        if self._bus is not None:
            threading.Thread(
                target=self._listen, args=(self._bus,), name="news", daemon=True
            ).start()

    @property
    def listens(self) -> bool:
        """True if there is a service to listen to."""
        return self._bus is not None

    def _listen(self, bus: DBusConnection) -> None:
        while not self._closed:
            try:
                bus.receive(timeout=1.0)
            except TimeoutError:
                continue
            except (OSError, ValueError, EOFError):
                return  # The bus ended.
            if not self._closed:
                self._heard()

    def close(self) -> None:
        """Ends it."""
        self._closed = True
        if self._bus is not None:
            self._bus.close()


def _listening() -> DBusConnection | None:
    try:
        bus = opened(SYSTEM)
    except Absent:
        return None
    try:
        rule = MatchRule(type="signal", sender=_BUS, path_namespace=_ROOT)
        call(bus, message_bus, "AddMatch", "s", (rule.serialise(),))
    except Absent:
        bus.close()
        return None
    return bus


def kernel_name(device: str) -> str:
    """The kernel's name of a block device known as ``major:minor``, or ""."""
    path = Path(f"/sys/dev/block/{device}")
    return path.resolve().name if device and path.exists() else ""


def _path(name: str) -> str:
    """The object of a block device.

    Other characters than letters and digits are written as ``_XX`` (udisks, object paths).
    """
    escaped = "".join(
        c if c.isascii() and c.isalnum() else "_" + format(ord(c), "02x") for c in name
    )
    return f"{_ROOT}/block_devices/{escaped}"


def _call(
    bus: DBusConnection, name: str, method: str, options: object = None, patience: float = _PATIENCE
) -> tuple[object, ...]:
    address = DBusAddress(_path(name), _BUS, _FILESYSTEM)
    return call(
        bus, address, method, "a{sv}", (_QUIETLY if options is None else options,), patience
    )


def _unmount(bus: DBusConnection, name: str, patience: float) -> None:
    """Unmounts a drive. A look at it lasts moments; whoever uses it is not waited for.

    Raises:
        Busy: some program uses it; it is still mounted.
    """
    until = time.monotonic() + _LOOKED_AT
    while True:
        try:
            _call(bus, name, "Unmount", patience=patience)
            return
        except DBusErrorResponse as error:
            if not error.name.endswith(_BUSY) and "busy" not in _said(error).lower():
                raise
            if time.monotonic() > until:
                raise Busy from error
        time.sleep(0.1)


def _said(error: DBusErrorResponse) -> str:
    return str(error.data[0]) if error.data else str(error.name)


def _wait_until_gone(mount: Path) -> None:
    until = time.monotonic() + _PATIENCE
    while any(m.where == str(mount) for m in read_mounts()):
        if time.monotonic() > until:
            raise TimeoutError(tr("the driver does not end"))
        time.sleep(0.05)
