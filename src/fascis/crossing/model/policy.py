"""What is possible with a crossing now, what comes next, and why originals cannot be deleted yet.

Pure: window, command line and the crossing itself use the same functions, and show or do what they
return. A table in the tests holds all of them to it.
"""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import UNFINISHED, State
from fascis.files.codes import Code


class Act(StrEnum):
    """What can be done with a crossing that has arrived."""

    LOOK = "look"  # Open it at its new path.
    # Copy files that changed at the old place.
    BRING = "bring"
    LEAVE = "leave"  # Leave those files there.
    PROVE = "prove"  # Read the copy again.
    ACCEPT = "accept"  # A comparison is enough.
    SWITCH = "switch"
    SET_ASIDE = "set-aside"
    PUT_BACK = "put-back"
    RELEASE = "release"
    UNDO = "undo"


_ACTS: dict[State, frozenset[Act]] = {
    State.SETTLED: frozenset(
        (Act.LOOK, Act.BRING, Act.LEAVE, Act.PROVE, Act.ACCEPT, Act.SWITCH, Act.UNDO)
    ),
    State.SWITCHED: frozenset(
        (Act.LOOK, Act.PROVE, Act.ACCEPT, Act.SET_ASIDE, Act.RELEASE, Act.UNDO)
    ),
    State.PARKED: frozenset((Act.LOOK, Act.PROVE, Act.ACCEPT, Act.PUT_BACK, Act.RELEASE, Act.UNDO)),
}


def acts(state: State) -> frozenset[Act]:
    """What a state allows; any other act is refused because of the state."""
    return _ACTS.get(state, frozenset[Act]())


class Facts(Struct, frozen=True):
    """The facts that decide.

    Attributes:
        looked: a person has opened the library at its new path.
        must_look: nothing is deleted before that: documents are not understood, or a person can be
            asked, as in the window.
        even: the scales are in balance; None if not computed yet.
        busy: they could not be computed, because a drive was slow to answer.
        newer: files changed at the old place, and this is not decided yet.
        trouble: something is wrong with a copy or a drive.
        proven: all copies were read from the drives themselves, or a person accepted a comparison.
        needed: other libraries use originals, so these cannot be set aside.
    """

    state: State
    after: After = After.KEEP
    looked: bool = False
    must_look: bool = True
    even: bool | None = None
    busy: bool = False
    newer: bool = False
    trouble: bool = False
    proven: bool = True
    needed: bool = False


def why_not_release(facts: Facts) -> Code | None:
    """Why the originals cannot be deleted yet; None if they can.

    In this order: a state without a release, a drive that must answer first, the balance, the
    proof, a missing switch, a person's look.
    """
    if facts.state in UNFINISHED or facts.state in (State.REFUSED, State.UNDONE):
        return Code.WRONG_STATE
    if facts.busy:
        return Code.BUSY
    if not facts.even:
        return Code.OUT_OF_BALANCE
    if not facts.proven:
        return Code.NOT_PROVEN
    if Act.RELEASE not in acts(facts.state) and facts.state is not State.RELEASED:
        return Code.WRONG_STATE
    if facts.must_look and not facts.looked:
        return Code.NOT_LOOKED
    return None


def usual_after(lacks_used: bool) -> After:
    """What happens afterwards by default: home moves only if the copy has all that is used.

    Args:
        lacks_used: something is left out that documents use and that cannot be made again.
    """
    return After.COPY if lacks_used else After.KEEP


_REACHED = {State.SETTLED: 0, State.SWITCHED: 1, State.PARKED: 2, State.RELEASED: 3}
_WANTED = {After.COPY: 0, After.KEEP: 1, After.PARK: 2, After.RELEASE: 3}


def waits_for_person(state: State, after: After) -> bool:
    """True for a crossing that arrived and has steps of its plan left for a person.

    While it is running, it waits for a person only if it stopped; that is not known here.
    """
    return state in _REACHED and _REACHED[state] < _WANTED[after]


def would_delete(state: State, after: After) -> bool:
    """True if a release can follow, so that the files it would delete can be listed."""
    return not (after is After.COPY and state is State.SETTLED)


def brings_along(after: After, asked: bool) -> bool:
    """True if files that changed at the old place must be handled before anything else.

    Args:
        asked: the person requested it.
    """
    return asked or after is not After.COPY


class Step(StrEnum):
    """The one sensible next step."""

    WAIT = "wait"
    OPEN = "open"
    BRING = "bring"
    SWITCH = "switch"
    LEAD = "lead"  # Other libraries use the new place first.
    SET_ASIDE = "park"
    RECEIPT = "receipt"


def next_step(facts: Facts) -> Step:
    """The one sensible next step of a crossing that has arrived."""
    if facts.even is None:
        return Step.WAIT
    if facts.state is State.SETTLED:
        return _before_the_switch(facts)
    wants_more = facts.after in (After.PARK, After.RELEASE)
    if facts.state is State.SWITCHED and wants_more and facts.even:
        if not facts.looked:
            return Step.OPEN
        return Step.LEAD if facts.needed else Step.SET_ASIDE
    return Step.RECEIPT


def _before_the_switch(facts: Facts) -> Step:
    if facts.after is After.COPY:
        return Step.RECEIPT if facts.looked else Step.OPEN
    if facts.newer:
        return Step.BRING
    return Step.SWITCH if facts.looked and not facts.trouble else Step.OPEN
