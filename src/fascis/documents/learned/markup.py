"""What a piece of markup says: its references and literal parts as the text that they stand for."""

from __future__ import annotations

import re

_LITERAL = re.compile(r"<!\[CDATA\[(.*?)\]\]>", re.DOTALL)
_REFERENCE = re.compile(r"&(?:#([0-9]+)|#x([0-9A-Fa-f]+)|(lt|gt|amp|quot|apos));")
_NAMED = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}
_ENDS = re.compile("\r\n?")
_BLANK = re.compile("[\t\n\r]")


def said_by(raw: str, quote: str = "") -> str | None:
    """What the value of an attribute, or the text of an element, says.

    Args:
        raw: as it is written, without the quotes.
        quote: around the value of an attribute; nothing for a text.

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
    # What stands between literal parts, and these, in turn.
    for n, piece in enumerate(_LITERAL.split(raw)):
        plain = piece if n % 2 else without_references(piece)
        if plain is None or (not n % 2 and "<" in piece):
            return None
        found.append(plain)
    return "".join(found)


def without_references(text: str) -> str | None:
    """A text without its references; None where one is of the document's own."""
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
