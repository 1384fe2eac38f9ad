"""``fascis drives``: connected and known drives, their space and rules.

Also measures, mounts, prepares and removes a drive.
"""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the command."""

    @app.command(
        help=tr(
            "Shows the drives, their space, what they are and what stands on them. Formats nothing."
        )
    )
    def drives(
        drive: str = typer.Argument(
            "", help=tr("One drive: its label, the beginning of its UUID, or a folder on it.")
        ),
        measure: bool = typer.Option(
            False, "--measure", help=tr("Measure its speed: writes, reads and removes some MB.")
        ),
        mount: bool = typer.Option(
            False, "--mount", help=tr("Mount it, when it is plugged in and is not.")
        ),
        remove: bool = typer.Option(
            False, "--remove", help=tr("Write everything out, unmount it, switch it off.")
        ),
        make_folder: bool = typer.Option(
            False, "--make-folder", help=tr("Make the folder for libraries on it.")
        ),
        folder: str = typer.Option(
            "", "--folder", help=tr("The name of that folder, when not Libraries.")
        ),
        suits: str = typer.Option(
            "",
            "--suits",
            metavar="LIBRARY",
            help=tr("Say which file systems would suit a library."),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import drives_work

        wanted = drives_work.Wanted(drive, measure, mount, remove, make_folder, folder, suits)
        drives_work.drives(wanted, as_json)
