"""The command-line library's own texts in the person's language: usage, help, wrong calls."""

from __future__ import annotations

from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup
from typer.exceptions import TyperException

from fascis.words.speech import tr


class _Worded:
    """Shows in the person's language how a command is called."""

    def get_help_option(self, ctx: Any) -> Any:
        """The option that shows the help."""
        option = super().get_help_option(ctx)  # type: ignore[misc]
        if option is not None:
            option.help = tr("Show this help.")
        return option

    def format_usage(self, ctx: Any, formatter: Any) -> None:
        """The usage line."""
        pieces = " ".join(self.collect_usage_pieces(ctx))  # type: ignore[attr-defined]
        formatter.write_usage(ctx.command_path, pieces, prefix=f"{tr('Usage:')} ")


class Command(_Worded, TyperCommand):
    """One command."""


class Group(_Worded, TyperGroup):
    """A group of commands."""


class App(typer.Typer):
    """A command line of such commands."""

    def command(self, name: str | None = None, **more: Any) -> Any:
        """Adds a command, as typer does."""
        return super().command(name, cls=Command, **more)


def in_words(error: TyperException) -> str:
    """The message for a wrong call."""
    option = getattr(error, "option_name", None)
    if type(error).__name__ == "NoSuchOption" and option:
        likely = ", ".join(sorted(getattr(error, "possibilities", None) or ()))
        if likely:
            return tr(
                "There is no option {option}. Similar: {likely}.", option=option, likely=likely
            )
        return tr("There is no option {option}.", option=option)
    missing = getattr(error, "param", None)
    if type(error).__name__ == "MissingParameter" and missing is not None:
        return tr("{argument} is missing.", argument=missing.name.upper())
    return tr("Invalid arguments: {message}", message=error.format_message())
