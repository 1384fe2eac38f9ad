"""Output of the commands.

JSON on standard output, messages and progress bars on standard error, errors with their exit
status.
"""

from __future__ import annotations

import json
import logging
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NoReturn

import typer
from typer.exceptions import TyperException

from fascis.commands.grammar import in_words
from fascis.files.errors import Cancelled, FascisError
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

DONE, WRONG, USAGE, REFUSED, INTERRUPTED = 0, 1, 2, 3, 4
# Ctrl+C before anything was started.
STOPPED = 130


def put(record: dict[str, Any]) -> None:
    """Prints one JSON object on standard output."""
    sys.stdout.write(
        json.dumps(record, ensure_ascii=False, indent=1)
        .encode("utf-8", "backslashreplace")
        .decode()
        + "\n"
    )
    sys.stdout.flush()


def say(text: str = "") -> None:
    """Prints a line on standard error."""
    sys.stderr.write(text.encode("utf-8", "backslashreplace").decode() + "\n")


def usage(sentence: str, as_json: bool) -> NoReturn:
    """Exits with status 2: invalid arguments."""
    if as_json:
        put({"error": sentence})
    say(sentence)
    raise SystemExit(USAGE)


@contextmanager
def usage_errors(arguments: list[str]) -> Iterator[None]:
    """Turns an error in a command into a message and an exit status.

    A bug in Fascis is stored for a report, and reported as a bug.
    """
    as_json = "--json" in arguments
    try:
        yield
    except TyperException as error:
        usage(in_words(error), as_json)
    except typer.Exit as done:
        raise SystemExit(done.exit_code) from None
    except Cancelled as error:
        _end(error, arguments, INTERRUPTED)
    except (typer.Abort, KeyboardInterrupt):
        sentence = tr("Stopped before anything was begun.")
        if as_json:
            put({"error": sentence})
        say(sentence)
        raise SystemExit(STOPPED) from None
    except FascisError as error:
        _end(error, arguments, REFUSED)
    except Exception as error:
        from fascis.files.own.unexpected import told_unexpected
        from fascis.workspace import from_environment

        _end(told_unexpected(error, from_environment().state), arguments, INTERRUPTED)


_CROSSING = frozenset(("relocate", "resume", "park", "release", "undo"))


def _end(error: FascisError, arguments: list[str], status: int) -> NoReturn:
    """Prints what ended a command.

    For a crossing, its object, with the error among its problems.
    """
    _LOG.info("ended: %s: %s", type(error).__name__, error)
    if "--json" in arguments:
        if _CROSSING.intersection(arguments[:1]):
            from fascis.crossing.status.report import refusal_object

            put({**refusal_object(error), "error": str(error)})
        else:
            put({"error": str(error)})
    say(str(error))
    raise SystemExit(status) from None


def interactive() -> bool:
    """True if a question can be asked."""
    return sys.stdin.isatty() and sys.stderr.isatty()


JSON = typer.Option(
    False, "--json", help=tr("One JSON object on standard output, nothing else there.")
)
