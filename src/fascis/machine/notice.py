"""Notifying the desktop that a crossing ended or needs somebody (org.freedesktop.Notifications)."""

from __future__ import annotations

import html
from typing import Any

from jeepney import DBusAddress

from fascis.machine.bus import SESSION, Absent, call, connection

_NOTICES = DBusAddress(
    "/org/freedesktop/Notifications",
    "org.freedesktop.Notifications",
    "org.freedesktop.Notifications",
)


def tell_desktop(summary: str, body: str, urgent: bool = False) -> bool:
    """Shows a notification; False if no desktop shows it.

    Args:
        body: plain text; some desktops read markup in it, so it is escaped.
        urgent: it stays until somebody closes it.
    """
    hints = {"urgency": ("y", 2 if urgent else 1), "desktop-entry": ("s", "org.fascis.Fascis")}
    arguments: tuple[Any, ...] = (
        "Fascis",
        0,
        "drive-removable-media",
        summary,
        html.escape(body, quote=False),
        [],
        hints,
        -1,
    )
    try:
        with connection(SESSION) as bus:
            call(bus, _NOTICES, "Notify", "susssasa{sv}i", arguments)
    except Absent:
        return False
    return True
