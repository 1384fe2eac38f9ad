"""Sentences in the person's language, by gettext.

Every sentence for people is one message: ``tr("{drive} is away.", drive=…)``. The values are names,
figures, or lists from :mod:`fascis.words.figures`, never half a sentence. The environment
(``LANGUAGE``, ``LC_ALL``, ``LC_MESSAGES``, ``LANG``) sets the language when the program starts;
without a catalog for it, sentences stay English.
"""

from __future__ import annotations

import gettext
from pathlib import Path

from fascis.words.figures import NBSP, number

DOMAIN = "fascis"
CATALOGS = Path(__file__).parent / "locale"

_catalog = gettext.translation(DOMAIN, CATALOGS, fallback=True)
# The command-line library asks for its texts there.
gettext.bindtextdomain(DOMAIN, CATALOGS)
gettext.textdomain(DOMAIN)


def language() -> str:
    """The language of the sentences: ``de``; ``en`` if there is no catalog."""
    return _catalog.info().get("language") or "en"


def tr(message: str, /, **parts: object) -> str:
    """A sentence with values for the names in braces.

    Raises:
        KeyError: something that it names was not given.
    """
    found = _catalog.gettext(message)
    return found.format_map(parts) if parts else found


def trn(one: str, many: str, count: int, /, **parts: object) -> str:
    """A sentence with a number; ``{n}`` is that number in the locale's form.

    It stays on one line with the next word.
    """
    found = _catalog.ngettext(one, many, count).replace("{n} ", f"{{n}}{NBSP}")
    return found.format_map({"n": number(count), **parts})
