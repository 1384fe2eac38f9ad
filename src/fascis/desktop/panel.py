"""The side panel: always about what is selected or what comes next, ending in one main button."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListView,
    QPushButton,
    QRadioButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.balance import Balance, Deleting
from fascis.crossing.plan import After, Goal, Plan
from fascis.crossing.problems import Severity
from fascis.crossing.selection import StrandKey
from fascis.crossing.states import State
from fascis.desktop.answers import Answer
from fascis.desktop.pieces import FullBar, Row, button, clear, label, row, rule
from fascis.desktop.woven import ROLE_WORDS, Woven
from fascis.files.names import elided, shown
from fascis.files.sizes import NBSP, counted, number, size
from fascis.library.roles import Role
from fascis.library.shelves import OnShelf
from fascis.library.standing import Standing
from fascis.library.summary import Summary

WIDTH = 336


class SidePanel(QWidget):
    """A column that scrolls, with the main button at its foot."""

    choices_changed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.setAccessibleName("Side panel")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        around = QVBoxLayout(self)
        around.setContentsMargins(1, 0, 0, 0)
        around.setSpacing(0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setObjectName("inner")
        inner.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._down = QVBoxLayout(inner)
        self._down.setContentsMargins(18, 18, 18, 8)
        self._down.setSpacing(4)
        scroll.setWidget(inner)
        around.addWidget(scroll, 1)
        foot = QWidget()
        self._foot = QVBoxLayout(foot)
        self._foot.setContentsMargins(18, 8, 18, 16)
        self._foot.setSpacing(8)
        around.addWidget(foot)
        self.main: QPushButton | None = None
        self._signature: object = None
        self._rows: list[Row] = []

    # -- building -------------------------------------------------------------------------------------------------

    def begin(self, title: str, under: str = "") -> None:
        """Empties the panel and writes its title."""
        self._signature = None
        self._rows = []
        focus = QApplication.focusWidget()
        if focus is not None and self.isAncestorOf(focus):
            self.setFocus()  # what had it goes away; else it would jump to the first thing in the window
        clear(self._down)
        clear(self._foot)
        self.main = None
        self._down.addWidget(label(title, title=True))
        if under:
            self._down.addWidget(label(under, quiet=True))
        self._down.addSpacing(8)

    def add(self, widget: QWidget) -> None:
        """Adds a widget."""
        self._down.addWidget(widget)

    def add_row(self, left: str, right: str = "", quiet: str = "", **properties: bool) -> None:
        """Adds a line with a rule under it."""
        made = row(left, right, quiet, **properties)
        self._rows.append(made)
        self.add(made)
        self.add(rule())

    def head(self, text: str) -> None:
        """Adds a heading."""
        self._down.addSpacing(10)
        self.add(label(text, head=True))

    def end(self, *buttons: QPushButton) -> None:
        """Finishes the column; the first button is the main one."""
        self._down.addStretch(1)
        for b in buttons:
            self._foot.addWidget(b)
        self.main = next((b for b in buttons if b.property("main")), None)

    # -- a library ------------------------------------------------------------------------------------------------

    def show_nothing(self, words: str, actions: list[tuple[str, Callable[[], None]]]) -> None:
        """Nothing is selected: says what to do first."""
        self.begin("No library chosen", words)
        self.end(*(button(text, do, main=i == 0) for i, (text, do) in enumerate(actions)))

    def show_library(
        self,
        s: OnShelf,
        drive: str,
        copies: list[str],
        full: tuple[float, float] | None,
        best: str | None,
        actions: dict[str, Callable[[], None]],
    ) -> None:
        """A library or a copy: what it holds, its copies, what its drive would be after."""
        changed = (
            time.strftime("last change %d %b %Y, %H:%M", time.localtime(s.summary.last_change_ns / 1e9))
            if s.summary
            else "not looked at yet"
        )
        kind = (
            "originals, set aside"
            if s.parked
            else s.kind
            if s.home
            else f"verified copy of an {s.kind}"
            if s.kind[0] in "aeiou"
            else f"verified copy of a {s.kind}"
        )
        self.begin(shown(s.name), f"{kind} · on {shown(drive)} · {changed}")
        if s.parked:
            self.add(
                label("Set aside after a crossing. It frees nothing until it is deleted; it is never deleted by time.")
            )
            self.end(button("See its crossing", actions["crossing"], main=True))
            return
        if s.summary:
            self.head("What it holds")
            for role, (files, _, allocated) in sorted(s.summary.roles.items(), key=lambda x: -x[1][2]):
                self.add_row(
                    ROLE_WORDS[role],
                    size(allocated),
                    counted(files, "file") + (", can be made again" if role.remakeable else ""),
                )
            if s.summary.bytes > s.summary.allocated * 1.05 + 1_000_000:
                self.add(
                    label(
                        f"{size(s.summary.bytes)} by their lengths; the rest are holes that take no room.", quiet=True
                    )
                )
            self._before_it_travels(s.summary)
        self.head("Copies of it")
        self.add(label("\n".join(copies) if copies else "Only this one. No verified copy anywhere."))
        if full:
            self.head(f"{shown(drive)}, after the originals are deleted")
            now, after = full
            self.add(FullBar(now, f"now {now:.0%} full"))
            self._down.addSpacing(3)
            self.add(FullBar(after, f"{after:.0%} full", f"frees {size(s.size)}", after=True))
        buttons = []
        if best:
            buttons.append(button(f"Plan the crossing to {shown(best)}", actions["plan"], main=True))
        else:
            self.add(label("No other connected drive can take it.", quiet=True))
        if "strands" in actions and s.summary:
            buttons.append(button("See its strands", actions["strands"]))
        buttons.append(button("Look at it again", actions["survey"]))
        if s.home and not s.summary:
            buttons.append(button("Forget it (touches no file)", actions["forget"]))
        self.end(*buttons)

    def _before_it_travels(self, s: Summary) -> None:
        """What it lacks, what lies outside, what could be left out; nothing where all is well."""

        def of(standing: Standing) -> tuple[int, int]:
            return s.standing.get(standing, (0, 0))

        missing, away, loose = map(of, (Standing.MISSING, Standing.AWAY, Standing.LOOSE))
        lines = []
        for (files, total), word in ((missing, "missing"), (away, "away")):
            if files:
                lines.append(
                    (
                        f"{counted(files, 'file')} {word}",
                        size(total) if total else "",
                        "last known size" if total else "",
                    )
                )
        if loose[0]:
            lines.append(
                (f"{counted(loose[0], 'file')} loose", size(loose[1]), "used, and outside its folder: gathered")
            )
        if s.not_understood:
            lines.append(
                (f"{counted(s.not_understood, 'document')} not understood", "", "what they refer to is not known")
            )
        if not lines and not s.unused[0]:
            return
        self.head("Before it can travel whole" if lines else "Could be left out")
        for left, right, quiet in lines:
            self.add_row(left, right, quiet)
        if s.remakeable:
            self.add_row("Can be made again", size(s.remakeable), "proxies, renders, previews")
        if s.unused[0]:
            self.add_row("Unused", size(s.unused[1]), f"{counted(s.unused[0], 'file')} that nothing refers to")

    # -- the plan -------------------------------------------------------------------------------------------------

    def show_plan(
        self,
        plan: Plan,
        along: Along,
        others: list[tuple[str, Path]],
        busy: str,
        actions: dict[str, Callable[[], None]],
        news: str = "",
    ) -> None:
        """The plan: where to, what goes along, what becomes of home and originals, problems, when it is ready.

        Args:
            along: what could go along, and how much it is.
            others: drives that could take a second copy.
            busy: why it cannot cross at once; it waits its turn then.
        """
        drive = plan.destination_drive
        label_there = shown(drive.label) if drive else shown(str(plan.destination))
        self.begin("Plan", shown(plan.source.name))
        if news:
            self.add(label(news, wrong=True))
        self.head("Goes to")
        for i, goal in enumerate(plan.goals):
            there = shown(goal.drive.label) if goal.drive else shown(str(goal.path))
            what = ("home · " if i == 0 else "second copy · ") if len(plan.goals) > 1 else ""
            path = shown(str(goal.path / plan.name))
            self.add_row(f"{there} / {shown(plan.name)}", f"ready {ready_words(goal)}", what + path)
        self.add(button("Another folder…", actions["folder"], link=True))
        self._second_copy(plan, others, actions)
        self.head("Called there")
        name = QLineEdit(shown(plan.name))
        name.setAccessibleName("Called there")
        name.editingFinished.connect(lambda: self._renamed(plan, name.text()))
        self.add(name)
        self.head("Goes along")
        self._goes_along(plan, along, actions)
        total = row("Will be copied", size(plan.totals.bytes), counted(plan.totals.files, "file"), figure=True)
        self.add(total)
        self.head("Home and originals")
        self._after(plan, label_there)
        self._problems(plan)
        if plan.asks and not plan.stopped:
            decided = QCheckBox("Go on all the same")
            decided.setChecked(bool(actions.get("is_decided", lambda: False)()))
            decided.toggled.connect(lambda on: actions["decided"](on))  # type: ignore[call-arg]
            self.add(decided)
        start = button("Line it up" if busy else "Start the crossing", actions["start"], main=True)
        if busy:
            self.add(label(busy, quiet=True))
        reason = "A problem above stops it." if plan.stopped else ""
        if not reason and plan.asks and not actions.get("is_decided", lambda: False)():
            reason = "Decide first: see To decide, above."
        start.setEnabled(not reason)
        if reason:
            self._foot.addWidget(label(reason, quiet=True))
        self.end(start, button("Back", actions["back"]))

    def _goes_along(self, plan: Plan, along: Along, actions: dict[str, Any]) -> None:
        """What goes along: bytes beside each choice; what cannot be made again and is used always does."""
        choices = plan.choices
        used = self._box("In its folder" + (" and used" if along.unused[0] else ""), along.used, True, None)
        self.add(used)
        if along.loose[0]:
            self.add(
                self._box(
                    "Loose media, gathered", along.loose, choices.gather, lambda on: self._choose(plan, gather=on)
                )
            )
        for role, files, total in along.remakeable:
            self.add(self._role_box(plan, role, files, total))
            if role in choices.leave_out and plan.choices.after is not After.COPY:
                self.add(self._discard_box(plan, role, files, total))
        if along.unused[0]:
            self.add(
                self._box(
                    "Unused", along.unused, not choices.leave_unused, lambda on: self._choose(plan, leave_unused=not on)
                )
            )
        if choices.without:
            words = f"{counted(len(choices.without), 'strand')} taken out"
            self.add(label(f"{words}, {size(along.without[1])}: they stay.", quiet=True))
            self.add(button("Take them in again", lambda: self._choose(plan, without=frozenset()), link=True))

    def _box(self, words: str, figures: tuple[int, int], on: bool, change: Callable[[bool], None] | None) -> QWidget:
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

    def _second_copy(self, plan: Plan, others: list[tuple[str, Path]], actions: dict[str, Any]) -> None:
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
        choice.setCurrentIndex(next((i for i in range(choice.count()) if choice.itemData(i) == also), 0))
        choice.activated.connect(lambda i: actions["also"](choice.itemData(i)))
        self.add(choice)
        if len(plan.goals) > 1 and (second := plan.goals[1].drive):
            self.add(button(f"Let {elided(shown(second.label), 20)} be home", actions["swap"], link=True))

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
            self._choose(plan, leave_out=out - {role} if on else out | {role}, discard=plan.choices.discard - {role})

        return self._box(f"{ROLE_WORDS[role]}: can be made again", (files, total), role not in out, change)

    def _discard_box(self, plan: Plan, role: Role, files: int, allocated: int) -> QWidget:
        """A box of its own: left out files stay, unless the person says that they go with the originals."""
        box = QCheckBox(f"Delete these {counted(files, 'file')}, {size(allocated)},\nwhen the originals are deleted")
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
        names = ", ".join(elided(shown(p.rpartition(b"/")[2]), 22) for p in plan.largest.get(role, []))
        down.addWidget(label(f"no copy of them is made; largest: {names}", quiet=True))
        return made

    def _after(self, plan: Plan, there: str) -> None:
        group = QButtonGroup(self)
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
            self.add(choice)
        freed = size(plan.totals.allocated + plan.discarded.allocated)
        stays = f" · {size(plan.left_out.allocated)} left out stays" if plan.left_out.files else ""
        quiet = {
            After.COPY: "frees nothing",
            After.KEEP: f"frees nothing yet; deleting later would free {freed}",
            After.PARK: f"frees nothing until they are deleted: then {freed}",
            After.RELEASE: f"frees {freed}",
        }[plan.choices.after]
        self.add(label(quiet + stays, quiet=True))
        if plan.choices.after in (After.PARK, After.RELEASE) and plan.gathering.items:
            total = sum(o.size for _, o in plan.gathering.items)
            loose = f"Also loose originals that nothing else uses:\n{counted(len(plan.gathering.items), 'file')}, {size(total)}"
            box = QCheckBox(loose)
            box.setAccessibleName("Also loose originals that nothing else uses")
            box.setChecked(plan.choices.loose_too)
            box.toggled.connect(lambda on: self._choose(plan, loose_too=on))
            self.add(box)

    def _problems(self, plan: Plan) -> None:
        if not plan.problems:
            return
        self.head("Before it can start" if plan.stopped else "To decide" if plan.asks else "Good to know")
        marks = {Severity.STOPS: "Stops", Severity.DECISION: "Decide", Severity.NOTE: ""}
        for problem in plan.problems:
            files = (
                ("; ".join(shown(p) for p in problem.files[:2]) + (" …" if len(problem.files) > 2 else ""))
                if problem.files
                else ""
            )
            made = row(
                problem.sentence,
                marks[problem.severity],
                " ".join(filter(None, (problem.remedy, files))),
                wrong=problem.severity is Severity.STOPS,
            )
            self.add(made)
            self.add(rule())

    # -- a crossing -----------------------------------------------------------------------------------------------

    def show_running(
        self,
        answers: list[Answer],
        figures: dict[str, str],
        state: State,
        running: bool,
        paused: bool,
        hindered: list[str],
        offers: list[tuple[str, Callable[[], None]]],
        actions: dict[str, Callable[[], None]],
    ) -> None:
        """A crossing on its way, or interrupted: what is safe, how far it is, pause and stop.

        Args:
            offers: more that can be done now, as ``(words, action)``.
        """
        lines = [(a.question, a.answer, a.why) for a in answers] + [
            (what, figure, "") for what, figure in figures.items()
        ]
        offered = tuple(words for words, _ in offers)
        signature = (running, paused, state, tuple(hindered), tuple(line[0] for line in lines), offered)
        if signature == self._signature:
            for made, (_, right, quiet) in zip(self._rows, lines, strict=True):
                made.change(right, quiet)
            return
        self.begin("Is it safe to…")
        self._signature = signature
        for a in answers:
            self.add_row(a.question, a.answer, a.why)
        self.head("So far")
        for what, figure in figures.items():
            self.add_row(what, figure)
        if hindered:
            self.head("Waits for you")
            for sentence in hindered[:6]:
                self.add(label(sentence))
        if running:
            self.end(
                *(button(words, do, main=True) for words, do in offers),
                button("Go on" if paused else "Pause", actions["pause"], main=paused and not offers),
                button("Stop; go on another day", actions["stop"], link=True),
                button("Give up; clear what was copied…", actions["give_up"], link=True),
            )
        elif state is State.UNDONE:
            self.end(button("Back to the shelves", actions["shelves"], main=True))
        else:
            buttons = [button("Go on", actions["go_on"], main=True)]
            if hindered and state is State.WAITING:
                buttons.append(button("Go on without them; they stay", actions["skip"]))
            buttons += [button(words, do, link=True) for words, do in offers]
            self.end(*buttons, button("Give up; clear what was copied…", actions["give_up"], link=True))

    def show_give_up(self, bytes_copied: int, drive: str, actions: dict[str, Callable[[], None]]) -> None:
        """Asks again before what was copied is cleared, showing what would be."""
        self.begin("Give up?", "The originals are untouched and stay as they are.")
        self.add_row(f"Cleared on {drive}", size(bytes_copied), "the unfinished copy, nothing else")
        self.end(
            button("Keep it", actions["back"], main=True),
            button(f"Clear {size(bytes_copied)} on {drive}", actions["clear"], delete=True),
        )

    # -- the scales -----------------------------------------------------------------------------------------------

    def show_scales(
        self,
        title: str,
        lines: list[tuple[str, str, str]],
        step: str,
        words: dict[str, str],
        plan: Deleting | None,
        why_not: str,
        state: State,
        balance: Balance | None,
        actions: dict[str, Callable[[], None]],
    ) -> None:
        """A settled crossing: the steps from looking to deleting, one at a time."""
        self.begin(title)
        for left, right, quiet in lines:
            self.add_row(left, right, quiet)
        if balance and balance.newer:
            self.add(
                label(
                    f"{counted(len(balance.newer), 'file was', 'files were')} made or changed at the old place since the survey. What is brought along is copied and verified too; what is left there is never deleted.",
                    wrong=True,
                )
            )
        deletes = []
        if plan is not None and state is not State.RELEASED:
            self.head("Deleting would free")
            self.add_row(
                f"{counted(plan.files - plan.discarded - plan.loose, 'file')}, verified",
                size(plan.frees - plan.discarded_frees - plan.loose_frees),
            )
            if plan.discarded:
                without = counted(plan.discarded, "file")
                self.add_row(f"and {without}, not copied", size(plan.discarded_frees), "by your choice, with no copy")
            if plan.loose:
                self.add_row(
                    f"and {counted(plan.loose, 'loose file')}",
                    size(plan.loose_frees),
                    "gathered, and used by nothing else",
                )
            for what, files, size_ in plan.stays:
                self.add_row(f"and leave {counted(files, 'file')}", size(size_) if size_ else "", what)
            delete = button(f"Delete {size(plan.bytes)} of originals…", actions["delete"], delete=True)
            delete.setEnabled(not why_not)
            deletes.append(delete)
        buttons = [button(words[step], actions[step], main=True)] if step in words else []
        others = {
            "leave": state is State.SETTLED,
            "prove": state is not State.RELEASED,
            "open": state is not State.RELEASED,
            "park": state is State.SWITCHED,
            "put_back": state is State.PARKED,
            "undo": state in (State.SWITCHED, State.PARKED),
            "again": state is not State.RELEASED,
            "without": True,
        }
        for name, there in others.items():
            if there and name != step and name in words:
                buttons.append(button(words[name], actions[name], link=True))
        self.end(*buttons, *deletes)
        if deletes and why_not:
            self._foot.addWidget(label(f"Possible once it is safe: {why_not}.", quiet=True))

    def show_open(
        self, path: str, documents: list[str], unknown: int, opened: bool, actions: dict[str, Callable[[], None]]
    ) -> None:
        """Where the copy is, to open it and look; ``unknown`` documents must be opened by hand in their own program."""
        self.begin("Open it from its new place", "Open a few documents and clips there, in the program you work with.")
        field = QLineEdit(path)
        field.setReadOnly(True)
        field.setAccessibleName("Path of the copy")
        field.setCursorPosition(0)
        self.add(field)
        self.add(button("Copy path", actions["copy_path"], link=True))
        self.add(button("Show in folder", actions["show_folder"], link=True))
        if documents:
            self.head("Its documents")
            for place in documents:
                self.add(label(place, quiet=True))
        if unknown:
            words = f"{counted(unknown, 'document is', 'documents are')} not understood here."
            self.add(
                label(
                    f"{words} Open them in their own program and point it to this folder. Deleting waits until you have looked."
                )
            )
        if opened:
            self.add(label("You have looked.", well=True))
        self.end(
            button("I have looked; it is all there", actions["looked"], main=True), button("Back", actions["back"])
        )

    def show_deleting(self, plan: Deleting, source: str, drive: str, actions: dict[str, Callable[[], None]]) -> None:
        """The exact list of what is about to be deleted; the second button deletes."""
        self.begin(
            "Delete the originals",
            f"On {shown(source)}. Each is compared once more right before; their verified copies are on {shown(drive)}.",
        )
        self.add_row(counted(plan.files, "file"), size(plan.bytes), f"{number(plan.bytes)}{NBSP}bytes")
        if plan.discarded:
            words = f"{counted(plan.discarded, 'file')} of them, {size(plan.discarded_frees)}, have no copy: that is your choice."
            self.add(label(words, wrong=True))
        view = QListView()
        view.setAccessibleName("Files that will be deleted")
        view.setUniformItemSizes(True)
        view.setModel(PlaceList(plan.places, view))
        view.setMinimumHeight(260)
        self.add(view)
        for what, files, _ in plan.stays:
            self.add(label(f"{counted(files, 'file')} stay: {what}.", quiet=True))
        self.end(
            button("Keep them", actions["back"], main=True),
            button(f"Delete {counted(plan.files, 'file')}, {size(plan.bytes)}", actions["delete_now"], delete=True),
        )

    def show_busy(self, title: str, words: str, cancel: Callable[[], None] | None = None) -> None:
        """Something is under way."""
        self.begin(title, words)
        self.end(*([button("Cancel", cancel)] if cancel else []))

    def show_error(self, title: str, sentence: str, actions: list[tuple[str, Callable[[], None]]]) -> None:
        """An error, in the place where it belongs: what, where, what it means, what to do."""
        self.begin(title)
        self.add(label(sentence, wrong=True))
        self.end(*(button(text, do, main=i == 0) for i, (text, do) in enumerate(actions)))


class PlaceList(QAbstractListModel):
    """Places as a list that costs nothing until it is seen."""

    def __init__(self, places: list[bytes], parent: QWidget) -> None:
        super().__init__(parent)
        self._places = places

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """How many there are."""
        return len(self._places)

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        """One place, escaped for showing."""
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return shown(self._places[index.row()])
        return None


def ready_words(goal: Goal) -> str:
    """When a destination would be ready, as a clock time."""
    at = time.localtime(time.time() + goal.estimate.seconds)
    day = "" if time.strftime("%j", at) == time.strftime("%j") else time.strftime("%a ", at)
    return day + time.strftime("%H:%M", at)


@dataclass(frozen=True, slots=True)
class Along:
    """What could go along, each as files and bytes: used, loose, roles that can be made again, unused, strands taken out."""

    used: tuple[int, int]
    loose: tuple[int, int]
    remakeable: list[tuple[Role, int, int]]
    unused: tuple[int, int]
    without: tuple[int, int]


def along_of(woven: Woven, without: frozenset[StrandKey]) -> Along:
    """What could go along, by strands. Pure."""
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
        there[0] += s.files
        there[1] += s.bytes
    remakeable = sorted(((r, f, b) for r, (f, b) in roles.items()), key=lambda x: -x[2])
    used, loose, unused, out = ((f, b) for f, b in sums.values())
    return Along(used, loose, remakeable, unused, out)


@dataclass(frozen=True, slots=True)
class PlanDraft:
    """What the person is planning: the library, and the folder it would go into."""

    standing: OnShelf
    destination: Any
