"""The side panel: always about what is selected or what comes next, ending in one main button."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QApplication,
    QLineEdit,
    QListView,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.balance import Balance, Deleting
from fascis.crossing.states import State
from fascis.desktop.answers import Answer
from fascis.desktop.drive_page import DrivePage
from fascis.desktop.pieces import FullBar, Row, button, clear, label, row, rule, tip
from fascis.desktop.plan_page import PlanPage
from fascis.desktop.relink_page import RelinkPage
from fascis.desktop.woven import ROLE_WORDS
from fascis.files.names import shown
from fascis.files.sizes import NBSP, counted, number, size
from fascis.files.times import date_text
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
        self.plan_page = PlanPage(self)
        self.relink_page = RelinkPage(self)
        self.drive_page = DrivePage(self)

    # -- building ----------------------------------------------------------------------------------

    def begin(self, title: str, under: str = "") -> None:
        """Empties the panel and writes its title."""
        self._signature = None
        self._rows = []
        focus = QApplication.focusWidget()
        if focus is not None and self.isAncestorOf(focus):
            # what had it goes away; else it would jump to the first thing in the window
            self.setFocus()
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

    def space(self, height: int) -> None:
        """Adds a little room, in pixels."""
        self._down.addSpacing(height)

    def head(self, text: str) -> None:
        """Adds a heading."""
        self._down.addSpacing(10)
        self.add(label(text, head=True))

    def end(self, *buttons: QPushButton) -> None:
        """Finishes the column; the first button is the main one."""
        self._down.addStretch(1)
        self._put_buttons(*buttons)

    def change_buttons(self, *buttons: QPushButton) -> None:
        """Puts other buttons at the foot; what is above them stays as it is."""
        clear(self._foot)
        self._put_buttons(*buttons)

    def _put_buttons(self, *buttons: QPushButton) -> None:
        for b in buttons:
            self._foot.addWidget(b)
        self.main = next((b for b in buttons if b.property("main")), None)

    def add_to_foot(self, widget: QWidget) -> None:
        """Adds a widget above the buttons, where it is always seen."""
        self._foot.addWidget(widget)

    # -- a library ---------------------------------------------------------------------------------

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
        warnings: Sequence[str] = (),
        away: str = "",
    ) -> None:
        """A library or a copy: what it holds, its copies, what its drive would be after.

        Warnings first.

        ``away`` says that its drive is not connected: then nothing is offered that needs it.
        """
        changed = (
            date_text(s.summary.last_change_ns, "last change %d %b %Y, %H:%M")
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
        for warning in warnings:
            self.add(label(warning, wrong=True))
        if away:
            self.add(label(away))
        if s.parked:
            self.add(
                label(
                    "Set aside after a crossing. It frees nothing until it is deleted; it is never "
                    "deleted automatically."
                )
            )
            self.end(button("See its crossing", actions["crossing"], main=True))
            return
        if s.summary:
            self.head("What it holds")
            for role, (files, _, allocated) in sorted(
                s.summary.roles.items(), key=lambda x: -x[1][2]
            ):
                self.add_row(
                    ROLE_WORDS[role],
                    size(allocated),
                    counted(files, "file") + (", can be made again" if role.remakeable else ""),
                )
            if s.summary.bytes > s.summary.allocated * 1.05 + 1_000_000:
                self.add(
                    label(
                        f"{size(s.summary.bytes)} by their lengths; the rest are holes that take "
                        "no room.",
                        quiet=True,
                    )
                )
            self._before_it_travels(s.summary, actions.get("relink"))
        self.head("Copies of it")
        self.add(
            label("\n".join(copies) if copies else "Only this one. No verified copy anywhere.")
        )
        if full:
            self.head(f"{shown(drive)}, after the originals are deleted")
            now, after = full
            self.add(FullBar(now, f"now {now:.0%} full"))
            self._down.addSpacing(3)
            self.add(FullBar(after, f"{after:.0%} full", f"frees {size(s.size)}", after=True))
        buttons = []
        if away:
            forget = [button("Forget it (touches no file)", actions["forget"])] if s.home else []
            self.end(*forget)
            return
        if best:
            buttons.append(
                button(f"Plan the crossing to {shown(best)}", actions["plan"], main=True)
            )
        else:
            self.add(label("No other connected drive can take it.", quiet=True))
        if "strands" in actions and s.summary:
            buttons.append(button("See its strands", actions["strands"]))
        buttons.append(button("Look at it again", actions["survey"]))
        if s.home and not s.summary:
            buttons.append(button("Forget it (touches no file)", actions["forget"]))
        self.end(*buttons)

    def _before_it_travels(self, s: Summary, relink: Callable[[], None] | None) -> None:
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
                (
                    f"{counted(loose[0], 'file')} loose",
                    size(loose[1]),
                    "used, and outside its folder: gathered",
                )
            )
        if s.not_understood:
            lines.append(
                (
                    f"{counted(s.not_understood, 'document')} not understood",
                    "",
                    "what they refer to is not known",
                )
            )
        if not lines and not s.unused[0]:
            return
        self.head("Before it can travel whole" if lines else "Could be left out")
        for left, right, quiet in lines:
            self.add_row(left, right, quiet)
        if relink is not None and (missing[0] or away[0]):
            self.add(button("Relink: look for what is lost", relink, link=True))
        if s.remakeable:
            self.add_row("Can be made again", size(s.remakeable), "proxies, renders, previews")
        if s.unused[0]:
            self.add_row(
                "Unused",
                size(s.unused[1]),
                f"{counted(s.unused[0], 'file')} that nothing refers to",
            )

    # -- a crossing --------------------------------------------------------------------------------

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
        signature = (
            running,
            paused,
            state,
            tuple(hindered),
            tuple(line[0] for line in lines),
            offered,
        )
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
                button(
                    "Go on" if paused else "Pause", actions["pause"], main=paused and not offers
                ),
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
            self.end(
                *buttons, button("Give up; clear what was copied…", actions["give_up"], link=True)
            )

    def show_give_up(
        self, bytes_copied: int, drive: str, actions: dict[str, Callable[[], None]]
    ) -> None:
        """Asks again before what was copied is cleared, showing what would be."""
        self.begin("Give up?", "The originals are untouched and stay as they are.")
        self.add_row(f"Cleared on {drive}", size(bytes_copied), "the unfinished copy, nothing else")
        self.end(
            button("Keep it", actions["back"], main=True),
            button(f"Clear {size(bytes_copied)} on {drive}", actions["clear"], delete=True),
        )

    # -- the scales --------------------------------------------------------------------------------

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
                    f"{counted(len(balance.newer), 'file was', 'files were')} made or changed at "
                    "the old place since the survey. What is brought along is copied and "
                    "verified too; what is left there is never deleted.",
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
                self.add_row(
                    f"and {without}, not copied",
                    size(plan.discarded_frees),
                    "by your choice, with no copy",
                )
            if plan.loose:
                self.add_row(
                    f"and {counted(plan.loose, 'loose file')}",
                    size(plan.loose_frees),
                    "gathered, and used by nothing else",
                )
            for what, files, size_ in plan.stays:
                self.add_row(
                    f"and leave {counted(files, 'file')}", size(size_) if size_ else "", what
                )
            delete = button(
                f"Delete {counted(plan.files, 'original')}…", actions["delete"], delete=True
            )
            delete.setEnabled(not why_not)
            deletes.append(delete)
        buttons = [button(words[step], actions[step], main=True)] if step in words else []
        others = {
            "leave": state is State.SETTLED,
            "prove": state is not State.RELEASED,
            "open": state is not State.RELEASED,
            "park": state is State.SWITCHED,
            "put_back": state is State.PARKED,
            "accept": state is not State.RELEASED,
            "undo": state in (State.SETTLED, State.SWITCHED, State.PARKED),
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
        self,
        path: str,
        documents: list[str],
        unknown: int,
        opened: bool,
        actions: dict[str, Callable[[], None]],
    ) -> None:
        """Where the copy is, to open it and look.

        ``unknown`` documents must be opened by hand in their own program.
        """
        self.begin(
            "Open it from its new place",
            "Open a few documents and clips there, in the program you work with.",
        )
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
                    f"{words} Open them in their own program and point it to this folder. Deleting "
                    "waits until you have looked."
                )
            )
        if opened:
            self.add(label("You have looked.", well=True))
        self.end(
            button("I have looked; it is all there", actions["looked"], main=True),
            button("Back", actions["back"]),
        )

    def show_deleting(
        self, plan: Deleting, source: str, drive: str, actions: dict[str, Callable[[], None]]
    ) -> None:
        """The exact list of what is about to be deleted; the second button deletes."""
        self.begin(
            "Delete the originals",
            f"On {shown(source)}. Each is compared once more right before; their verified copies "
            f"are on {shown(drive)}.",
        )
        self.add_row(
            counted(plan.files, "file"),
            size(plan.frees),
            f"comes free; {number(plan.bytes)}{NBSP}bytes long",
        )
        if plan.discarded:
            words = (
                f"{counted(plan.discarded, 'file')} of them, {size(plan.discarded_frees)}, have no "
                "copy: that is your choice."
            )
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
            button(f"Delete {counted(plan.files, 'file')}", actions["delete_now"], delete=True),
        )

    def show_busy(self, title: str, words: str, cancel: Callable[[], None] | None = None) -> None:
        """Something is under way."""
        self.begin(title, words)
        self.end(*([button("Cancel", cancel)] if cancel else []))

    def show_error(
        self, title: str, sentence: str, actions: list[tuple[str, Callable[[], None]]]
    ) -> None:
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
        if role == Qt.ItemDataRole.DisplayRole:
            return shown(self._places[index.row()])
        if role == Qt.ItemDataRole.ToolTipRole:
            return tip(shown(self._places[index.row()]))
        return None
