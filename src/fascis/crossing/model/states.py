"""The states of a crossing, and which can follow which; the states of copies and originals."""

from __future__ import annotations

from enum import IntEnum, StrEnum

from fascis.files.codes import Code
from fascis.files.errors import Refused
from fascis.words.speech import tr


class State(StrEnum):
    """The state of a crossing. The order is the order of the stations."""

    # A problem stops it; nothing was written.
    REFUSED = "refused"
    # In the journal; nothing copied.
    PLANNED = "planned"
    # Files are copied and read back.
    COPYING = "copying"
    # All is copied; the rest is read back.
    VERIFYING = "verifying"
    # Everything possible is verified; a file needs a decision.
    WAITING = "waiting"
    # The copy has its name and its identity.
    SETTLED = "settled"
    # The register has the new home.
    SWITCHED = "switched"
    PARKED = "parked"  # The originals are set aside.
    RELEASED = "released"  # The originals are deleted.
    # Given up, or home returned.
    UNDONE = "undone"
    # A copy was read back wrong three times.
    FAILED = "failed"

    @property
    def words(self) -> str:
        """For sentences: *this crossing is …*."""
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

# Copying: files that changed are copied too.
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
    """Checks every change of state.

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
    """The state of one copy."""

    COPIED = 1  # Written and flushed.
    VERIFIED = 2  # Read back and equal.
    # The source could not be read.
    UNREADABLE = 3
    CHANGING = 4  # The source kept changing.
    # The source is no longer there.
    VANISHED = 5
    MISMATCH = 6  # Read back wrong three times.
    # By the person's choice; its original is never deleted.
    SKIPPED = 7
    # The source has the recorded size and time but other content.
    DAMAGED = 8


HINDRANCES = (CopyState.UNREADABLE, CopyState.CHANGING, CopyState.VANISHED, CopyState.DAMAGED)


class Origin(IntEnum):
    """The state of one original."""

    THERE = 0
    # Will be deleted in the running batch.
    INTENDED = 1
    GONE = 2  # Deleted by this crossing.
    STAYS = 3  # Not deleted, see ``why``.
