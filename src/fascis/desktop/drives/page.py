"""A drive in the side panel.

What it is, what it can store, how fast it is, what is on it, and what can be done with it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import StrEnum
from functools import partial
from typing import TYPE_CHECKING

from msgspec import Struct
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.fit.suiting import Suits, recommended
from fascis.desktop.kit.pieces import Do, FullBar, button, label, tip
from fascis.drives.care.describing import (
    built_words,
    file_system_words,
    flags,
    rules_in_words,
    rules_known_by,
    state_words,
    transport_words,
)
from fascis.files.names import shown
from fascis.library.known.shelves import OnShelf, Shelf
from fascis.words.figures import NBSP, day, moment, percent, size
from fascis.words.speech import tr

if TYPE_CHECKING:
    from fascis.desktop.kit.panel import SidePanel


class Deed(StrEnum):
    """Actions on a drive."""

    MOUNT = "mount"
    MEASURE = "measure"
    FOLDER = "folder"
    SUITS = "suits"
    REMOVE = "remove"
    RETURNED = "returned"
    LOOK = "look"


DoDeed = Callable[[Deed], None]


class Offer(Struct, frozen=True):
    """One action: its label, and whether it is the main one."""

    deed: Deed
    words: str
    main: bool = False


class Tools(Struct, frozen=True):
    """The desktop's own disk tool, if there is one, and its name for the drive."""

    name: str
    device: str


class Known(Struct, frozen=True):
    """The known folder of a library, and how the other one differs.

    ``differs`` is "" until that is known.
    """

    drive: str
    path: str
    differs: str


def offers(shelf: Shelf, service: bool, has_folder: bool) -> list[Offer]:
    """The possible actions on a drive, the next sensible one first. Pure.

    Args:
        service: the system's drive service answers.
        has_folder: it has a folder for libraries, or libraries.
    """
    drive, found = shelf.drive, list[Offer]()
    if not drive.mounted:
        if not service:
            return []
        return [Offer(Deed.MOUNT, tr("Mount it"), True), Offer(Deed.REMOVE, tr("Switch it off"))]
    if not drive.connected:
        return []
    if not drive.read_only and not has_folder and not drive.system:
        found.append(Offer(Deed.FOLDER, tr("Make a folder for libraries on it"), True))
    if shelf.former and any(f.mount != drive.mount for f in shelf.former):
        found.append(Offer(Deed.RETURNED, tr("Update old paths"), not found))
    found.append(Offer(Deed.LOOK, tr("Look for libraries on it")))
    if not drive.read_only:
        found.append(Offer(Deed.MEASURE, tr("Measure its speed")))
    found.append(Offer(Deed.SUITS, tr("Which file system would suit?")))
    if shelf.group == "connected" and (service or drive.stand_in):
        found.append(Offer(Deed.REMOVE, tr("Remove it safely")))
    return found


def library_rows(shelf: Shelf) -> list[tuple[str, str, str]]:
    """``(name, size, kind)`` of everything on a drive. Pure."""
    return [
        (shown(s.name), size(s.size) if s.summary else "", s.standing_words)
        for s in shelf.standings
    ]


def _whole(s: OnShelf) -> str:
    """The full text of a row: name, path, and when it was last seen or verified."""
    when = moment(s.surveyed_at) if s.surveyed_at else ""
    lines = [shown(s.name), shown(str(s.root))]
    if when:
        lines.append(
            tr("looked at {when}", when=when) if s.home else tr("verified {day}", day=when)
        )
    return "\n".join(lines)


