"""The entry point. It imports only what the command needs, so that help appears at once."""

from __future__ import annotations

import atexit
import gc
import logging
import os
import sys
from collections.abc import Callable
from functools import cache
from typing import Any

# Objects made in bulk contain no cycles, and neither do modules. Searching for cycles every 700
# objects takes a third of the time of making them. This must be set before other imports.
gc.set_threshold(500_000, 20, 100)
# What is left at the end goes with the program: searching it takes a tenth of a second.
atexit.register(gc.freeze)
# Nothing here multiplies matrices; numpy would start an idle thread for each core.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# Nothing here extends pydantic; it would look through every installed package for what does.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

import typer  # noqa: E402

from fascis.commands.grammar import App, Group  # noqa: E402
from fascis.words.speech import tr  # noqa: E402

_LOG = logging.getLogger(__name__)

app = App(
    name="fascis",
    cls=Group,
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help=tr("Keeps a body of photo or video work whole while it moves from one drive to another."),
)


@app.callback(invoke_without_command=True)
def window(context: typer.Context) -> None:
    """Opens the window when no command is given."""
    if context.invoked_subcommand is None:
        from fascis.desktop.app import run

        raise typer.Exit(run(sys.argv))


@cache
def _command() -> Callable[..., Any]:
    """All commands, built once."""
    from fascis.commands import copies, crossings, demo, drives, library, relink, report

    drives.register(app)
    library.register(app)
    copies.register(app)
    relink.register(app)
    crossings.register(app)
    demo.register(app)
    report.register(app)
    return typer.main.get_command(app)


def main(arguments: list[str] | None = None) -> None:
    """Runs the command line and exits with its status."""
    from fascis.commands.telling import usage_errors
    from fascis.files.own import log
    from fascis.files.own.folders import state_folder

    command = _command()
    log.begin(state_folder())
    _LOG.info("fascis, with %s", arguments if arguments is not None else sys.argv[1:])
    with usage_errors(arguments if arguments is not None else sys.argv[1:]):
        status = command(args=arguments, standalone_mode=False)
    raise SystemExit(status if isinstance(status, int) else 0)
