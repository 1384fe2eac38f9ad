"""Keeps the machine awake while a crossing runs, also with the lid closed.

org.freedesktop.login1, Inhibit.
"""

from __future__ import annotations

import os
from types import TracebackType
from typing import Self

from jeepney import DBusAddress, DBusErrorResponse

from fascis.machine.bus import SYSTEM, Absent, call, connection

_LOGIN = DBusAddress(
    "/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager"
)
_NO_SERVICE = ("org.freedesktop.DBus.Error.ServiceUnknown", "org.freedesktop.DBus.Error.Spawn.")
# If the lid is not granted, at least idle sleep is prevented.
_WANTED = ("sleep:idle:handle-lid-switch", "sleep:idle")


class Awake:
    """Keeps the machine awake inside the block; does nothing if not granted.

    Attributes:
        granted: what is prevented, in login1's terms; "" for nothing.
    """

    def __init__(self, why: str) -> None:
        self._why = why
        self._fd = -1
        self.granted = ""

    @property
    def with_lid(self) -> bool:
        """True if closing the lid does not put the machine to sleep either."""
        return "lid" in self.granted

    def __enter__(self) -> Self:
        try:
            with connection(SYSTEM, fds=True) as bus:
                for wanted in _WANTED:
                    try:
                        (fd,) = call(
                            bus, _LOGIN, "Inhibit", "ssss", (wanted, "Fascis", self._why, "block")
                        )
                        self._fd, self.granted = fd.to_raw_fd(), wanted
                        break
                    except DBusErrorResponse as error:
                        if error.name.startswith(_NO_SERVICE):
                            break
        except Absent:
            # There is no such service here: the machine follows its own settings.
            pass
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.let_go()

    def let_go(self) -> None:
        """Lets the machine sleep again."""
        if self._fd >= 0:
            os.close(self._fd)
        self._fd, self.granted = -1, ""
