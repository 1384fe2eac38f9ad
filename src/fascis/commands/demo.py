"""``fascis demo``.

The demo in the window or, with ``--headless``, a whole crossing with pictures.
"""

from __future__ import annotations

import sys

import typer

from fascis.commands.telling import JSON, put, say
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the command."""

    @app.command(help=tr("Opens the demo: a studio's made-up world on stand-in drives."))
    def demo(
        headless: bool = typer.Option(
            False, "--headless", help=tr("Run a whole crossing without a person and take pictures.")
        ),
        fresh: bool = typer.Option(
            False,
            "--fresh",
            help=tr("Make the demo's world again; only the demo's own folder is replaced."),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.demo.place import demo_world

        world = demo_world(fresh or headless)
        if not headless:
            from fascis.desktop.app import run

            say(tr("The demo's world is in {root}", root=world.root))
            raise typer.Exit(run(sys.argv[:1], world.workspace, demo=True))
        from fascis.tour.pictures import whole_crossing

        pictures, receipt, page = whole_crossing(world)
        record = {
            "world": str(world.root),
            "pictures": [str(p) for p in pictures],
            "receipt": str(receipt),
            "receipt_page": str(page),
        }
        if as_json:
            put(record)
        else:
            for p in pictures:
                print(tr("picture  {p}", p=p))
            print(tr("receipt  {receipt}\nas page  {page}", receipt=receipt, page=page))
