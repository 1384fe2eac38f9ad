"""Calls on the message buses (D-Bus).

Does nothing if there is no bus, no service, or no permission.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from typing import Any

from jeepney import DBusAddress, DBusErrorResponse, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection
from jeepney.wrappers import unwrap_msg

from fascis.words.speech import tr

SYSTEM, SESSION = "SYSTEM", "SESSION"
# Seconds; nobody waits for a notification.
_PATIENCE = 2.0
Absent = (OSError, KeyError, ValueError, TimeoutError, DBusErrorResponse)


@contextmanager
def connection(bus: str, fds: bool = False) -> Iterator[DBusConnection]:
    """A connection to the system's or the session's bus, closed afterwards.

    Raises:
        OSError, KeyError, ValueError: there is none.
        TimeoutError: it does not answer.
    """
    made = opened(bus, fds)
    try:
        yield made
    finally:
        made.close()


def opened(bus: str, fds: bool = False) -> DBusConnection:
    """A connection that its caller closes; raises like :func:`connection`.

    Opened in a thread of its own, because connecting has no time limit, and a bus can hang.
    """
    opening: Future[DBusConnection] = Future()

    def work() -> None:
        try:
            opening.set_result(open_dbus_connection(bus, enable_fds=fds))
        except Exception as error:
            opening.set_exception(error)

    threading.Thread(target=work, name="bus", daemon=True).start()
    try:
        return opening.result(_PATIENCE)
    except TimeoutError:
        if opening.done():
            raise
        # It may open later, when nobody waits for it any more.
        opening.add_done_callback(_close_late)
        raise TimeoutError(tr("the message bus does not answer")) from None


def _close_late(opening: Future[DBusConnection]) -> None:
    if opening.exception() is None:
        opening.result().close()


def call(
    bus: DBusConnection,
    address: DBusAddress,
    method: str,
    signature: str,
    arguments: tuple[Any, ...],
    patience: float = _PATIENCE,
) -> tuple[Any, ...]:
    """Calls a method and returns its result.

    Raises:
        DBusErrorResponse: it was refused, or there is no such service.
        TimeoutError: no answer came.
    """
    reply = bus.send_and_get_reply(
        new_method_call(address, method, signature, arguments), timeout=patience
    )
    return tuple(unwrap_msg(reply))
