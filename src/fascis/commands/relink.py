"""``relink``: finds lost media again, and updates the documents."""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the command."""

    @app.command(
        help=tr(
            "Looks for lost media, and with --apply leads the documents to it.\n\n"
            "Edits stay as they are; undo takes it back."
        )
    )
    def relink(
        library: str,
        search: list[str] = typer.Option(
            [], "--search", help=tr("A folder or drive to look in; may be repeated.")
        ),
        apply: bool = typer.Option(
            False, "--apply", help=tr("Change the documents; each is kept as it was.")
        ),
        accept: list[str] = typer.Option(
            [], "--accept", help=tr("Confirm that a folder moved: OLD=NEW, both absolute.")
        ),
        refuse: list[str] = typer.Option(
            [], "--refuse", help=tr("Confirm that a folder did not move: OLD=NEW.")
        ),
        locate: list[str] = typer.Option(
            [], "--locate", help=tr("Say where one lost file is: LOST=FOUND.")
        ),
        check: bool = typer.Option(
            False,
            "--check",
            help=tr(
                "Read what is found: its length, capture time, and content where a digest is known."
            ),
        ),
        returned: bool = typer.Option(
            False,
            "--returned",
            help=tr("Update the paths that lead to where a drive was mounted before."),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import relink_work

        wanted = relink_work.Wanted(library, search, apply, accept, refuse, locate, check, returned)
        relink_work.relink(wanted, as_json)
