"""Pure decisions of the window.

What is safe now, which step is next and why a button is not there yet.
"""

from __future__ import annotations

import time
from dataclasses import dataclass

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.policy import Facts, Step, next_step, why_not_release
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.status.scales import Balance
from fascis.files.codes import Code
from fascis.words.figures import counted, size


@dataclass(frozen=True, slots=True)
class Answer:
    """One row of "Is it safe to…"."""

    question: str
    why: str
    answer: str


@dataclass(frozen=True, slots=True)
class DriveNow:
    """How far one drive is: bytes and files not yet read back; times in seconds since 1970.

    ``whole_at`` is when all of it was verified and the library stood under its name there, or None.
    """

    label: str
    unverified: int = 0
    files_unverified: int = 0
    ready_at: float | None = None
    whole_at: float | None = None
    proven: bool = True
    number: int = 0


@dataclass(frozen=True, slots=True)
class Situation:
    """What the answers depend on.

    The first of the drives is to be home; ``awake`` says what is held off, see ``Awake``.

    ``busy``: a drive is slow to answer, and is asked again.
    """

    state: State
    running: bool
    drives: tuple[DriveNow, ...]
    looked: bool = False
    even: bool = False
    awake: str = ""
    busy: bool = False

    @property
    def drive(self) -> str:
        """The home's drive."""
        return self.drives[0].label

    @property
    def proven(self) -> bool:
        """True when all copies were read from the drives themselves."""
        return all(d.proven for d in self.drives)

    @property
    def whole(self) -> list[DriveNow]:
        """Drives that hold the whole library while others do not yet."""
        ready = [d for d in self.drives if d.whole_at]
        return ready if len(ready) < len(self.drives) else []


def clock(at: float | None) -> str:
    """``22:08``."""
    return time.strftime("%H:%M", time.localtime(at)) if at else ""


def safe_to(s: Situation) -> list[Answer]:
    """The answers, in the order of the panel."""
    if s.state is State.UNDONE:
        return [
            Answer("keep editing it?", "it is as it was", "Yes"),
            *(Answer(f"unplug {d.label}?", "nothing is being written", "Yes") for d in s.drives),
        ]
    on_way = s.state in UNFINISHED
    if on_way:
        editing = Answer(
            "keep editing it?", "what changes while it is copied is copied again", "Better not"
        )
    else:
        editing = Answer(
            "keep editing it?",
            f"from {s.drive}; what changes at the old place would stay there",
            "There",
        )
    unplug = [_unplug(s, d, on_way) for d in s.drives]
    return [editing, _power(s), *unplug, Answer("delete the originals?", *_deleting(s))]


def _power(s: Situation) -> Answer:
    question = "close the lid or lose power?"
    if not s.running:
        return Answer(question, "it goes on from here next time", "Yes")
    if "lid" in s.awake:
        return Answer(
            question,
            "the machine stays awake, its lid closed too; after a power cut it goes on from here",
            "Yes",
        )
    if s.awake:
        return Answer(
            question, "awake while the lid is open; closed, it goes on from here next time", "Yes"
        )
    return Answer(question, "the machine may go to sleep; it goes on from here next time", "Yes")


def _unplug(s: Situation, d: DriveNow, on_way: bool) -> Answer:
    question = f"unplug {d.label}?"
    if d.whole_at:
        return Answer(
            question, f"whole, verified {clock(d.whole_at)}; let the system remove it first", "Yes"
        )
    if s.running:
        if d.unverified:
            left = f"{size(d.unverified)} not read back yet"
        else:
            left = "all is written and read back"
        return Answer(question, left, f"At {clock(d.ready_at)}" if d.ready_at else "Not yet")
    if on_way:
        return Answer(
            question, "remove it safely first, on Shelves; it goes on when it is back", "Yes"
        )
    return Answer(question, "the copy is whole; let the system remove it first", "Yes")


def _deleting(s: Situation) -> tuple[str, str]:
    reason = why_not_delete(s)
    if s.state is State.RELEASED:
        return "they are deleted; the copy is home", "Done"
    return (reason or "every line agrees, and you have looked"), ("No" if reason else "Yes")


def why_not_delete(s: Situation) -> str:
    """Why the originals cannot be deleted yet, by the core's policy; empty when they can."""
    facts = Facts(s.state, looked=s.looked, even=s.even, busy=s.busy, proven=s.proven)
    code = why_not_release(facts)
    if code is Code.WRONG_STATE:
        return _not_in_this_state(s)
    if code is Code.NOT_PROVEN:
        label = next(d.label for d in s.drives if not d.proven)
        return (
            f"{label} was read back, perhaps from memory: remove it safely, connect it again, and "
            "read it again"
        )
    return _WHY_NOT[code] if code else ""


_WHY_NOT = {
    Code.BUSY: "a drive is busy; it is asked again",
    Code.OUT_OF_BALANCE: "the scales are not in balance",
    Code.NOT_LOOKED: "you have not looked at the copy yet",
}


def _not_in_this_state(s: Situation) -> str:
    if s.state in UNFINISHED:
        late = max(s.drives, key=lambda d: d.unverified)
        return (
            f"{size(late.unverified)} in {counted(late.files_unverified, 'file')} not verified on "
            f"{late.label}"
        )
    if s.state is State.SETTLED:
        return "home has not gone there yet"
    return "they are the library; home is the old place"


def step_after(
    state: State, after: After, looked: bool, balance: Balance | None, needed: bool = False
) -> Step:
    """The one sensible next step, by what the scales say."""
    return next_step(
        Facts(
            state,
            after,
            looked,
            even=balance.even if balance else None,
            newer=bool(balance and balance.newer),
            trouble=bool(balance and balance.trouble),
            needed=needed,
        )
    )
