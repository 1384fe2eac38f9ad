"""``fascis demo``: the demo scenario."""
from __future__ import annotations
import typer
def register(app: typer.Typer) -> None:
    """Adds the command."""
