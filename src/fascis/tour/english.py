"""The English text of a button, so that one tour works in every language of the window."""

from __future__ import annotations

import re
from functools import cache
from string import Formatter

from babel.messages.pofile import read_po

from fascis.words.speech import CATALOGS, DOMAIN, language

_SPACE = re.compile(r"\s")


@cache
def in_english(text: str) -> tuple[str, ...]:
    """The possible English texts of a sentence, with the same names and figures."""
    found, plain = [], _plain(text)
    for said, english in _sentences():
        # Most begin otherwise: their patterns need not be made.
        if plain.startswith(_beginning(said)) and (match := _pattern(said).fullmatch(text)):
            parts = {name: in_english(part)[0] for name, part in match.groupdict().items()}
            found.append(english.format(**parts))
    return tuple(found) or (text,)


@cache
def _sentences() -> list[tuple[str, str]]:
    """Each translated sentence, and its English text."""
    path = CATALOGS / language() / "LC_MESSAGES" / f"{DOMAIN}.po"
    if not path.exists():
        return []
    with path.open("rb") as text:
        catalog = read_po(text)
    found: list[tuple[str, str]] = []
    for message in catalog:
        said, english = message.string, message.id
        if isinstance(said, tuple) and isinstance(english, tuple):
            found += zip(said, english, strict=True)
        elif english:
            found.append((str(said), str(english)))
    return found


def _plain(text: str) -> str:
    return _SPACE.sub(" ", text).casefold()


@cache
def _beginning(said: str) -> str:
    """What stands before the first name or figure in a sentence."""
    return _plain(next(iter(Formatter().parse(said)), ("",))[0])


@cache
def _pattern(said: str) -> re.Pattern[str]:
    """A sentence with any text for names and figures.

    Its first letter can be a capital, as on a button.
    """
    pieces, seen = [], set[str]()
    for literal, field, _form, _conversion in Formatter().parse(said):
        pieces.append(re.escape(literal).replace("\\ ", "\\s"))
        if field is not None:
            pieces.append(f"(?P={field})" if field in seen else f"(?P<{field}>.+?)")
            seen.add(field)
    return re.compile("".join(pieces), re.DOTALL | re.IGNORECASE)
