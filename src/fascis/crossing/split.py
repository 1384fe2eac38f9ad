"""A library split into several: one crossing for each part, and one release at the end.

The parts are copied one after another. Media that several use is copied into each of them. The
parts are also released one after another; an original that documents of a later part need stays
until that part is released, so it is deleted when every part that uses it has a copy.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.header import SplitFacts
from fascis.crossing.journal.which import Which
from fascis.crossing.model.afterwards import After, Shared
from fascis.crossing.model.events import Report, silent
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.problems import Problem, needs_decision, stops
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.plan import Plan
from fascis.crossing.release.course import lost_there
from fascis.crossing.scope.surveyed import Surveyed
from fascis.files.codes import Code, Stays
from fascis.files.control import Control
from fascis.files.errors import Refused
from fascis.files.names import fsname, name_key, place_text, shown
from fascis.library.references.projects import project_of, project_place
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

# The progress of a split is that of its slowest part.
_ORDER = (
    State.PLANNED,
    State.COPYING,
    State.VERIFYING,
    State.SETTLED,
    State.SWITCHED,
    State.PARKED,
    State.RELEASED,
)


class NewLibrary(Struct, frozen=True):
    """One new library of a split: its name and its projects.

    ``rest``: everything that no other part has.
    """

    name: str
    projects: tuple[str, ...]
    rest: bool = False


class SplitPlan(Struct):
    """What a split would do.

    Attributes:
        plans: one for each new library.
        before_bytes, parts_bytes: the length of the library, and of all parts together.
        stays_files, stays_bytes: files in no part.
        problems: of all plans, each once, and of the split itself.
    """

    plans: list[Plan]
    after: After
    before_bytes: int = 0
    parts_bytes: int = 0
    stays_files: int = 0
    stays_bytes: int = 0
    problems: list[Problem] = field(default_factory=list)

    @property
    def stopped(self) -> bool:
        """True if a problem stops it."""
        return stops(self.problems)

    @property
    def asks(self) -> bool:
        """True if a problem needs a decision."""
        return needs_decision(self.problems)


def one_for_each(surveyed: Surveyed) -> list[NewLibrary]:
    """A library for each project, with its name; several with one name are numbered."""
    named: dict[bytes, str] = {}
    for document in surveyed.uses.documents:
        if document.place and document.kind.works and not document.kind.journals:
            named.setdefault(project_place(document), project_of(document))
    found: list[NewLibrary] = []
    taken: set[str] = set()
    for place, name in sorted(named.items(), key=lambda item: (item[1], item[0])):
        called, number = name, 1
        while name_key(fsname(called)) in taken:
            number += 1
            called = f"{name} ({number})"
        taken.add(name_key(fsname(called)))
        found.append(NewLibrary(called, (place.decode("utf-8", "surrogateescape"),)))
    return found


def plan_split(
    workspace: Workspace,
    surveyed: Surveyed,
    destination: Path,
    libraries: Sequence[NewLibrary],
    after: After,
    ask: bool = False,
) -> SplitPlan:
    """Plans a split into the folder ``destination``. Writes nothing.

    Args:
        after: what happens when all parts are verified.
        ask: whether the destination is tested, see
            :func:`~fascis.crossing.plan.making.make_plan`.
    """
    # Each is released, or set aside, with the others.
    each = After.COPY if after is After.COPY else After.KEEP
    plans = []
    for library in libraries:
        choices = Choices(
            library.name,
            after=each,
            only=frozenset(library.projects),
            shared=Shared.STAYS,
            rest=library.rest,
        )
        plans.append(make_plan(workspace, surveyed, destination, choices, ask=ask))
    split = SplitPlan(plans, after)
    _add_figures(split, surveyed)
    split.problems = list(_problems(split, libraries))
    id = secrets.token_hex(8)
    for number, plan in enumerate(plans):
        plan.split = SplitFacts(
            id=id,
            number=number,
            of=len(plans),
            after=after,
            before_bytes=split.before_bytes,
            parts_bytes=split.parts_bytes,
            stays_files=split.stays_files,
            stays_bytes=split.stays_bytes,
        )
    return split


def _add_figures(split: SplitPlan, surveyed: Surveyed) -> None:
    survey = surveyed.survey
    for row, _ in survey.files():
        split.before_bytes += survey.size[row]
        if all(plan.fates[row] != Fate.COPY for plan in split.plans):
            split.stays_files += 1
            split.stays_bytes += survey.size[row]
    split.parts_bytes = sum(plan.totals.bytes for plan in split.plans)


def _problems(split: SplitPlan, libraries: Sequence[NewLibrary]) -> Iterator[Problem]:
    """The problems of all plans, each once; and whether there is room for all of them together."""
    told = set()
    for plan in split.plans:
        for problem in plan.problems:
            if problem.code is Code.USED_ELSEWHERE:
                # Files that only another part uses are deleted with that part.
                continue
            if (key := (problem.code, problem.sentence)) not in told:
                told.add(key)
                yield problem
    yield from _still_needed(split)
    names = [name_key(fsname(library.name)) for library in libraries]
    if len(set(names)) < len(names):
        yield Problem(
            Code.NAME_NOT_USABLE,
            tr("Two of the new libraries would have one name."),
            tr("Give them different names (--part NAME=PROJECT)."),
        )
    if not split.plans:
        yield Problem(Code.PART_NOT_THERE, tr("There is no project here to make a library of."))
        return
    drive = split.plans[0].destination_drive
    needed = sum(plan.goals[0].room for plan in split.plans)
    if drive and drive.connected and needed > drive.free:
        yield Problem(
            Code.NOT_ENOUGH_ROOM,
            tr(
                "{label} has {size} free; all parts together need {size_2}.",
                label=shown(drive.label),
                size=size(drive.free),
                size_2=size(needed),
            ),
            tr("Choose a drive with more room."),
        )


def _still_needed(split: SplitPlan) -> Iterator[Problem]:
    """Originals that documents outside all parts need."""
    going = set()
    for plan in split.plans:
        places = plan.survey.rows() if plan.part else ()
        going |= {shown(place) for row, _, place in places if plan.fates[row] == Fate.COPY}
    needed: dict[bytes, list[str]] = {}
    for plan in split.plans:
        for path, who in plan.shared.items():
            if others := [w for w in who if w not in going]:
                needed[path] = others
    if needed:
        first = min(needed)
        below = split.plans[0].below
        yield Problem(
            Code.USED_ELSEWHERE,
            trn(
                "{n} file is still needed by documents that stay: {needed} uses {removeprefix}. "
                "These originals are kept.",
                "{n} files are still needed by documents that stay: {needed} uses "
                "{removeprefix}. These originals are kept.",
                len(needed),
                needed=shown(needed[first][0]),
                removeprefix=shown(first.removeprefix(below)),
            ),
            "",
            tuple(p.removeprefix(below) for p in sorted(needed)[:1000]),
        )


class Split:
    """A split that is running or finished: its crossings, in order."""

    def __init__(self, crossings: Sequence[Crossing]) -> None:
        assert crossings
        self.parts = sorted(crossings, key=lambda c: _facts(c).number)
        self.facts = _facts(self.parts[0])

    @classmethod
    def start(cls, workspace: Workspace, plan: SplitPlan, consent: bool) -> Split:
        """Starts the crossings of a split without open decisions; none of them copies yet.

        Raises:
            Refused: a problem stops it; nothing was copied.
        """
        begun: list[Crossing] = []
        try:
            for part in plan.plans:
                begun.append(Crossing.start(workspace, part, decided=True, consent=consent))
        except BaseException:
            for crossing in begun:
                crossing.undo()
                crossing.close()
            raise
        return cls(begun)

    def close(self) -> None:
        """Closes their journals."""
        for part in self.parts:
            part.close()

    @property
    def id(self) -> str:
        """The split's id."""
        return self.facts.id

    @property
    def complete(self) -> bool:
        """True if all of its parts were planned; otherwise it was interrupted before that."""
        return len(self.parts) == self.facts.of

    @property
    def state(self) -> State:
        """Its state: waiting if a part needs a person, otherwise that of the slowest part."""
        states = {part.state for part in self.parts}
        for state in (State.FAILED, State.WAITING):
            if state in states:
                return state
        if states == {State.UNDONE}:
            return State.UNDONE
        left = states - {State.UNDONE}
        return min(left, key=_ORDER.index)

    # -- going on ----------------------------------------------------------------------------------

    def run(
        self, each: Callable[[Crossing], State], report: Callable[[Crossing], object] = lambda _: 0
    ) -> State:
        """Runs the crossings of all parts one after another; if one waits, the next still runs.

        Args:
            each: runs one crossing, and returns the state reached.
            report: called before each one starts.

        Raises:
            Refused: it was cut off before all parts were planned.
            EnvironmentTrouble: a drive failed; called again, it goes on.
        """
        self._check_complete()
        for part in self.parts:
            if part.state in UNFINISHED:
                report(part)
                each(part)
        return self.state

    def advance(self, consent: bool, control: Control, report: Report = silent) -> State:
        """Continues from settled as far as the split says; a release only with consent."""
        self._check_complete()
        goes_on = self.state in (State.SETTLED, State.SWITCHED)
        if self.facts.after is After.COPY or not goes_on:
            return self.state
        for part in self.parts:
            part.advance(False, control, report)
        if self.facts.after is After.PARK and self.state is State.SWITCHED:
            self.park()
        if self.facts.after is After.RELEASE and consent:
            self.release(control, report)
        return self.state

    def park(self) -> None:
        """Sets the originals of all parts aside.

        Raises:
            Refused: one of them has not arrived, or cannot be set aside.
        """
        self._check_arrived()
        for part in self.parts:
            if part.state is State.SETTLED:
                part.switch()
            part.park()

    def release(self, control: Control, report: Report = silent, compared: bool = False) -> None:
        """Deletes the originals of all parts; an original stays if one part has no copy of it.

        Can be called again after any interruption.

        Raises:
            Refused: one part has not arrived, or may not be released; nothing was deleted.
            EnvironmentTrouble: a drive failed; called again, it goes on.
        """
        self._check_arrived()
        for part in self.parts:
            if part.state is State.SETTLED:
                part.switch(control)
        stays = self.not_held(control)
        for part in self.parts:
            if part.state is State.PARKED:
                part.put_back()
        for part in self.parts:
            if part.state is not State.RELEASED:
                part.release(control, report, compared, also_stays=stays)
        self._forget_what_went_after_all()

    def _forget_what_went_after_all(self) -> None:
        """Originals that stayed for a later part are deleted by now: they are not left behind."""
        gone = {i.place for part in self.parts for i in part.copies.items(Which.DELETED)}
        told = {place_text(place) for place in gone}
        for part in self.parts:
            record = part.journal.value("release")
            left = [one for one in record["left_behind"] if one["path"] not in told]
            if len(left) < len(record["left_behind"]):
                part.journal.put("release", {**record, "left_behind": left})
                part.rewrite_receipt()

    def not_held(self, control: Control) -> dict[bytes, Stays]:
        """Originals whose copy in some part is not as verified, and the reason."""
        lost: dict[bytes, Stays] = {}
        for part in self.parts:
            for one in lost_there(part.demanded, control, Which.GOING_VERIFIED):
                lost |= one
        return lost

    def undo(self) -> list[str]:
        """Gives up all parts, or returns home; returns the report of each.

        Raises:
            Refused: one cannot be taken back; those after it were.
            EnvironmentTrouble: a drive is away or failed.
        """
        return [part.undo() for part in reversed(self.parts) if part.state is not State.UNDONE]

    def _check_complete(self) -> None:
        if not self.complete:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "This split was cut off before all of its parts were planned; nothing "
                    "was copied. Give it up (fascis undo {id}) and start again.",
                    id=self.id,
                ),
            )

    def _check_arrived(self) -> None:
        self._check_complete()
        behind = [part for part in self.parts if part.state in UNFINISHED]
        given_up = [part for part in self.parts if part.state is State.UNDONE]
        for part, how in ((behind, tr("has not arrived")), (given_up, tr("was given up"))):
            if part:
                raise Refused(
                    Code.WRONG_STATE,
                    tr(
                        "{name} {how}. Originals are deleted or set aside only when "
                        "every part has arrived. Nothing was changed.",
                        name=shown(part[0].places.header.name),
                        how=how,
                    ),
                )


def _facts(crossing: Crossing) -> SplitFacts:
    facts = crossing.places.header.split
    assert facts is not None
    return facts
