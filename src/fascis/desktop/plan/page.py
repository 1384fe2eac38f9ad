"""The plan in the side panel.

Where to, what goes along, what becomes of home and originals, what is to be decided.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.model.afterwards import After, Taken
from fascis.crossing.plan.plan import Goal, Plan
from fascis.crossing.scope.selection import StrandKey
from fascis.desktop.kit.pieces import Do, button, label, row
from fascis.desktop.kit.problems import tell_problems
from fascis.desktop.kit.words import ROLE_WORDS
from fascis.desktop.strands.woven import Woven
from fascis.files.names import elided, shown
from fascis.library.known.shelves import OnShelf
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.words.figures import counted, number, size

if TYPE_CHECKING:
    from fascis.desktop.kit.panel import SidePanel


@dataclass(frozen=True, slots=True)
class Around:
    """What is known around a plan.

    Attributes:
        along: what could go along, and how much it is.
        others: drives that could take a second copy.
        busy: why it cannot cross at once; it waits its turn then.
        decided: what it asks is decided.
        news: a sentence above it.
    """

    along: Along
    others: list[tuple[str, Path]]
    busy: str
    decided: bool
    news: str = ""


@dataclass(frozen=True, slots=True)
class PlanActions:
    """What a person can do with a plan."""

    folder: Do
    start: Do
    back: Do
    decide: Callable[[bool], None]
    also: Callable[[Path | None], None]
    swap: Do
    relink: Do
    parts: Do
    everything: Do


class PlanPage(QObject):
    """Shows plans in a side panel, and tells every choice."""

    choices_changed = pyqtSignal(object)

    def __init__(self, panel: SidePanel) -> None:
        super().__init__(panel)
        self._panel = panel

    def show(self, plan: Plan, around: Around, actions: PlanActions) -> None:
        """The plan.

        Where to, what goes along, what becomes of home and originals, problems, when it is ready.
        """
        busy, news = around.busy, around.news
        drive = plan.destination_drive
        label_there = shown(drive.label) if drive else shown(str(plan.destination))
        self._panel.begin("Plan", shown(plan.source.name))
        if news:
            self._panel.add(label(news, wrong=True))
        self._what(plan, actions)
        self._where(plan, around, actions)
        self._panel.head("Goes along")
        self._goes_along(plan, around.along)
        total = row(
            "Will be copied",
            size(plan.totals.bytes),
            counted(plan.totals.files, "file"),
            figure=True,
        )
        self._panel.add(total)
        self._panel.head("Home and originals")
        self._after(plan, label_there)
        tell_problems(self._panel, plan)
        if plan.asks and not plan.stopped:
            decided = QCheckBox("Go on all the same")
            decided.setChecked(around.decided)
            decided.toggled.connect(actions.decide)
            self._panel.add(decided)
        missing = plan.references()[Standing.MISSING.value]
        if missing:
            words = "Start without them"
        elif busy:
            words = "Line it up"
        else:
            words = "Start the crossing"
        start = button(words, actions.start, link=bool(missing), main=not missing)
        if busy:
            self._panel.add(label(busy, quiet=True))
        reason = "A problem above stops it." if plan.stopped else ""
        if not reason and plan.asks and not around.decided:
            reason = "Decide first: see To decide, above."
        start.setEnabled(not reason)
        if reason:
            self._panel.add_to_foot(label(reason, quiet=True))
        first = []
        if missing:
            first.append(button(f"Relink {number(missing)} first", actions.relink, main=True))
        self._panel.end(*first, start, button("Back", actions.back))

    def _where(self, plan: Plan, around: Around, actions: PlanActions) -> None:
        """Where to, whether a second copy is made, and what it is called there."""
        self._panel.head("Goes to")
        for i, goal in enumerate(plan.goals):
            there = shown(goal.drive.label) if goal.drive else shown(str(goal.path))
            what = ""
            if len(plan.goals) > 1:
                what = "home · " if i == 0 else "second copy · "
            told = goal.landing.told
            self._panel.add_row(
                f"{there} / {shown(told.name)}",
                f"ready {ready_words(goal)}",
                what + shown(str(told)),
            )
        self._panel.add(button("Another folder…", actions.folder, link=True))
        self._how_it_lands(plan)
        if not plan.choices.into:
            self._second_copy(plan, around.others, actions)
        if not plan.choices.into or len(plan.choices.only) < 2:
            self._panel.head("Called there")
            name = QLineEdit(shown(plan.name))
            name.setAccessibleName("Called there")
            name.editingFinished.connect(lambda: self._renamed(plan, name.text()))
            self._panel.add(name)

    def _what(self, plan: Plan, actions: PlanActions) -> None:
        """All of it, or which parts."""
        self._panel.head("Goes")
        if plan.part:
            names = ", ".join(plan.part.names) or "the rest"
            self._panel.add_row(elided(shown(names), 60), "", "only this part")
        elif plan.of_catalog:
            catalog = shown(Path(plan.of_catalog).stem)
            self._panel.add_row(shown(plan.source.name), "", f"a folder of the catalog {catalog}")
        else:
            self._panel.add_row("All of it", size(plan.totals.bytes))
        self._panel.add(button("A part of it…", actions.parts, link=True))
        if plan.part or plan.of_catalog:
            self._panel.add(button("All of it", actions.everything, link=True))
        for follower in plan.followers.documents:
            self._panel.add_row(
                elided(follower.told, 40),
                "follows",
                f"stays, and is led there: {counted(follower.references, 'reference')}",
            )

    def _how_it_lands(self, plan: Plan) -> None:
        """As a library of its own, or among what stands in the folder.

        A whole library that was put on a drive stands there by itself.
        """
        drive = plan.destination_drive
        some = plan.part or plan.of_catalog or plan.choices.into
        if not some and drive and plan.asked_for == drive.mount:
            return
        group = QButtonGroup(self._panel)
        folder = elided(shown(plan.asked_for.name) or "the drive", 26)
        for into, words in (
            (False, "a library of its own there"),
            (True, f"into {folder},\nbeside what stands there"),
        ):
            choice = QRadioButton(words)
            choice.setChecked(plan.choices.into is into)
            choice.toggled.connect(
                lambda on, i=into: self._choose(plan, into=i, taken=None) if on else None
            )
            group.addButton(choice)
            self._panel.add(choice)
        if stands := len(plan.apart.stands):
            words = f"{counted(stands, 'file stands', 'files stand')} there already, equal"
            self._panel.add(label(f"{words}: not copied again.", quiet=True))
        if plan.apart.taken or plan.choices.taken:
            self._taken(plan)

    def _taken(self, plan: Plan) -> None:
        """What becomes of what has a name that something else has there."""
        self._panel.head("Names that are taken there")
        group = QButtonGroup(self._panel)
        for taken, words in (
            (Taken.RENAMED, "newcomers get other names"),
            (Taken.LEFT_OUT, "leave those where they are"),
        ):
            choice = QRadioButton(words)
            choice.setChecked(plan.choices.taken is taken)
            choice.toggled.connect(lambda on, t=taken: self._choose(plan, taken=t) if on else None)
            group.addButton(choice)
            self._panel.add(choice)

    def _goes_along(self, plan: Plan, along: Along) -> None:
        """What goes along: bytes beside each choice.

        What cannot be made again and is used always does.
        """
        choices = plan.choices
        used = self._box(
            "In its folder" + (" and used" if along.unused[0] else ""), along.used, True, None
        )
        self._panel.add(used)
        if along.loose[0]:
            self._panel.add(
                self._box(
                    "Loose media, gathered",
                    along.loose,
                    choices.gather,
                    lambda on: self._choose(plan, gather=on),
                )
            )
        for role, files, total in along.remakeable:
            self._panel.add(self._role_box(plan, role, files, total))
            if role in choices.leave_out and plan.choices.after is not After.COPY:
                self._panel.add(self._discard_box(plan, role, files, total))
        if along.unused[0]:
            self._panel.add(
                self._box(
                    "Unused",
                    along.unused,
                    not choices.leave_unused,
                    lambda on: self._choose(plan, leave_unused=not on),
                )
            )
        if plan.clashing[0]:
            words = "What does not fit there as it is"
            on = not choices.leave_clashing
            self._panel.add(
                self._box(
                    words, plan.clashing, on, lambda on: self._choose(plan, leave_clashing=not on)
                )
            )
            renamed = counted(len(plan.apart.files) + len(plan.apart.folders), "name")
            if on:
                quiet = f"goes along; {renamed} will be others there"
            else:
                quiet = "stays, and is never deleted"
            self._panel.add(label(quiet, quiet=True))
        if choices.without:
            words = f"{counted(len(choices.without), 'strand')} taken out"
            self._panel.add(label(f"{words}, {size(along.without[1])}: they stay.", quiet=True))
            self._panel.add(
                button(
                    "Take them in again", lambda: self._choose(plan, without=frozenset()), link=True
                )
            )

    def _box(
        self, words: str, figures: tuple[int, int], on: bool, change: Callable[[bool], None] | None
    ) -> QWidget:
        """A choice with its bytes; one that is none says why."""
        files, total = figures
        box = QCheckBox(words)
        box.setChecked(on)
        box.setEnabled(change is not None)
        box.setToolTip("" if change else "Always goes along: it cannot be made again.")
        if change is not None:
            box.toggled.connect(change)
        made = QWidget()
        across = QHBoxLayout(made)
        across.setContentsMargins(0, 3, 0, 3)
        across.addWidget(box, 1)
        figure = label(size(total), wrap=False, head=on)
        figure.setToolTip(f"{counted(files, 'file')}, {number(total)} bytes")
        across.addWidget(figure)
        return made

    def _second_copy(
        self, plan: Plan, others: list[tuple[str, Path]], actions: PlanActions
    ) -> None:
        """Whether a second drive takes a copy too, and which of the two is home."""
        if not others:
            return
        choice = QComboBox()
        choice.setAccessibleName("Second copy")
        choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        choice.setMinimumContentsLength(12)
        choice.addItem("No second copy", None)
        for text, folder in others:
            choice.addItem(f"Second copy on {shown(text)}", folder)
        also = plan.goals[1].path if len(plan.goals) > 1 else None
        choice.setCurrentIndex(
            next((i for i in range(choice.count()) if choice.itemData(i) == also), 0)
        )
        choice.activated.connect(lambda i: actions.also(choice.itemData(i)))
        self._panel.add(choice)
        if len(plan.goals) > 1 and (second := plan.goals[1].drive):
            self._panel.add(
                button(f"Let {elided(shown(second.label), 20)} be home", actions.swap, link=True)
            )

    def _choose(self, plan: Plan, **changed: Any) -> None:
        self.choices_changed.emit(replace(plan.choices, **changed))

    def _renamed(self, plan: Plan, name: str) -> None:
        if name != plan.name:
            self._choose(plan, name=name)

    def _after_chosen(self, plan: Plan, after: After) -> None:
        self._choose(plan, after=after)

    def _role_box(self, plan: Plan, role: Role, files: int, total: int) -> QWidget:
        out = plan.choices.leave_out

        def change(on: bool) -> None:
            self._choose(
                plan,
                leave_out=out - {role} if on else out | {role},
                discard=plan.choices.discard - {role},
            )

        return self._box(
            f"{ROLE_WORDS[role]}: can be made again", (files, total), role not in out, change
        )

    def _discard_box(self, plan: Plan, role: Role, files: int, allocated: int) -> QWidget:
        """A box of its own.

        Left out files stay, unless the person says that they go with the originals.
        """
        box = QCheckBox(
            f"Delete these {counted(files, 'file')}, {size(allocated)},\nwhen the originals are "
            "deleted"
        )
        box.setAccessibleName(f"Discard {ROLE_WORDS[role].lower()} with the originals")
        box.setChecked(role in plan.choices.discard)
        box.toggled.connect(
            lambda on: self._choose(
                plan, discard=plan.choices.discard | {role} if on else plan.choices.discard - {role}
            )
        )
        made = QWidget()
        down = QVBoxLayout(made)
        down.setContentsMargins(24, 0, 0, 4)
        down.setSpacing(1)
        down.addWidget(box)
        names = ", ".join(
            elided(shown(p.rpartition(b"/")[2]), 22) for p in plan.largest.get(role, [])
        )
        down.addWidget(label(f"no copy of them is made; largest: {names}", quiet=True))
        return made

    def _after(self, plan: Plan, there: str) -> None:
        group = QButtonGroup(self._panel)
        words = {
            After.COPY: "Home stays here; this is one more copy",
            After.KEEP: f"Home goes to {elided(there, 14)}; originals stay",
            After.PARK: "…then originals are set aside",
            After.RELEASE: "…then originals are deleted,\nafter I have looked",
        }
        for after, text in words.items():
            choice = QRadioButton(text)
            choice.setChecked(plan.choices.after is after)
            choice.toggled.connect(lambda on, a=after: self._after_chosen(plan, a) if on else None)
            group.addButton(choice)
            self._panel.add(choice)
        freed = size(plan.frees)
        stays = f" · {size(plan.left_out.allocated)} left out stays" if plan.left_out.files else ""
        quiet = {
            After.COPY: "frees nothing",
            After.KEEP: f"frees nothing yet; deleting later would free {freed}",
            After.PARK: f"frees nothing until they are deleted: then {freed}",
            After.RELEASE: f"frees {freed}",
        }[plan.choices.after]
        self._panel.add(label(quiet + stays, quiet=True))
        if plan.choices.after in (After.PARK, After.RELEASE) and plan.gathering.items:
            # Whether others need them is looked at once they are chosen.
            known = plan.choices.loose_too
            free = [o for _, o in plan.gathering.items if o.path not in plan.shared]
            figures = f"{counted(len(free), 'file')}, {size(sum(o.size for o in free))}"
            loose = (
                "Also loose originals that nothing else "
                f"uses:\n{'' if known else 'up to '}{figures}"
            )
            box = QCheckBox(loose)
            box.setAccessibleName("Also loose originals that nothing else uses")
            box.setChecked(plan.choices.loose_too)
            box.toggled.connect(lambda on: self._choose(plan, loose_too=on))
            self._panel.add(box)


def ready_words(goal: Goal) -> str:
    """When a destination would be ready, as a clock time."""
    at = time.localtime(time.time() + goal.estimate.seconds)
    day = "" if time.strftime("%j", at) == time.strftime("%j") else time.strftime("%a ", at)
    return day + time.strftime("%H:%M", at)


@dataclass(frozen=True, slots=True)
class Along:
    """What could go along, each as files and bytes.

    Used, loose, roles that can be made again, unused, strands taken out.
    """

    used: tuple[int, int]
    loose: tuple[int, int]
    remakeable: list[tuple[Role, int, int]]
    unused: tuple[int, int]
    without: tuple[int, int]


def along_of(woven: Woven, without: frozenset[StrandKey]) -> Along:
    """What could go along, by strands; of a part what does. Pure."""
    sums: dict[str, list[int]] = {name: [0, 0] for name in ("used", "loose", "unused", "without")}
    roles: dict[Role, list[int]] = {}
    for s in woven.strands:
        _, role, standing = s.key
        if s.key in without:
            there = sums["without"]
        elif standing is Standing.LOOSE:
            there = sums["loose"]
        elif not standing.inside:
            continue
        elif role.remakeable:
            there = roles.setdefault(role, [0, 0])
        else:
            there = sums["unused" if standing is Standing.UNUSED else "used"]
        there[0] += s.along_files if woven.ticked else s.files
        there[1] += s.along_bytes if woven.ticked else s.bytes
    remakeable = sorted(((r, f, b) for r, (f, b) in roles.items()), key=lambda x: -x[2])
    used, loose, unused, out = ((f, b) for f, b in sums.values())
    return Along(used, loose, remakeable, unused, out)


@dataclass(frozen=True, slots=True)
class PlanDraft:
    """What the person is planning: the library, and the folder it would go into."""

    standing: OnShelf
    destination: Any