class DrivePage:
    """Shows drives in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self.table: QTableWidget | None = None

    def show(
        self, shelf: Shelf, service: bool, has_folder: bool, do: DoDeed, news: str = ""
    ) -> None:
        """Everything about one drive.

        Args:
            news: the result of the last action.
        """
        panel, drive = self._panel, shelf.drive
        under = " · ".join(
            filter(None, (file_system_words(drive), transport_words(drive), built_words(drive)))
        )
        panel.begin(shown(drive.label), under)
        if news:
            panel.add(label(news, well=True))
        self._state(shelf, service)
        for flag in flags(drive, shelf.character):
            panel.add(label(flag, wrong=bool(drive.errors or drive.ambiguous)))
        if drive.connected:
            panel.space(4)
            panel.add(
                FullBar(
                    drive.full,
                    tr("{percent} full", percent=percent(drive.full)),
                    tr("{size} free", size=size(drive.free)),
                )
            )
        if shelf.standings:
            panel.head(tr("Libraries on it"))
            self._table(shelf)
        panel.head(tr("What it can hold"))
        for words in filter(None, (*rules_in_words(drive.rules), rules_known_by(drive))):
            panel.add(label(words, quiet=True))
        self._speed(shelf)
        for former in shelf.former[:3]:
            until = day(former.until)
            panel.add(
                label(
                    tr(
                        "Was {label} at {mount} until {until}.",
                        label=shown(former.label),
                        mount=shown(str(former.mount)),
                        until=until,
                    ),
                    quiet=True,
                )
            )
        panel.end(*self._buttons(offers(shelf, service, has_folder), do))

    def show_buttons(self, shelf: Shelf, service: bool, has_folder: bool, do: DoDeed) -> None:
        """Shows only the buttons again, when the possible actions are known."""
        self._panel.change_buttons(*self._buttons(offers(shelf, service, has_folder), do))

    def _state(self, shelf: Shelf, service: bool) -> None:
        drive, panel = shelf.drive, self._panel
        if drive.silent:
            panel.add(
                label(
                    tr(
                        "It does not answer. Fascis does not use it until it does. "
                        "Check the cable, or unplug it and connect it again."
                    )
                )
            )
        elif not drive.mounted:
            panel.add(label(tr("It is plugged in and not mounted.")))
            if not service:
                panel.add(
                    label(
                        tr(
                            "Mount it with your file manager: the system's service for drives "
                            "does not answer."
                        )
                    )
                )
        elif not drive.connected:
            panel.add(
                label(
                    tr(
                        "It is away, {state_words}. What is known about it is kept here.",
                        state_words=state_words(drive, shelf.seen_at),
                    )
                )
            )

    def _speed(self, shelf: Shelf) -> None:
        self._panel.head(tr("How fast it is"))
        if shelf.speed:
            write, read, at = shelf.speed
            when = day(at)
            self._panel.add_row(
                tr("Writes"),
                tr("{write}{nbsp}MB/s", write=f"{write:.0f}", nbsp=NBSP),
                tr("measured {when}", when=when),
            )
            self._panel.add_row(tr("Reads"), tr("{read}{nbsp}MB/s", read=f"{read:.0f}", nbsp=NBSP))
        else:
            self._panel.add(
                label(
                    tr("Not measured yet; a crossing's own figures are remembered too."), quiet=True
                )
            )

    def _table(self, shelf: Shelf) -> None:
        rows = library_rows(shelf)
        table = QTableWidget(len(rows), 3)
        table.setAccessibleName(tr("Libraries on this drive"))
        table.setHorizontalHeaderLabels([tr("Library"), tr("Size"), ""])
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setWordWrap(False)
        for r, row in enumerate(rows):
            for c, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setToolTip(tip(_whole(shelf.standings[r])))
                if c == 1:
                    item.setTextAlignment(
                        Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
                    )
                table.setItem(r, c, item)
        header, upright = table.horizontalHeader(), table.verticalHeader()
        assert header and upright
        upright.hide()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.ResizeToContents)
        table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        table.setFixedHeight(30 + 30 * min(len(rows), 8))
        self.table = table
        self._panel.add(table)

    @staticmethod
    def _buttons(made: Sequence[Offer], do: DoDeed) -> list[QPushButton]:
        return [button(o.words, partial(do, o.deed), main=o.main) for o in made]

    # -- inner pages -------------------------------------------------------------------------------

    def show_suits(
        self, library: str, found: Sequence[Suits], tools: Tools, back: Do, open_tool: Do
    ) -> None:
        """Which file systems would suit a library, and what each costs.

        Nothing is formatted from here.
        """
        tool, device = tools.name, tools.device
        panel = self._panel
        under = tr("Formatting empties a drive; Fascis formats nothing itself.")
        if library:
            under = f"{tr('For {library}.', library=library)} {under}"
        panel.begin(tr("Which file system?"), under)
        first = recommended(list(found)) if library else None
        if first is not None:
            panel.head(tr("{file_system} suits it best", file_system=first.choice.name))
            panel.add(label(tr("It {holds}.", holds=first.verdict)))
            panel.add(label(first.choice.good))
            panel.add(label(first.choice.cost, quiet=True))
        others = QWidget()
        down = QVBoxLayout(others)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(4)
        for s in found:
            if s is not first:
                self._suits(down, s, bool(library))
        if first is not None:
            others.hide()
            turn = partial(_turn, others)
            fold = button(tr("The other file systems ▸"), turn, link=True)
            panel.space(8)
            panel.add(fold)
        panel.add(others)
        if device:
            panel.add(
                label(
                    tr("In the disk tool the drive is called {device}.", device=device), quiet=True
                )
            )
        if not tool:
            panel.add(
                label(tr("No disk tool of this desktop was found; open yours by hand."), quiet=True)
            )
        opened = [button(tr("Open {tool}", tool=tool), open_tool, main=True)] if tool else []
        panel.end(*opened, button(tr("Back to the drive"), back, main=not tool))

    @staticmethod
    def _suits(down: QVBoxLayout, s: Suits, library: bool) -> None:
        """One file system, and its consequences."""
        head = f"{s.choice.name}: {s.verdict}" if library else s.choice.name
        down.addWidget(label(head, head=True))
        down.addWidget(label(s.choice.good))
        down.addWidget(label(s.choice.cost, quiet=True))
        for p in s.problems[:3]:
            down.addWidget(label(f"– {p.sentence}", quiet=True))

    def show_taking_part(self, label_: str, library: str, back: Do, remove: Do) -> None:
        """The drive takes part in the running crossing: that must be stopped first."""
        panel = self._panel
        panel.begin(
            tr("{label} takes part in a crossing", label=label_),
            tr("{library} is crossing, and needs this drive.", library=library),
        )
        panel.add(
            label(
                tr(
                    "If it is stopped first, what is verified is kept, and it can go on when "
                    "the drive is back. The originals are untouched."
                )
            )
        )
        panel.end(
            button(tr("Keep it connected"), back, main=True),
            button(tr("Stop the crossing, then remove it"), remove),
        )

    def show_another(self, s: OnShelf, drive: str, known: Known | None, back: Do, add: Do) -> None:
        """A library that is new here, or another folder of a known one.

        Shows home, date and differences.

        Args:
            known: for another folder, the known facts about that library.
        """
        assert s.says
        panel, identity = self._panel, s.says.identity
        new = tr("new on this computer")
        another = tr("another folder of a library that is known")
        panel.begin(
            shown(s.name),
            tr("on {drive} · {value}", drive=drive, value=new if s.offered else another),
        )
        panel.add_row(tr("Stands at"), "", shown(str(s.root)))
        home = tr("here") if s.says.at_home else shown(identity.home.path)
        panel.add_row(tr("Its home"), "", tr("{home}, as its own file says", home=home))
        if identity.history:
            last = max(identity.history, key=lambda h: h.when)
            panel.add_row(
                tr("Last crossing"),
                "",
                tr(
                    "{when}, from {from_}",
                    when=moment(last.when.timestamp()),
                    from_=shown(last.from_),
                ),
            )
        panel.add_row(tr("Crossings in its history"), str(len(identity.history)))
        if known is not None:
            panel.add_row(
                tr("The known one"),
                "",
                tr("on {drive}, {path}", drive=known.drive, path=known.path),
            )
            panel.add_row(tr("What differs"), "", known.differs or tr("being looked at …"))
            panel.add(
                label(
                    tr(
                        "Nothing was changed. The home on this computer is the one "
                        "that the others are copies of."
                    ),
                    quiet=True,
                )
            )
            panel.end(
                button(tr("Keep the known one as home"), back, main=True),
                button(tr("Make this one home on this computer"), add),
            )
        else:
            panel.add(
                label(
                    tr(
                        "What its file says is not proven. Adding it reads it and "
                        "writes nothing into it."
                    ),
                    quiet=True,
                )
            )
            panel.end(button(tr("Add it"), add, main=True))


def _turn(widget: QWidget) -> None:
    """Folds and unfolds the rest."""
    widget.setVisible(not widget.isVisible())
