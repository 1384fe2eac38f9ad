"""How commands tell: JSON on standard output, words and bars on standard error, errors with their exit status."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NoReturn

import typer
from typer.exceptions import TyperException

from fascis.files.errors import Cancelled, FascisError

DONE, WRONG, USAGE, REFUSED, INTERRUPTED = 0, 1, 2, 3, 4


def put(record: dict[str, Any]) -> None:
    """One JSON object on standard output."""
    sys.stdout.write(
        json.dumps(record, ensure_ascii=False, indent=1).encode("utf-8", "backslashreplace").decode() + "\n"
    )
    sys.stdout.flush()


def say(text: str = "") -> None:
    """A line of words on standard error."""
    sys.stderr.write(text.encode("utf-8", "backslashreplace").decode() + "\n")


def usage(sentence: str, as_json: bool) -> NoReturn:
    """Ends with exit status 2: the call's words are off."""
    if as_json:
        put({"error": sentence})
    say(sentence)
    raise SystemExit(USAGE)


@contextmanager
def usage_errors(arguments: list[str]) -> Iterator[None]:
    """Turns what goes wrong in a command into a sentence and an exit status; a bug of ours stays a bug report."""
    as_json = "--json" in arguments
    try:
        yield
    except TyperException as error:
        usage(error.format_message(), as_json)
    except typer.Exit as done:
        raise SystemExit(done.exit_code) from None
    except (typer.Abort, KeyboardInterrupt, Cancelled):
        say("Stopped. What is verified is kept; fascis resume goes on.")
        raise SystemExit(INTERRUPTED) from None
    except FascisError as error:
        if as_json:
            put({"error": str(error)})
        say(str(error))
        raise SystemExit(REFUSED) from None


def interactive() -> bool:
    """True when a question can be asked."""
    return sys.stdin.isatty() and sys.stderr.isatty()


JSON = typer.Option(False, "--json", help="One JSON object on standard output, nothing else there.")
