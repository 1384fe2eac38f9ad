"""Which file system would suit a library.

What each would refuse, by the same rules that a plan uses. Pure.
"""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from fascis.crossing.fit.limits import Columns, clashes, holding_problems, name_problems
from fascis.crossing.fit.names import keep_apart
from fascis.crossing.model.fates import Fates
from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.scope.surveyed import Surveyed
from fascis.drives.care.preparing import CHOICES, Choice
from fascis.drives.model import Drive
from fascis.drives.rules import rules_of
from fascis.files.codes import Code, Severity
from fascis.words.speech import tr

_ONLY_OF_A_DRIVE = (Code.RULES_ASSUMED, Code.TIMES_COARSER)


class Suits(Struct, frozen=True):
    """A file system, and its consequences for one library.

    How many files clash, and every problem.
    """

    choice: Choice
    clashing: int
    problems: tuple[Problem, ...]

    @property
    def verdict(self) -> str:
        """The verdict in a few words."""
        if any(p.severity is Severity.STOPS for p in self.problems):
            return tr("cannot hold it whole")
        if any(p.severity is Severity.DECISION for p in self.problems):
            return tr("holds it, with decisions")
        return tr("holds it as it is")

    @property
    def losses(self) -> tuple[int, int, int]:
        """How many problems stop it, need a decision, or are only informative."""
        found = [p.severity for p in self.problems]
        stops, asks = found.count(Severity.STOPS), found.count(Severity.DECISION)
        return stops, asks, found.count(Severity.NOTE)


def recommended(found: list[Suits]) -> Suits:
    """The one that loses least of a library; of several, the first in the order of the choices."""
    return min(found, key=lambda s: s.losses)


def suits(surveyed: Surveyed) -> list[Suits]:
    """Every file system that a drive could have, and its consequences for this library.

    In the order of the choices.
    """
    return [_suits(surveyed, choice) for choice in CHOICES]


def _suits(surveyed: Surveyed, choice: Choice) -> Suits:
    rules, nothing = rules_of(choice.filesystem), Gathering()
    drive = Drive(
        "",
        choice.name,
        choice.filesystem,
        rules,
        Path("/nowhere"),
        0,
        0,
        4096,
        "",
        False,
        False,
        True,
        True,
    )
    fates = Fates(links=rules.links).of(surveyed.survey)
    apart = keep_apart(surveyed.survey, surveyed.uses, fates, nothing, [rules], surveyed.before)
    columns = Columns(surveyed.survey, fates)
    problems = [
        *name_problems([drive], apart),
        *holding_problems(drive, surveyed.name, columns, nothing, surveyed.attributed),
    ]
    clashing = len(clashes([drive], columns, nothing, apart))
    return Suits(choice, clashing, tuple(p for p in problems if p.code not in _ONLY_OF_A_DRIVE))
