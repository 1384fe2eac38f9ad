"""A crossing in the side panel: while it runs, at the scales, and before anything is deleted."""

from __future__ import annotations

from typing import Any

from msgspec import Struct
from PyQt6.QtCore import QAbstractListModel, QModelIndex, QSize, Qt
from PyQt6.QtWidgets import QLineEdit, QListView, QStyledItemDelegate, QStyleOptionViewItem

from fascis.crossing.model.policy import Act, acts
from fascis.crossing.model.states import State
from fascis.crossing.status.deleting import Deleting, Staying
from fascis.crossing.status.scales import Balance
from fascis.desktop.crossings.answers import Answer
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, label, tip
from fascis.files.names import shown
from fascis.words.figures import NBSP, number, size
from fascis.words.speech import tr, trn


class OnItsWay(Struct, frozen=True):
    """A crossing that is running or interrupted.

    Attributes:
        hindered: a sentence for each file that could not be copied.
        offers: further actions, as ``(label, function)``.
        followers: a text about documents that stay and lead to the old place until then.
    """

    answers: list[Answer]
    figures: dict[str, str]
    state: State
    running: bool
    paused: bool
    hindered: list[str]
    offers: list[tuple[str, Do]]
    followers: str = ""


class OnItsWayActions(Struct, frozen=True):
    """The actions for it."""

    pause: Do
    stop: Do
    give_up: Do
    go_on: Do
    skip: Do
    shelves: Do


class Offer(Struct, frozen=True):
    """A step at the scales: its label and its function."""

    words: str
    do: Do


class AtScales(Struct, frozen=True):
    """A settled crossing.

    Attributes:
        lines: ``(left, right, quiet)`` of each row.
        step: the next step.
        plan: what deleting would delete, if that is possible.
        why_not: why nothing can be deleted yet.
        balance: the balance, when known.
    """

    title: str
    lines: list[tuple[str, str, str]]
    step: str
    plan: Deleting | None
    why_not: str
    state: State
    balance: Balance | None


class Opening(Struct, frozen=True):
    """A copy that a person should open.

    Attributes:
        path: its path.
        documents: some of its documents.
        unknown: how many must be opened in their own program.
        opened: the person has already looked.
    """

    path: str
    documents: list[str]
    unknown: int
    opened: bool


class OpeningActions(Struct, frozen=True):
    """The actions for it."""

    copy_path: Do
    show_folder: Do
    looked: Do
    back: Do


