"""Problems of a plan: severity, what is wrong, which files, and what to do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from fascis.files.codes import Code, Severity, Stays
from fascis.words.speech import trn


class Problem(Struct, frozen=True):
    """One problem.

    Attributes:
        files: places, at most 1,000 of them.
        brief: the sentence in a few words, for small spaces.
        severity_here: its severity here, if it differs from that of its code.
    """

    code: Code
    sentence: str
    remedy: str = ""
    files: tuple[bytes, ...] = ()
    brief: str = ""
    severity_here: Severity | None = None

    @property
    def severity(self) -> Severity:
        """Its severity here."""
        return self.severity_here or self.code.severity


def stops(problems: Sequence[Problem]) -> bool:
    """True if any of them stops the crossing whatever is decided."""
    return any(p.severity is Severity.STOPS for p in problems)


def needs_decision(problems: Sequence[Problem]) -> bool:
    """True if any of them needs a decision."""
    return any(p.severity is Severity.DECISION for p in problems)


def stays_because(left: Mapping[str, Any]) -> str:
    """Why an original stays, as text, from its entry in ``left_behind``."""
    why, by = left["why"], left.get("by") or []
    words = Stays(why).words if why in set(Stays) else why
    if len(by) > 1:
        first, others = by[0], len(by) - 1
        user = trn("{first} and {n} other", "{first} and {n} others", others, first=first)
        return f"{words}: {user}"
    return f"{words}: {by[0]}" if by else words
