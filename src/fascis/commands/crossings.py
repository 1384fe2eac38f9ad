"""``relocate``, ``resume``, ``park``, ``release``, ``undo``, ``receipts``.

Crossings on the command line.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NoReturn

import typer

from fascis.commands.telling import JSON
from fascis.crossing.model.afterwards import After, Shared
from fascis.words.speech import tr

if TYPE_CHECKING:
    from fascis.crossing.split import Split


def register(app: typer.Typer) -> None:
    """Adds the commands."""

    @app.command(help=tr("Takes a library to another drive, whole and verified."))
    def relocate(
        library: str,
        to: str = typer.Option(
            "", "--to", help=tr("The folder that will contain the library's own folder.")
        ),
        into: str = typer.Option(
            "",
            "--into",
            help=tr(
                "An existing folder, in a library or not: the files are put into it, under their "
                "own folder's name; what is there already is not touched."
            ),
        ),
        also: str = typer.Option(
            "", "--also", help=tr("A second folder, on another drive, for a second copy.")
        ),
        name: str = typer.Option("", "--name", help=tr("The name it will have there.")),
        leave_out: list[str] = typer.Option(
            [],
            "--leave-out",
            help=tr(
                "A role, unused, clashing (what the new drive cannot hold as it is), or "
                "taken (what has a name that something else has there): not copied, and "
                "stays."
            ),
        ),
        discard: list[str] = typer.Option(
            [],
            "--discard",
            help=tr(
                "A role that can be made again: not copied, and deleted when the originals are."
            ),
        ),
        gather: bool = typer.Option(
            True, "--gather/--no-gather", help=tr("Copy loose media into the library.")
        ),
        only: list[str] = typer.Option(
            [], "--only", help=tr("A project, or a folder, to copy with what it uses.")
        ),
        after: After | None = typer.Option(
            None,
            "--after",
            help=tr(
                "What becomes of home and originals; without it, home goes to the new "
                "place, unless something is left out that is used."
            ),
            show_default=False,
        ),
        loose_too: bool = typer.Option(
            False,
            "--loose-too",
            help=tr(
                "With the originals, delete loose ones that were gathered and that "
                "nothing else uses."
            ),
        ),
        shared: Shared | None = typer.Option(
            None,
            "--shared",
            help=tr(
                "What others use too of what goes: its originals stay (usual for a "
                "project), or these documents are led to the new place (usual for a "
                "folder)."
            ),
            show_default=False,
        ),
        check_list: list[str] = typer.Option(
            [],
            "--check-list",
            help=tr(
                "Compare the originals with this hash list from somebody else "
                "while they are read; 'found' for the lists in the library."
            ),
        ),
        rename_taken: bool = typer.Option(
            False,
            "--rename-taken",
            help=tr("With --into: rename files whose name is already used there."),
        ),
        search: list[str] = typer.Option(
            [],
            "--search",
            help=tr(
                "Look for lost media here; the copy refers to what is found, the library "
                "stays as it is."
            ),
        ),
        dry_run: bool = typer.Option(
            False, "--dry-run", help=tr("Show the plan; write nothing anywhere.")
        ),
        later: bool = typer.Option(
            False, "--later", help=tr("Put it in the queue; resume --all lets it cross.")
        ),
        yes: bool = typer.Option(
            False,
            "--yes",
            help=tr(
                "Accept the decisions that problems ask for, and what --after says; "
                "never --discard."
            ),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import crossing_work

        wanted = crossing_work.Wanted(
            library,
            to,
            also,
            name,
            leave_out,
            discard,
            after,
            gather,
            only,
            loose_too,
            search,
            shared,
            into,
            rename_taken,
            check_list,
        )
        crossing_work.relocate(wanted, dry_run, later, yes, as_json)

    @app.command(help=tr("Makes several libraries of one, each with all that it uses."))
    def split(
        library: str,
        to: str = typer.Option(
            ..., "--to", help=tr("The folder that will contain the new libraries.")
        ),
        part: list[str] = typer.Option(
            [],
            "--part",
            help=tr(
                "NAME=PROJECT[,PROJECT]: a library of these projects; without any, one "
                "for each project, named for it."
            ),
        ),
        rest: str = typer.Option(
            "", "--rest", help=tr("Make a library of this name of what no part has.")
        ),
        after: After | None = typer.Option(
            None,
            "--after",
            help=tr("What becomes of home and originals, when all parts are verified."),
            show_default=False,
        ),
        dry_run: bool = typer.Option(
            False, "--dry-run", help=tr("Show the plan; write nothing anywhere.")
        ),
        yes: bool = typer.Option(
            False, "--yes", help=tr("Accept the decisions that problems ask for, and --after.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import split_work

        split_work.split(split_work.Wanted(library, to, part, rest, after), dry_run, yes, as_json)

    @app.command(help=tr("Goes on with an interrupted crossing, as its plan says."))
    def resume(
        crossing: str = typer.Argument(
            "",
            help=tr("The crossing's id, or its beginning; without it the newest unfinished one."),
        ),
        skip_unreadable: bool = typer.Option(
            False,
            "--skip-unreadable",
            help=tr("Go on without files that cannot be read; they stay."),
        ),
        bring_along: bool = typer.Option(
            False,
            "--bring-along",
            help=tr("Copy and verify files that changed at the old place since."),
        ),
        leave_newer: bool = typer.Option(
            False,
            "--leave-newer",
            help=tr(
                "Leave files that changed at the old place since where they are; "
                "they are never deleted."
            ),
        ),
        take_damaged: bool = typer.Option(
            False,
            "--take-damaged",
            help=tr(
                "Copy files that were damaged at the old place as they are; their originals stay."
            ),
        ),
        everything: bool = typer.Option(
            False,
            "--all",
            help=tr(
                "Let all that wait in the queue cross, one after the other; one that "
                "stops does not stop the next."
            ),
        ),
        without: str = typer.Option(
            "", "--without", help=tr("Give up one of two destinations, named by its folder.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import crossing_work, split_work

        if everything:
            crossing_work.resume_all(bring_along, as_json)
        _if_split(crossing, as_json, lambda s: split_work.resume(s, skip_unreadable, as_json))
        crossing_work.resume(
            crossing, skip_unreadable, bring_along, take_damaged, without, as_json, leave_newer
        )

    @app.command(help=tr("Sets the originals of a verified crossing aside; frees nothing yet."))
    def park(
        crossing: str,
        others_follow: bool = typer.Option(
            False,
            "--others-follow",
            help=tr(
                "documents of other libraries that use the originals are led to the new place first"
            ),
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import crossing_work, split_work

        _if_split(crossing, as_json, lambda s: split_work.park(s, as_json))
        crossing_work.park(crossing, as_json, others_follow)

    @app.command(help=tr("Deletes the originals whose copies are verified, and frees their space."))
    def release(
        crossing: str,
        yes: bool = typer.Option(False, "--yes", help=tr("Delete the originals.")),
        compared: bool = typer.Option(
            False,
            "--compared",
            help=tr(
                "Accept a comparison: the drive's driver can never prove that a "
                "copy was read from the drive itself."
            ),
        ),
        only_list: bool = typer.Option(
            False, "--list", help=tr("Tell what would be deleted and what stays; delete nothing.")
        ),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import release_work

        if only_list:
            release_work.list_release(crossing, as_json)
        else:
            release_work.release(crossing, yes, compared, as_json)

    @app.command(
        help=tr(
            "Gives home back to the old place, deleting no copy.\n\n"
            "Or takes back a relinking, by its id."
        )
    )
    def undo(crossing: str, as_json: bool = JSON) -> None:
        from fascis.commands import crossing_work, split_work

        _if_split(crossing, as_json, lambda s: split_work.undo(s, as_json))
        crossing_work.undo(crossing, as_json)

    @app.command(help=tr("Shows past crossings, or the receipt of one."))
    def receipts(
        crossing: str = typer.Argument("", help=tr("The crossing's id, or its beginning.")),
        html: str = typer.Option("", "--html", help=tr("Write the page to this new file.")),
        as_json: bool = JSON,
    ) -> None:
        from fascis.commands import crossing_work, split_work

        _if_split("" if html else crossing, as_json, lambda s: split_work.receipts(s, as_json))
        crossing_work.receipts(crossing, html, as_json)


def _if_split(id: str, as_json: bool, work: Callable[[Split], NoReturn]) -> None:
    """If the id is that of a split, does the work for the split, and exits."""
    from fascis.commands.split_work import the_split
    from fascis.workspace import from_environment

    found = the_split(from_environment(), id, as_json) if id else None
    if found is not None:
        work(found)
