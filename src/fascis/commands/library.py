"""``look``, ``survey``, ``catalog``, ``learn``: finding libraries, showing what one contains."""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the commands."""

    @app.command(help=tr("Looks for libraries, and for what is big; it writes nothing."))
    def look(
        where: list[str] = typer.Argument(
            None, help=tr("Folders or drives; without one, the home and every connected drive.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import look_work

        look_work.look(where or [], as_json)

    @app.command(help=tr("Shows what a library holds."))
    def survey(
        library: str,
        files: bool = typer.Option(False, "--files", help=tr("List all files.")),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import library_work

        library_work.survey(library, files, as_json)

    @app.command(
        help=tr(
            "Makes a photo catalog, or adds folders of photos to one; the photos are only read."
        )
    )
    def catalog(
        file: str = typer.Argument(..., help=tr("The catalog, a new one or one that is there.")),
        add: list[str] = typer.Option(
            ..., "--add", help=tr("A folder of photos, with those below it.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import library_work

        library_work.catalog(file, add, as_json)

    @app.command(
        help=tr("Finds where a document of unknown make keeps its paths; it changes nothing.")
    )
    def learn(
        document: str,
        search: list[str] = typer.Option(
            [], "--search", help=tr("A folder in which its media may be, besides its library's.")
        ),
        confirm: bool = typer.Option(
            False, "--confirm", help=tr("Yes: these are the places where it keeps its paths.")
        ),
        forget: bool = typer.Option(False, "--forget", help=tr("Forget what was confirmed.")),
        choose: list[int] = typer.Option(
            [], "--choose", help=tr("Take this field of those that say the same.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import learn_work

        learn_work.learn(document, search, confirm, forget, choose, as_json)
