"""The states of a crossing, and which may follow which; where each copy and each original is."""

from __future__ import annotations

from enum import IntEnum, StrEnum

from fascis.files.codes import Code
from fascis.files.errors import Refused


class State(StrEnum):
    """Where a crossing is. The order is the order of the stations."""

    REFUSED = "refused"  # a problem stops it; nothing was written
    PLANNED = "planned"  # in the journal, nothing copied
    COPYING = "copying"  # copies are made and read back
    VERIFYING = "verifying"  # all is copied, the rest is read back
    WAITING = "waiting"  # all that could be is verified; a file needs a decision
    SETTLED = "settled"  # the copy stands under its name with its identity
    SWITCHED = "switched"  # the register says: home is there
    PARKED = "parked"  # the originals are set aside
    RELEASED = "released"  # the originals are deleted
    UNDONE = "undone"  # given up, or home given back
    FAILED = "failed"  # a copy read back wrong three times


TRANSITIONS: dict[State, frozenset[State]] = {
    State.REFUSED: frozenset(),
    State.PLANNED: frozenset({State.COPYING, State.UNDONE}),
    State.COPYING: frozenset({State.VERIFYING, State.WAITING, State.FAILED, State.UNDONE}),
    State.VERIFYING: frozenset(
        {State.COPYING, State.WAITING, State.SETTLED, State.FAILED, State.UNDONE}
    ),
    State.WAITING: frozenset(
        {State.COPYING, State.VERIFYING, State.SETTLED, State.FAILED, State.UNDONE}
    ),
    State.SETTLED: frozenset(
        {State.COPYING, State.SWITCHED, State.UNDONE}
    ),  # copying: what became newer is brought along
    State.SWITCHED: frozenset({State.PARKED, State.RELEASED, State.UNDONE}),
    State.PARKED: frozenset({State.SWITCHED, State.RELEASED, State.UNDONE}),
    State.RELEASED: frozenset(),
    State.UNDONE: frozenset(),
    State.FAILED: frozenset({State.COPYING, State.UNDONE}),
}
UNFINISHED = frozenset({State.PLANNED, State.COPYING, State.VERIFYING, State.WAITING, State.FAILED})
ARRIVED = frozenset({State.SETTLED, State.SWITCHED, State.PARKED, State.RELEASED})


def check_transition(now: State, new: State) -> None:
    """Guards every change of state.

    Raises:
        Refused: ``new`` may not follow ``now``.
    """
    if new not in TRANSITIONS[now]:
        raise Refused(
            Code.WRONG_STATE,
            f"The crossing is {now.value}; it cannot become {new.value} from there. Nothing was "
            "changed.",
        )


class CopyState(IntEnum):
    """Where one copy is."""

    COPIED = 1  # written and flushed
    VERIFIED = 2  # read back and equal
    UNREADABLE = 3  # the source could not be read
    CHANGING = 4  # the source kept changing
    VANISHED = 5  # the source is no longer there
    MISMATCH = 6  # read back wrong three times
    SKIPPED = 7  # by the person's choice; its original is never released
    DAMAGED = 8  # the source has the size and time on record, and other content


HINDRANCES = (CopyState.UNREADABLE, CopyState.CHANGING, CopyState.VANISHED, CopyState.DAMAGED)


class Origin(IntEnum):
    """Where one original is."""

    THERE = 0
    INTENDED = 1  # to be deleted in the running batch
    GONE = 2  # deleted by this crossing
    STAYS = 3  # not deleted, see ``why``
