"""Pure decisions of the window: what is safe now, which step is next and why a button is not there yet."""

from __future__ import annotations

import time
from dataclasses import dataclass

from fascis.crossing.balance import Balance
from fascis.crossing.plan import After
from fascis.crossing.states import UNFINISHED, State
from fascis.files.sizes import counted, size


@dataclass(frozen=True, slots=True)
class Answer:
    """One row of "Is it safe to…"."""

    question: str
    why: str
    answer: str


@dataclass(frozen=True, slots=True)
class Situation:
    """What the answers depend on. Bytes not yet read back; ``ready_at`` in seconds since 1970."""

    state: State
    running: bool
    drive: str
    unverified: int
    files_unverified: int
    ready_at: float | None
    proven: bool = True
    looked: bool = False
    even: bool = False


def clock(at: float | None) -> str:
    """``22:08``."""
    return time.strftime("%H:%M", time.localtime(at)) if at else ""


def safe_to(s: Situation) -> list[Answer]:
    """The answers, in the order of the panel."""
    if s.state is State.UNDONE:
        return [
            Answer("keep editing it?", "it is as it was", "Yes"),
            Answer(f"unplug {s.drive}?", "nothing is being written", "Yes"),
        ]
    on_way = s.state in UNFINISHED
    editing = (
        Answer("keep editing it?", "what changes while it is copied is copied again", "Better not")
        if on_way
        else (Answer("keep editing it?", f"from {s.drive}; what changes at the old place would stay there", "There"))
    )
    power = Answer("close the lid or lose power?", "it goes on from here next time", "Yes")
    left = f"{size(s.unverified)} not read back yet" if s.unverified else "all is written and read back"
    if s.running:
        unplug = Answer(f"unplug {s.drive}?", left, f"At {clock(s.ready_at)}" if s.ready_at else "Not yet")
    elif on_way:
        unplug = Answer(f"unplug {s.drive}?", "use Remove in your file manager; it goes on when it is back", "Yes")
    else:
        unplug = Answer(f"unplug {s.drive}?", "the copy is whole; let the system remove it first", "Yes")
    return [editing, power, unplug, Answer("delete the originals?", *_deleting(s))]


def _deleting(s: Situation) -> tuple[str, str]:
    reason = why_not_delete(s)
    if s.state is State.RELEASED:
        return "they are deleted; the copy is home", "Done"
    return (reason or "every line agrees, and you have looked"), ("No" if reason else "Yes")


def why_not_delete(s: Situation) -> str:
    """Why the originals cannot be deleted yet; empty when they can."""
    if s.state in UNFINISHED:
        return f"{size(s.unverified)} in {counted(s.files_unverified, 'file')} not verified on {s.drive}"
    if s.state in (State.REFUSED, State.UNDONE):
        return "they are the library; home is the old place"
    if not s.even:
        return "the scales are not in balance"
    if not s.proven:
        return f"{s.drive} was read back, perhaps from memory: remove it safely, connect it again, and read it again"
    if s.state is State.SETTLED:
        return "home has not gone there yet"
    return "" if s.looked else "you have not looked at the copy yet"


def next_step(state: State, after: After, looked: bool, balance: Balance | None) -> str:
    """The one sensible next step: ``bring``, ``open``, ``switch``, ``park``, ``receipt`` or ``wait``."""
    if balance is None:
        return "wait"
    if state is State.SETTLED:
        if after is After.COPY:
            return "open" if not looked else "receipt"
        if balance.newer:
            return "bring"
        return "switch" if looked and not balance.trouble else "open"
    if state is State.SWITCHED and after in (After.PARK, After.RELEASE) and balance.even:
        return "park" if looked else "open"
    return "receipt"
