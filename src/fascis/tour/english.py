"""What a button says, in English: whatever language the window speaks, the same hands press it."""

from __future__ import annotations

import re
from functools import cache
from string import Formatter

from babel.messages.pofile import read_po

from fascis.words.speech import CATALOGS, DOMAIN, language


@cache
def in_english(text: str) -> tuple[str, ...]:
    """What a sentence may be in English, with the same names and figures put in."""
    found = []
    for pattern, english in _sentences():
        if match := pattern.fullmatch(text):
            parts = {name: in_english(part)[0] for name, part in match.groupdict().items()}
            found.append(english.format(**parts))
    return tuple(found) or (text,)


@cache
def _sentences() -> list[tuple[re.Pattern[str], str]]:
    """What each translated sentence looks like, and its English."""
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
    """A sentence with anything where names and figures are put in.

    Its first letter may be large, as at the beginning of a button.
    """
    pieces, seen = [], set[str]()
    for literal, field, _form, _conversion in Formatter().parse(said):
        pieces.append(re.escape(literal).replace("\\ ", "\\s"))
        if field is not None:
            pieces.append(f"(?P={field})" if field in seen else f"(?P<{field}>.+?)")
            seen.add(field)
    return re.compile("".join(pieces), re.DOTALL | re.IGNORECASE)
