"""Possible answers to a problem of a plan: continue with it, or change its cause."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct, field

from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.choices import Choices
from fascis.crossing.scope.selection import StrandKey
from fascis.files.codes import Code, Scope, Severity
from fascis.words.speech import tr


class Turn(StrEnum):
    """Where an answer leads."""

    # The person confirms it, and continues.
    ACCEPT = "accept"
    CHANGE = "change"  # The plan is made again with other choices.
    FIND = "find"  # To the missing files.
    # To a document that is not understood.
    READ = "read"
    WHERE = "where"  # To the choice of another destination.
    NAME = "name"
    ALONG = "along"  # To the choice of what is copied.
    AGAIN = "again"  # The library is surveyed again.


class Answer(Struct, frozen=True):
    """One answer; ``changes`` are the choices it changes."""

    words: str
    turn: Turn
    changes: Mapping[str, Any] = field(default_factory=dict)


_ANOTHER_PLACE = (
    Code.SAME_DISK,
    Code.ALSO_SAME_DISK,
    Code.SAME_LIBRARY_THERE,
    Code.BACKUP_DRIVE,
    Code.DRIVE_ERRORS,
    Code.LINKS_NOT_KEPT,
)


def answers(choices: Choices, problem: Problem) -> tuple[Answer, ...]:
    """A person's possible answers, the likeliest first; none for information only."""
    if problem.severity is Severity.NOTE:
        return ()
    if problem.severity is Severity.STOPS:
        return _ways_out(problem)
    return _decisions(choices, problem)


def _decisions(choices: Choices, problem: Problem) -> tuple[Answer, ...]:
    code = problem.code
    go_on = Answer(tr("Continue anyway"), Turn.ACCEPT)
    another = Answer(tr("Choose another place"), Turn.WHERE)
    again = Answer(tr("Look again"), Turn.AGAIN)
    if code is Code.REFERENCES_MISSING:
        return Answer(tr("Find them"), Turn.FIND), Answer(tr("Continue without them"), Turn.ACCEPT)
    if code is Code.REFERENCES_AWAY:
        return Answer(tr("Continue without them"), Turn.ACCEPT), again
    if code is Code.USED_LEFT_OUT:
        take = {
            "leave_out": frozenset(r for r in choices.leave_out if r.remakeable),
            "without": frozenset[StrandKey](),
            "leave_clashing": False,
        }
        return (
            Answer(tr("Take them along"), Turn.CHANGE, take),
            Answer(tr("Leave them there"), Turn.ACCEPT),
        )
    if code is Code.NOT_UNDERSTOOD:
        return (Answer(tr("Read it…"), Turn.READ), Answer(tr("Copy it as it is"), Turn.ACCEPT))
    if code is Code.NAME_TAKEN:
        return (
            Answer(tr("Give other names"), Turn.CHANGE, {"taken": Taken.RENAMED}),
            Answer(tr("Leave those here"), Turn.CHANGE, {"taken": Taken.LEFT_OUT}),
        )
    if code in (Code.NAME_NOT_POSSIBLE, Code.NAMES_BECOME_ONE):
        return (
            Answer(tr("Give other names"), Turn.ACCEPT),
            Answer(tr("Leave those here"), Turn.CHANGE, {"leave_clashing": True}),
        )
    if code in _ANOTHER_PLACE:
        return go_on, another
    return go_on, again


def _ways_out(problem: Problem) -> tuple[Answer, ...]:
    """Possible solutions if a plan cannot start."""
    code = problem.code
    another = Answer(tr("Choose another place"), Turn.WHERE)
    if code is Code.NOT_ENOUGH_ROOM:
        return another, Answer(tr("Take less"), Turn.ALONG)
    if code in (Code.DESTINATION_EXISTS, Code.NAME_NOT_USABLE):
        return Answer(tr("Choose another name"), Turn.NAME), another
    if code in (Code.FILE_TOO_LARGE, Code.NAME_NOT_POSSIBLE):
        leave = {"leave_clashing": True}
        return another, Answer(tr("Leave those here"), Turn.CHANGE, leave)
    if code is Code.WOULD_BREAK:
        keep = {"after": After.KEEP, "shared": Shared.STAYS}
        return Answer(tr("Keep the originals"), Turn.CHANGE, keep), another
    if code.scope is Scope.DESTINATION:
        return (another,)
    return (Answer(tr("Look again"), Turn.AGAIN),)
