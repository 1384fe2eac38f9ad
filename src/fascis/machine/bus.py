"""Calls on the message buses (D-Bus) that are quietly absent where there is no bus, no service, or no permission."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from jeepney import DBusAddress, DBusErrorResponse, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection
from jeepney.wrappers import unwrap_msg

SYSTEM, SESSION = "SYSTEM", "SESSION"
_PATIENCE = 2.0  # seconds; nobody waits for a notice
Absent = (OSError, KeyError, ValueError, TimeoutError, DBusErrorResponse)


@contextmanager
def connection(bus: str, fds: bool = False) -> Iterator[DBusConnection]:
    """A connection to the system's or the session's bus, closed afterwards.

    Raises:
        OSError, KeyError, ValueError: there is none.
    """
    made = open_dbus_connection(bus, enable_fds=fds)
    try:
        yield made
    finally:
        made.close()


def call(
    bus: DBusConnection,
    address: DBusAddress,
    method: str,
    signature: str,
    arguments: tuple[Any, ...],
    patience: float = _PATIENCE,
) -> tuple[Any, ...]:
    """Calls a method and gives what it gives.

    Raises:
        DBusErrorResponse: it was refused, or there is no such service.
        TimeoutError: no answer came.
    """
    reply = bus.send_and_get_reply(new_method_call(address, method, signature, arguments), timeout=patience)
    return tuple(unwrap_msg(reply))
