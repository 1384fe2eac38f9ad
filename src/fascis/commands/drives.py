"""``fascis drives``: connected and known drives, space, rules."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import typer

from fascis.commands.telling import JSON, put, say
from fascis.files.names import shown
from fascis.files.sizes import size

if TYPE_CHECKING:
    from fascis.drives.model import Drive


def _object(d: Drive) -> dict[str, Any]:
    return {
        "uuid": d.uuid,
        "label": d.label,
        "filesystem": d.filesystem,
        "mount": shown(str(d.mount)),
        "capacity_bytes": d.capacity,
        "free_bytes": d.free,
        "block_bytes": d.block,
        "transport": d.transport,
        "rotational": d.rotational,
        "read_only": d.read_only,
        "removable": d.removable,
        "connected": d.connected,
        "stand_in": d.stand_in,
    }


def register(app: typer.Typer) -> None:
    """Adds the command."""

    @app.command()
    def drives(as_json: bool = JSON) -> None:
        """Shows the drives, their space, and what they are."""
        from fascis.workspace import from_environment

        workspace = from_environment()
        found = workspace.drives.connected()
        for error in workspace.drives.damaged:
            say(str(error))
        if as_json:
            put({"drives": [_object(d) for d in found]})
            return
        for d in found:
            state = f"{size(d.free)} free of {size(d.capacity)}" if d.connected else "away"
            words = [
                d.rules.name if d.rules.name != "unknown" else d.filesystem,
                d.transport,
                "read-only" if d.read_only else "",
                "stand-in" if d.stand_in else "",
            ]
            print(f"{shown(d.label):<24} {state:<34} {' · '.join(filter(None, words)):<24} {shown(str(d.mount))}")
