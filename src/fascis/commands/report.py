"""``fascis report``: saves a report for the makers, which a person may send or not."""

from __future__ import annotations

from pathlib import Path

import typer

from fascis.commands.telling import JSON, put, say
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the command."""

    @app.command(
        help=tr("Saves a report for the makers: versions, drives, the last crossings, the log.")
    )
    def report(
        file: Path = typer.Argument(..., help=tr("Where to save it; an existing file is kept.")),
        without_names: bool = typer.Option(
            False, "--without-names", help=tr("Leave names and paths out.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.crossing.status.makers_report import makers_report
        from fascis.files.names import shown
        from fascis.files.own.saving import write_new
        from fascis.words.figures import size
        from fascis.workspace import from_environment

        content = makers_report(from_environment(), names=not without_names)
        write_new(file.absolute(), content)
        say(
            tr(
                "Saved, {size}: {file}. Nothing was sent.",
                size=size(len(content)),
                file=shown(str(file)),
            )
        )
        if as_json:
            put({"report": str(file.absolute()), "bytes": len(content), "names": not without_names})
