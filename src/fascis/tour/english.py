"""The English text of a button, so that one tour works in every language of the window."""

from __future__ import annotations

import re
from functools import cache
from string import Formatter

from babel.messages.pofile import read_po

from fascis.words.speech import CATALOGS, DOMAIN, language


@cache
def in_english(text: str) -> tuple[str, ...]:
    """The possible English texts of a sentence, with the same names and figures."""
    found = []
    for pattern, english in _sentences():
        if match := pattern.fullmatch(text):
            parts = {name: in_english(part)[0] for name, part in match.groupdict().items()}
            found.append(english.format(**parts))
    return tuple(found) or (text,)


@cache
def _sentences() -> list[tuple[re.Pattern[str], str]]:
    """The pattern of each translated sentence, and its English text."""
    path = CATALOGS / language() / "LC_MESSAGES" / f"{DOMAIN}.po"
    if not path.exists():
        return []
    with path.open("rb") as text:
        catalog = read_po(text)
    found = []
    for message in catalog:
        said, english = message.string, message.id
        if isinstance(said, tuple) and isinstance(english, tuple):
            found += [(_pattern(s), e) for s, e in zip(said, english, strict=True)]
        elif english:
            found.append((_pattern(str(said)), str(english)))
    return found


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
