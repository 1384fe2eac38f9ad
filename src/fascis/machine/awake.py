"""Keeps the machine awake while a crossing runs, also with the lid closed.

org.freedesktop.login1, Inhibit.
"""

from __future__ import annotations

import os
from types import TracebackType
from typing import Self

from jeepney import DBusAddress

from fascis.machine.bus import SYSTEM, Absent, call, connection

_LOGIN = DBusAddress(
    "/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager"
)
# Where the lid is not granted, sleeping by itself is.
_WANTED = ("sleep:idle:handle-lid-switch", "sleep:idle")


class Awake:
    """Holds the machine awake while it is entered; quietly does nothing where that is not granted.

    Attributes:
        granted: what is held off, as login1 names it; "" when nothing is.
    """

    def __init__(self, why: str) -> None:
        self._why = why
        self._fd = -1
        self.granted = ""

    @property
    def with_lid(self) -> bool:
        """True when closing the lid does not put the machine to sleep either."""
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
                    except Absent:
                        continue
        except Absent:
            # No such service here: the machine does as it is set.
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
