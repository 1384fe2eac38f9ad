"""``fascis survey`` and ``fascis verify``: what a library holds, and whether its copy is sound."""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON


def register(app: typer.Typer) -> None:
    """Adds the commands."""

    @app.command()
    def survey(
        library: str, files: bool = typer.Option(False, "--files", help="List every file."), as_json: bool = JSON
    ) -> None:
        """Shows what a library holds."""
        from fascis.commands import library_work

        library_work.survey(library, files, as_json)

    @app.command()
    def verify(library: str, as_json: bool = JSON) -> None:
        """Reads a library again and compares it with its manifest."""
        from fascis.commands import library_work

        library_work.verify(library, as_json)
