"""``survey`` and ``catalog``: what a library holds, and photo catalogs."""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON


def register(app: typer.Typer) -> None:
    """Adds the commands."""

    @app.command()
    def survey(
        library: str,
        files: bool = typer.Option(False, "--files", help="List every file."),
        as_json: bool = JSON,
    ) -> None:
        """Shows what a library holds."""
        from fascis.commands import library_work

        library_work.survey(library, files, as_json)

    @app.command()
    def catalog(
        file: str = typer.Argument(..., help="The catalog, a new one or one that is there."),
        add: list[str] = typer.Option(
            ..., "--add", help="A folder of photos, with those below it."
        ),
        as_json: bool = JSON,
    ) -> None:
        """Makes a photo catalog, or adds folders of photos to one; the photos are only read."""
        from fascis.commands import library_work

        library_work.catalog(file, add, as_json)
