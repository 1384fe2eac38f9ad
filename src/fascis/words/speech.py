"""Sentences in the person's language, by gettext.

Every sentence that a person may read is a message of its own: ``tr("{drive} is away.", drive=…)``.
What is put into it is a name, a figure, or a list that :mod:`fascis.words.figures` made, never half
a sentence. The language is the one of the environment (``LANGUAGE``, ``LC_ALL``, ``LC_MESSAGES``,
``LANG``) when the program starts; without a catalog for it, sentences stay as they are written.
"""

from __future__ import annotations

import gettext
from pathlib import Path

from fascis.words.figures import NBSP, number

DOMAIN = "fascis"
CATALOGS = Path(__file__).parent / "locale"

_catalog = gettext.translation(DOMAIN, CATALOGS, fallback=True)
# The command line's own library asks for its words there.
gettext.bindtextdomain(DOMAIN, CATALOGS)
gettext.textdomain(DOMAIN)


def language() -> str:
    """The language of the sentences: ``de``; ``en`` where there is no catalog."""
    return _catalog.info().get("language") or "en"


def tr(message: str, /, **parts: object) -> str:
    """A sentence, with what is named in braces put in.

    Raises:
        KeyError: something that it names was not given.
    """
    found = _catalog.gettext(message)
    return found.format_map(parts) if parts else found


def trn(one: str, many: str, count: int, /, **parts: object) -> str:
    """A sentence that speaks of a number of things; ``{n}`` is that number as people write it.

    It is never broken apart from the word that follows it.
    """
    found = _catalog.ngettext(one, many, count).replace("{n} ", f"{{n}}{NBSP}")
    return found.format_map({"n": number(count), **parts})
