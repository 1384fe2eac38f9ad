"""Pure decisions of the window.

What is safe now, which step is next, and why a button is not available yet.
"""

from __future__ import annotations

from msgspec import Struct

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.policy import Facts, Step, next_step, why_not_release
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.status.scales import Balance
from fascis.files.codes import Code
from fascis.words import figures
from fascis.words.figures import size
from fascis.words.speech import tr, trn


class Answer(Struct, frozen=True):
    """One row of "Is it safe to…"."""

    question: str
    why: str
    answer: str


class DriveNow(Struct, frozen=True):
    """The progress on one drive: bytes and files not yet read back; times in seconds since 1970.

    ``whole_at`` is when everything was verified and the library had its name there, or None.
    """

    label: str
    unverified: int = 0
    files_unverified: int = 0
    ready_at: float | None = None
    whole_at: float | None = None
    proven: bool = True
    number: int = 0


class Situation(Struct, frozen=True):
    """The facts that decide the answers.

    The first of the drives becomes home; ``awake`` is what is prevented, see ``Awake``. ``busy``: a
    drive is slow to answer, and is checked again.
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
        """True if all copies were read from the drives themselves."""
        return all(d.proven for d in self.drives)

    @property
    def whole(self) -> list[DriveNow]:
        """Drives that have the whole library while others do not yet."""
        ready = [d for d in self.drives if d.whole_at]
        return ready if len(ready) < len(self.drives) else []


def clock(at: float | None) -> str:
    """``22:08``."""
    return figures.clock(at) if at else ""


def safe_to(s: Situation) -> list[Answer]:
    """The answers, in the order of the panel."""
    if s.state is State.UNDONE:
        return [
            Answer(tr("keep editing it?"), tr("it is as it was"), tr("Yes")),
            *(
                Answer(
                    tr("unplug {label}?", label=d.label), tr("nothing is being written"), tr("Yes")
                )
                for d in s.drives
            ),
        ]
    on_way = s.state in UNFINISHED
    if on_way:
        editing = Answer(
            tr("keep editing it?"),
            tr("what changes while it is copied is copied again"),
            tr("Better not"),
        )
    else:
        editing = Answer(
            tr("keep editing it?"),
            tr("from {drive}; what changes at the old place would stay there", drive=s.drive),
            tr("There"),
        )
    unplug = [_unplug(s, d, on_way) for d in s.drives]
    return [editing, _power(s), *unplug, Answer(tr("delete the originals?"), *_deleting(s))]


def _power(s: Situation) -> Answer:
    question = tr("close the lid or lose power?")
    if not s.running:
        return Answer(question, tr("it continues from here next time"), tr("Yes"))
    if "lid" in s.awake:
        return Answer(
            question,
            tr(
                "the machine stays awake, its lid closed too; after a power cut it continues "
                "from here"
            ),
            tr("Yes"),
        )
    if s.awake:
        return Answer(
            question,
            tr("awake while the lid is open; closed, it continues from here next time"),
            tr("Yes"),
        )
    return Answer(
        question, tr("the machine may go to sleep; it continues from here next time"), tr("Yes")
    )


def _unplug(s: Situation, d: DriveNow, on_way: bool) -> Answer:
    question = tr("unplug {label}?", label=d.label)
    if d.whole_at:
        return Answer(
            question,
            tr("complete, verified {time}; let the system remove it first", time=clock(d.whole_at)),
            tr("Yes"),
        )
    if s.running:
        if d.unverified:
            left = tr("{size} not read back yet", size=size(d.unverified))
        else:
            left = tr("all is written and read back")
        return Answer(
            question, left, tr("At {time}", time=clock(d.ready_at)) if d.ready_at else tr("Not yet")
        )
    if on_way:
        return Answer(
            question,
            tr("remove it safely first, on Shelves; it continues when the drive is back"),
            tr("Yes"),
        )
    return Answer(question, tr("the copy is complete; let the system remove it first"), tr("Yes"))


def _deleting(s: Situation) -> tuple[str, str]:
    reason = why_not_delete(s)
    if s.state is State.RELEASED:
        return tr("they are deleted; the copy is home"), tr("Done")
    return (reason or tr("every line agrees, and you have looked")), (
        tr("No") if reason else tr("Yes")
    )


def why_not_delete(s: Situation) -> str:
    """Why the originals cannot be deleted yet, by the core's policy; empty if they can."""
    facts = Facts(s.state, looked=s.looked, even=s.even, busy=s.busy, proven=s.proven)
    code = why_not_release(facts)
    if code is Code.WRONG_STATE:
        return _not_in_this_state(s)
    if code is Code.NOT_PROVEN:
        label = next(d.label for d in s.drives if not d.proven)
        return tr(
            "{label} was read back, perhaps from memory: remove it safely, connect "
            "it again, and read it again",
            label=label,
        )
    return _WHY_NOT[code] if code else ""


_WHY_NOT = {
    Code.BUSY: tr("a drive is busy; it will be tried again"),
    Code.OUT_OF_BALANCE: tr("the scales are not in balance"),
    Code.NOT_LOOKED: tr("you have not looked at the copy yet"),
}


def _not_in_this_state(s: Situation) -> str:
    if s.state in UNFINISHED:
        late = max(s.drives, key=lambda d: d.unverified)
        return trn(
            "{size} in {n} file not verified on {label}",
            "{size} in {n} files not verified on {label}",
            late.files_unverified,
            size=size(late.unverified),
            label=late.label,
        )
    if s.state is State.SETTLED:
        return tr("home has not gone there yet")
    return tr("they are the library; home is the old place")


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
