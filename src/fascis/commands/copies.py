"""``libraries``, ``verify``, ``manifest``, ``repair``, ``update`` and ``bring-back``.

Which libraries exist, where their copies are, and whether they are intact.
"""

from __future__ import annotations

import typer

from fascis.commands.telling import JSON
from fascis.crossing.model.afterwards import After
from fascis.words.speech import tr


def register(app: typer.Typer) -> None:
    """Adds the commands."""

    @app.command(help=tr("Shows every library, its home and its copies, as they were last seen."))
    def libraries(
        library: str = typer.Argument("", help=tr("Only this one: a name, an id or a path.")),
        look: bool = typer.Option(
            False,
            "--look",
            help=tr("Compare the copies that are connected with their homes first."),
        ),
        forget: str = typer.Option(
            "",
            "--forget",
            help=tr("Forget a library by its id, or a copy by its path; no file goes."),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import copies_work

        copies_work.libraries(library, look, forget, as_json)

    @app.command(
        help=tr(
            "Reads libraries again and compares them with their manifests, and with hash lists."
        )
    )
    def verify(
        library: list[str] = typer.Argument(None, help=tr("Libraries, or copies of them.")),
        drive: str = typer.Option("", "--drive", help=tr("All libraries on this drive.")),
        everything: bool = typer.Option(False, "--all", help=tr("All that is connected.")),
        lists: list[str] = typer.Option(
            [], "--list", help=tr("Compare with this hash list of somebody else's too.")
        ),
        gentle: bool = typer.Option(
            False, "--gentle", help=tr("Leave the drive to others half of the time.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import verify_work

        verify_work.verify(library or [], drive, everything, lists, gentle, as_json)

    @app.command(help=tr("Gives a library that never crossed an identity and a manifest."))
    def manifest(
        library: str,
        algorithm: str = typer.Option(
            "", "--as", help=tr("Print a hash list for others instead: md5, sha1, sha256, xxh64 …")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import copies_work

        copies_work.manifest(library, algorithm, as_json)

    @app.command(
        help=tr(
            "Puts back what is damaged or missing in a library, from a copy; undone by its act."
        )
    )
    def repair(
        library: str,
        copy: str = typer.Option(..., "--from", help=tr("The copy that has the good files.")),
        dry_run: bool = typer.Option(False, "--dry-run", help=tr("Only show what would be done.")),
        yes: bool = typer.Option(False, "--yes", help=tr("Consent to what is shown.")),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import copies_work

        copies_work.repair(library, copy, dry_run, yes, as_json)

    @app.command(
        help=tr("Brings a copy up to its home: what is new, changed, moved or gone since.")
    )
    def update(
        copy: str,
        home: str = typer.Option("", "--from", help=tr("Its home, where that is not known here.")),
        drop_earlier: bool = typer.Option(
            False, "--drop-earlier", help=tr("Delete what earlier updates kept in the copy.")
        ),
        dry_run: bool = typer.Option(False, "--dry-run", help=tr("Only show what would be done.")),
        yes: bool = typer.Option(False, "--yes", help=tr("Consent to what needs a decision.")),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import copies_work

        copies_work.update(copy, home, drop_earlier, dry_run, yes, as_json)

    @app.command(
        "bring-back",
        help=tr("Brings a library back to where it was, with the documents it had there."),
    )
    def bring_back(
        library: str = typer.Argument(
            ..., help=tr("A library, or the crossing that took it away.")
        ),
        to: str = typer.Option("", "--to", help=tr("Into this folder, instead of where it was.")),
        after: After | None = typer.Option(
            None, "--after", help=tr("What happens to the folder where the library is now.")
        ),
        ungather: bool = typer.Option(
            False, "--ungather", help=tr("Gathered media goes back to its loose place.")
        ),
        dry_run: bool = typer.Option(False, "--dry-run", help=tr("Only show what would be done.")),
        yes: bool = typer.Option(False, "--yes", help=tr("Consent to what needs a decision.")),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import copies_work

        copies_work.bring_back(library, to, after, ungather, dry_run, yes, as_json)
