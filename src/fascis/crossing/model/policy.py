"""What may be done with a crossing now, what comes next, and why originals may not go yet.

Pure: window, command line and the crossing itself ask the same functions, and show or do what they
say. A table in the tests holds all of them to it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import UNFINISHED, State
from fascis.files.codes import Code


class Act(StrEnum):
    """What can be done with a crossing that has arrived."""

    LOOK = "look"  # open it from its new place
    # Copy what is newer at the old place.
    BRING = "bring"
    LEAVE = "leave"  # let that stay there
    PROVE = "prove"  # read the copy again
    ACCEPT = "accept"  # a comparison is enough
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
    """What a state lets be done; an act that is not there is refused as of the wrong state."""
    return _ACTS.get(state, frozenset[Act]())


@dataclass(frozen=True, slots=True)
class Facts:
    """What decides.

    Attributes:
        looked: a person has opened the library at its new place.
        must_look: nothing is deleted before they have: documents are not understood, or a person is
            there to ask, as in the window.
        even: the scales are in balance; None while they were not weighed.
        busy: a drive was slow to answer, so that they could not be.
        newer: something at the old place is newer, and not decided yet.
        trouble: a copy, or a drive, is not as it should be.
        proven: all copies were read from the drives themselves, or a person accepted a comparison.
        needed: other libraries use originals, which can therefore not be set aside.
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
    """Why the originals may not be deleted yet; None when they may.

    In this order: a state that has no release, a drive that must be asked again, the balance, the
    proof, a switch that was not made, the look.
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
    """What comes after where nobody said: home stays where everything is that documents use.

    Args:
        lacks_used: something is left out that documents use and that cannot be made again.
    """
    return After.COPY if lacks_used else After.KEEP


_REACHED = {State.SETTLED: 0, State.SWITCHED: 1, State.PARKED: 2, State.RELEASED: 3}
_WANTED = {After.COPY: 0, After.KEEP: 1, After.PARK: 2, After.RELEASE: 3}


def waits_for_person(state: State, after: After) -> bool:
    """True for a crossing that arrived, and that a person has yet to take as far as it was planned.

    One that is on its way waits for a person only when it stopped: that is not known here.
    """
    return state in _REACHED and _REACHED[state] < _WANTED[after]


def would_delete(state: State, after: After) -> bool:
    """True when a release may follow, so that what it would delete can be listed."""
    return not (after is After.COPY and state is State.SETTLED)


def brings_along(after: After, asked: bool) -> bool:
    """True when what became newer at the old place is to be seen to before anything else.

    Args:
        asked: the person asked for it.
    """
    return asked or after is not After.COPY


class Step(StrEnum):
    """The one sensible next step."""

    WAIT = "wait"
    OPEN = "open"
    BRING = "bring"
    SWITCH = "switch"
    LEAD = "lead"  # other libraries use the new place first
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
