"""The states of a crossing, and which may follow which; where each copy and each original is."""

from __future__ import annotations

from enum import IntEnum, StrEnum

from fascis.files.codes import Code
from fascis.files.errors import Refused
from fascis.words.speech import tr


class State(StrEnum):
    """Where a crossing is. The order is the order of the stations."""

    # A problem stops it; nothing was written.
    REFUSED = "refused"
    # In the journal, nothing copied.
    PLANNED = "planned"
    # Copies are made and read back.
    COPYING = "copying"
    # All is copied, the rest is read back.
    VERIFYING = "verifying"
    # All that could be is verified; a file needs a decision.
    WAITING = "waiting"
    # The copy stands under its name with its identity.
    SETTLED = "settled"
    # The register says: home is there.
    SWITCHED = "switched"
    PARKED = "parked"  # the originals are set aside
    RELEASED = "released"  # the originals are deleted
    # Given up, or home given back.
    UNDONE = "undone"
    # A copy read back wrong three times.
    FAILED = "failed"

    @property
    def words(self) -> str:
        """What a person reads of it: *this crossing is …*."""
        return _WORDS[self]


_WORDS = {
    State.REFUSED: tr("refused"),
    State.PLANNED: tr("planned"),
    State.COPYING: tr("copying"),
    State.VERIFYING: tr("verifying"),
    State.WAITING: tr("waiting for a decision"),
    State.SETTLED: tr("at the scales"),
    State.SWITCHED: tr("switched over"),
    State.PARKED: tr("originals set aside"),
    State.RELEASED: tr("originals deleted"),
    State.UNDONE: tr("given up"),
    State.FAILED: tr("stopped"),
}

# Copying: what became newer is brought along.
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
    State.SETTLED: frozenset({State.COPYING, State.SWITCHED, State.UNDONE}),
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
            tr(
                "State of the crossing: {state}. From there it cannot become: {next}. Nothing "
                "was changed.",
                state=now.words,
                next=new.words,
            ),
        )


class CopyState(IntEnum):
    """Where one copy is."""

    COPIED = 1  # written and flushed
    VERIFIED = 2  # read back and equal
    # The source could not be read.
    UNREADABLE = 3
    CHANGING = 4  # the source kept changing
    # The source is no longer there.
    VANISHED = 5
    MISMATCH = 6  # read back wrong three times
    # By the person's choice; its original is never released.
    SKIPPED = 7
    # The source has the size and time on record, and other content.
    DAMAGED = 8


HINDRANCES = (CopyState.UNREADABLE, CopyState.CHANGING, CopyState.VANISHED, CopyState.DAMAGED)


class Origin(IntEnum):
    """Where one original is."""

    THERE = 0
    # To be deleted in the running batch.
    INTENDED = 1
    GONE = 2  # deleted by this crossing
    STAYS = 3  # not deleted, see ``why``
