"""Markup as text: its references and literal parts replaced by what they mean."""

from __future__ import annotations

import re
from html import escape

_LITERAL = re.compile(r"<!\[CDATA\[(.*?)\]\]>", re.DOTALL)
_REFERENCE = re.compile(r"&(?:#([0-9]+)|#x([0-9A-Fa-f]+)|(lt|gt|amp|quot|apos));")
_NAMED = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}
_ENDS = re.compile("\r\n?")
_BLANK = re.compile("[\t\n\r]")


def said_by(raw: str, quote: str = "") -> str | None:
    """The meaning of an attribute's value, or of an element's text.

    Args:
        raw: as written, without the quotes.
        quote: the quote around an attribute's value; empty for a text.

    Returns:
        None for what cannot stand there.
    """
    if quote:
        if quote in raw or "<" in raw:
            return None
        return without_references(_BLANK.sub(" ", _ENDS.sub("\n", raw)))
    if "\r" in raw:
        raw = _ENDS.sub("\n", raw)
    if "<" not in raw:
        return None if "]]>" in raw else without_references(raw)
    found: list[str] = []
    # The text between literal parts, and these, alternating.
    for n, piece in enumerate(_LITERAL.split(raw)):
        plain = piece if n % 2 else without_references(piece)
        if plain is None or (not n % 2 and "<" in piece):
            return None
        found.append(plain)
    return "".join(found)


def without_references(text: str) -> str | None:
    """A text without its references; None if one is defined in the document itself."""
    if "&" not in text:
        return text
    if text.count("&") != len(_REFERENCE.findall(text)):
        return None
    try:
        return _REFERENCE.sub(_referred, text)
    except (ValueError, OverflowError):
        return None


def _referred(found: re.Match[str]) -> str:
    if found[3]:
        return _NAMED[found[3]]
    return chr(int(found[1]) if found[1] else int(found[2], 16))


def escaped(value: str, in_quotes: bool) -> str:
    """A value as written in XML: in an attribute, or between tags."""
    text = escape(value, quote=False)
    return text.replace('"', "&quot;").replace("'", "&apos;") if in_quotes else text