class CrossingPage:
    """Shows crossings in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel

    def show_running(self, crossing: OnItsWay, actions: OnItsWayActions) -> None:
        """A running or interrupted crossing: what is safe, its progress, pause and stop."""
        answers, figures, state = crossing.answers, crossing.figures, crossing.state
        running, paused = crossing.running, crossing.paused
        hindered, offers = crossing.hindered, crossing.offers
        panel = self._panel
        lines = [(a.question, a.answer, a.why) for a in answers] + [
            (what, figure, "") for what, figure in figures.items()
        ]
        offered = tuple(words for words, _ in offers)
        # While it runs, its state changes texts only.
        signature = (
            running,
            paused,
            None if running else state,
            tuple(hindered),
            tuple((what, bool(quiet)) for what, _, quiet in lines),
            offered,
            crossing.followers,
        )
        if panel.shows(signature):
            panel.change_rows(line[1:] for line in lines)
            return
        panel.begin(tr("Is it safe to…"))
        panel.remember(signature)
        for a in answers:
            panel.add_row(a.question, a.answer, a.why)
        panel.head(tr("So far"))
        for what, figure in figures.items():
            panel.add_row(what, figure)
        if crossing.followers:
            panel.add(label(crossing.followers, quiet=True))
        if hindered:
            panel.head(tr("Waits for you"))
            for sentence in hindered[:6]:
                panel.add(label(sentence))
        if running:
            panel.end(
                *(button(words, do, main=True) for words, do in offers),
                button(
                    tr("Continue") if paused else tr("Pause"),
                    actions.pause,
                    main=paused and not offers,
                ),
                button(tr("Stop; continue another day"), actions.stop, link=True),
                button(tr("Give up; remove what was copied…"), actions.give_up, link=True),
            )
        elif state is State.UNDONE:
            panel.end(button(tr("Back to the shelves"), actions.shelves, main=True))
        else:
            buttons = [button(tr("Continue"), actions.go_on, main=True)]
            if hindered and state is State.WAITING:
                buttons.append(button(tr("Continue without them; they stay"), actions.skip))
            buttons += [button(words, do, link=True) for words, do in offers]
            panel.end(
                *buttons, button(tr("Give up; remove what was copied…"), actions.give_up, link=True)
            )

    def show_give_up(self, bytes_copied: int, drive: str, back: Do, clear: Do) -> None:
        """Asks again before copied files are cleared, and shows what would be."""
        panel = self._panel
        panel.begin(tr("Give up?"), tr("The originals are untouched and stay as they are."))
        panel.add_row(
            tr("Removed on {drive}", drive=drive),
            size(bytes_copied),
            tr("the unfinished copy, nothing else"),
        )
        panel.end(
            button(tr("Keep it"), back, main=True),
            button(
                tr("Remove {size} on {drive}", size=size(bytes_copied), drive=drive),
                clear,
                delete=True,
            ),
        )

    # -- the scales --------------------------------------------------------------------------------

    def show_scales(self, scales: AtScales, offers: dict[str, Offer], delete: Do) -> None:
        """A settled crossing: the steps from looking to deleting, one at a time."""
        panel = self._panel
        step, plan, state, balance = scales.step, scales.plan, scales.state, scales.balance
        panel.begin(scales.title)
        for left, right, quiet in scales.lines:
            panel.add_row(left, right, quiet)
        if balance and balance.newer:
            panel.add(
                label(
                    trn(
                        "{n} file was made or changed at the old place since the survey. What is "
                        "brought along is copied and verified too; what is left there is never "
                        "deleted.",
                        "{n} files were made or changed at the old place since the survey. What "
                        "is brought along is copied and verified too; what is left there is "
                        "never deleted.",
                        len(balance.newer),
                    ),
                    wrong=True,
                )
            )
        deletes = []
        if plan is not None and state is not State.RELEASED:
            panel.head(tr("Deleting would free"))
            panel.add_row(
                trn(
                    "{n} file, verified",
                    "{n} files, verified",
                    plan.files - plan.discarded - plan.loose,
                ),
                size(plan.frees - plan.discarded_frees - plan.loose_frees),
            )
            if plan.discarded:
                panel.add_row(
                    trn("and {n} file, not copied", "and {n} files, not copied", plan.discarded),
                    size(plan.discarded_frees),
                    tr("your choice, with no copy"),
                )
            if plan.loose:
                panel.add_row(
                    trn("and {n} loose file", "and {n} loose files", plan.loose),
                    size(plan.loose_frees),
                    tr("gathered, and used by nothing else"),
                )
            for what, total in plan.reasons().items():
                panel.add_row(
                    trn("and leave {n} file", "and leave {n} files", total.files),
                    size(total.bytes),
                    what,
                )
            words = trn("Delete {n} original…", "Delete {n} originals…", plan.files)
            deletes.append(button(words, delete, delete=True))
            deletes[0].setEnabled(not scales.why_not)
        buttons = []
        if step in offers:
            buttons.append(button(offers[step].words, offers[step].do, main=True))
        possible = acts(state)
        others = {
            "leave": Act.LEAVE in possible,
            "prove": Act.PROVE in possible,
            "open": Act.LOOK in possible,
            "lead": Act.SET_ASIDE in possible,
            "park": Act.SET_ASIDE in possible,
            "put_back": Act.PUT_BACK in possible,
            "accept": Act.ACCEPT in possible,
            "undo": Act.UNDO in possible,
            "again": state is not State.RELEASED,
            "without": True,
        }
        for name, there in others.items():
            if there and name != step and name in offers:
                buttons.append(button(offers[name].words, offers[name].do, link=True))
        panel.end(*buttons, *deletes)
        if deletes and scales.why_not:
            panel.add_to_foot(
                label(
                    tr("Possible once it is safe: {why_not}.", why_not=scales.why_not), quiet=True
                )
            )

    def show_open(self, copy: Opening, actions: OpeningActions) -> None:
        """The path of the copy, to open it and look."""
        panel = self._panel
        panel.begin(
            tr("Open it from its new place"),
            tr("Open a few documents and clips there, in the program you work with."),
        )
        field = QLineEdit(copy.path)
        field.setReadOnly(True)
        field.setAccessibleName(tr("Path of the copy"))
        field.setCursorPosition(0)
        panel.add(field)
        panel.add(button(tr("Copy path"), actions.copy_path, link=True))
        panel.add(button(tr("Show in folder"), actions.show_folder, link=True))
        if copy.documents:
            panel.head(tr("Its documents"))
            for place in copy.documents:
                panel.add(label(place, quiet=True))
        if copy.unknown:
            panel.add(
                label(
                    trn(
                        "{n} document is not understood here. Open it in its own program and "
                        "point it to this folder. Deleting waits until you have looked.",
                        "{n} documents are not understood here. Open them in their own program "
                        "and point it to this folder. Deleting waits until you have looked.",
                        copy.unknown,
                    )
                )
            )
        if copy.opened:
            panel.add(label(tr("You have looked."), well=True))
        panel.end(
            button(tr("I have looked; it is all there"), actions.looked, main=True),
            button(tr("Back"), actions.back, back=True),
        )

    def show_deleting(self, plan: Deleting, source: str, drive: str, back: Do, delete: Do) -> None:
        """The exact list of what is about to be deleted; the second button deletes."""
        panel = self._panel
        panel.begin(
            tr("Delete the originals"),
            tr(
                "On {source}. Each is compared once more right before; their verified "
                "copies are on {drive}.",
                source=shown(source),
                drive=shown(drive),
            ),
        )
        panel.add_row(
            trn("{n} file", "{n} files", plan.files),
            size(plan.frees),
            tr("frees this much; {count}{nbsp}bytes long", count=number(plan.bytes), nbsp=NBSP),
        )
        if plan.discarded:
            words = trn(
                "{n} file of them, {size}, have no copy: that is your choice.",
                "{n} files of them, {size}, have no copy: that is your choice.",
                plan.discarded,
                size=size(plan.discarded_frees),
            )
            panel.add(label(words, wrong=True))
        height = 220 if plan.stays else 400
        panel.add(_list_view(tr("Files that will be deleted"), PlaceList(plan.places), height))
        if plan.stays:
            panel.head(trn("{n} file stays", "{n} files stay", len(plan.stays)))
            stays = _list_view(tr("Files that stay, and why"), StayingList(plan.stays), 0)
            stays.setFixedHeight(min(36 * len(plan.stays) + 6, 150))
            panel.add(stays)
        panel.end(
            button(tr("Keep them"), back, main=True, back=True),
            button(trn("Delete {n} file", "Delete {n} files", plan.files), delete, delete=True),
        )


def _list_view(name: str, lines: LineList, height: int) -> QListView:
    view = QListView()
    view.setAccessibleName(name)
    view.setUniformItemSizes(True)
    view.setTextElideMode(Qt.TextElideMode.ElideMiddle)
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setItemDelegate(_AsWideAsThereIs(view))
    lines.setParent(view)
    view.setModel(lines)
    view.setMinimumHeight(height)
    return view


class _AsWideAsThereIs(QStyledItemDelegate):
    """Shortens a line instead of scrolling sideways."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """As high as its text, and not wider than the list."""
        return QSize(0, super().sizeHint(option, index).height())


class LineList(QAbstractListModel):
    """Lines that are made only when visible."""

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """The number of lines."""
        raise NotImplementedError

    def line(self, number: int) -> str:
        """One line, escaped for display."""
        raise NotImplementedError

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        """One line; the full text on hover."""
        if role == Qt.ItemDataRole.DisplayRole:
            return self.line(index.row())
        if role == Qt.ItemDataRole.ToolTipRole:
            return tip(self.line(index.row()))
        return None


class PlaceList(LineList):
    """Places of files."""

    def __init__(self, places: list[bytes]) -> None:
        super().__init__()
        self._places = places

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """The number of places."""
        return len(self._places)

    def line(self, number: int) -> str:
        """One place."""
        return shown(self._places[number])


class StayingList(LineList):
    """Files that stay, each with the reason, and who needs it."""

    def __init__(self, stays: list[Staying]) -> None:
        super().__init__()
        self._stays = stays

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """The number of files."""
        return len(self._stays)

    def line(self, number: int) -> str:
        """One file."""
        one = self._stays[number]
        return f"{shown(one.place)}\n{one.told}"
