"""Relinking in the side panel.

The searched folders, folder moves as cards, the changes, and one button.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from fascis.desktop.kit.pieces import Do, Row, button, in_lines, label, row, rule, tip
from fascis.desktop.relink.controller import Relinks, short_names
from fascis.files.names import elided, shown
from fascis.files.route import Moved
from fascis.library.standing import Standing
from fascis.relink.moves import FolderMove
from fascis.words.figures import moment, number
from fascis.words.speech import tr, trn

if TYPE_CHECKING:
    from fascis.desktop.kit.panel import SidePanel

_MOST_CARDS, _MORE_CARDS = 4, 20


class RelinkActions(Struct, frozen=True):
    """The possible actions.

    Attributes:
        folder: asks for a folder to look in.
        file: asks where one file is.
        open: opens another library, by its id, with a move.
    """

    folder: Do
    file: Do
    open: Callable[[str, Moved], None]


class RelinkPage:
    """Shows :class:`Relinks` in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self._looking: Row | None = None
        self._cards = _MOST_CARDS
        self._root: Path | None = None

    def show(self, relinks: Relinks, actions: RelinkActions) -> None:
        """Everything."""
        panel = self._panel
        if relinks.surveyed:
            name = shown(relinks.surveyed.name)
        else:
            name = shown(relinks.root.name if relinks.root else "")
        panel.begin(tr("Looking in"), name)
        self._looking = None
        if self._root != relinks.root:
            self._root, self._cards = relinks.root, _MOST_CARDS
        if relinks.trouble:
            panel.add(label(relinks.trouble, wrong=True))
        if relinks.busy:
            panel.add(label(relinks.busy, quiet=True))
        self._places(relinks, actions)
        if relinks.moves():
            panel.head(tr("One decision for many"))
            moves = relinks.moves()
            for made in moves[: self._cards]:
                panel.add(self._card(relinks, made, actions))
            if len(moves) > self._cards:
                more = len(moves) - self._cards
                panel.add(
                    label(
                        tr("{count} more folder moves explain no other file.", count=number(more)),
                        quiet=True,
                    )
                )
                panel.add(
                    button(
                        tr("See {count} more", count=number(min(more, _MORE_CARDS))),
                        partial(self._see_more, relinks),
                        link=True,
                    )
                )
        if relinks.act is not None:
            self._done(relinks)
        if relinks.outcome is not None and relinks.found:
            self._what_changes(relinks)
        self._end(relinks)

    def _see_more(self, relinks: Relinks) -> None:
        self._cards += _MORE_CARDS
        relinks.changed.emit()

    def progress(self, files: int) -> None:
        """Files seen in the folder being searched now."""
        if self._looking is not None:
            self._looking.change("", tr("{count} files seen", count=number(files)))

    # -- its parts ---------------------------------------------------------------------------------

    def _places(self, relinks: Relinks, actions: RelinkActions) -> None:
        panel = self._panel
        short = short_names(relinks.known, relinks.relinking.root if relinks.relinking else b"")
        for taken in relinks.taken:
            panel.add(row(taken.words))
            panel.add(rule())
        for folder in relinks.folders:
            words = short(bytes(folder))
            if folder == relinks.looking:
                self._looking = row(words, "", tr("0 files seen"))
                panel.add(self._looking)
                panel.add(button(tr("Stop looking"), relinks.cancel, link=True))
            elif (index := relinks.indexes.get(folder)) is not None:
                seen = trn(
                    "{n} file, {seconds} s",
                    "{n} files, {seconds} s",
                    index.files,
                    seconds=f"{index.seconds:.0f}",
                )
                if index.troubles:
                    unseen = trn(
                        "{n} folder not readable", "{n} folders not readable", len(index.troubles)
                    )
                    seen = f"{seen}, {unseen}"
                panel.add(row(words, "", seen))
            else:
                panel.add(row(words, "", tr("waits its turn")))
            panel.add(rule())
        away = relinks.outcome.away if relinks.outcome else {}
        for name, files in away.items():
            panel.add(
                row(
                    tr("{name} is away", name=shown(name)),
                    "",
                    tr("it is known to have {count} of them", count=number(files)),
                )
            )
            panel.add(rule())
        if relinks.relinking is None or not relinks.relinking.lost:
            return
        looked = set(relinks.folders)
        for drive in relinks.drives:
            inside = any(f == drive.mount or drive.mount in f.parents for f in looked)
            if not inside and str(drive.mount) != "/" and not drive.read_only:
                panel.add(
                    button(
                        tr("Look on {label}", label=elided(shown(drive.label), 24)),
                        partial(relinks.look_in, Path(drive.mount)),
                        link=True,
                    )
                )
        panel.add(button(tr("Look in another folder…"), actions.folder, link=True))
        if relinks.current is not None or relinks.outcome is not None:
            panel.add(button(tr("Show where one file is…"), actions.file, link=True))

    def _card(self, relinks: Relinks, made: FolderMove, actions: RelinkActions) -> QWidget:
        short = short_names(relinks.known, relinks.relinking.root if relinks.relinking else b"")
        card = QFrame()
        card.setObjectName("card")
        down = QVBoxLayout(card)
        down.setContentsMargins(11, 9, 11, 9)
        down.setSpacing(3)
        old, new = short(made.move.old), short(made.move.new)
        said = QLabel()
        said.setTextFormat(Qt.TextFormat.PlainText)
        said.setWordWrap(True)
        said.setText(tr("{old}\nis now {new}", old=elided(old, 60), new=elided(new, 60)))
        said.setToolTip(
            tip(tr("{old}\nis now\n{new}", old=shown(made.move.old), new=shown(made.move.new)))
        )
        said.setProperty("head", True)
        down.addWidget(said)
        against = ", ".join(made.against)
        files = number(made.files)
        if against:
            words = tr("explains {count}, against it: {against}", count=files, against=against)
        else:
            words = tr("explains {count}, nothing against it", count=files)
        down.addWidget(label(words, quiet=True))
        also = relinks.outcome.also.get(made.move, []) if relinks.outcome else []
        for other in also:
            words = tr(
                "{told} lost {count} there too",
                told=elided(shown(other.told(also)), 40),
                count=number(other.files),
            )
            opened = button(words, partial(actions.open, other.library, made.move), link=True)
            opened.setToolTip(tip(shown(str(other.root))))
            down.addWidget(opened)
        across = QHBoxLayout()
        across.setSpacing(18)
        if made.accepted:
            across.addWidget(label(tr("Accepted"), quiet=True, wrap=False))
        else:
            accept = button(tr("Accept"), partial(relinks.accept, made.move), link=True)
            accept.setAccessibleName(tr("Accept: {old} is now {new}", old=old, new=new))
            across.addWidget(accept)
        refuse = button(tr("Refuse"), partial(relinks.refuse, made.move), link=True)
        refuse.setAccessibleName(tr("Refuse: {old} is now {new}", old=old, new=new))
        across.addWidget(refuse)
        across.addStretch(1)
        down.addLayout(across)
        card.setAccessibleName(
            tr("{old} is now {new}, explains {files}", old=old, new=new, files=made.files)
        )
        return card

    def _done(self, relinks: Relinks) -> None:
        act = relinks.act
        assert act is not None
        self._panel.head(tr("Relinked"))
        when = moment(act.when)
        words = trn(
            "{n} file in {documents}",
            "{n} files in {documents}",
            act.files,
            documents=trn("{n} document", "{n} documents", len(act.documents)),
        )
        self._panel.add(
            row(
                words,
                "",
                tr(
                    "{when} · each is kept beside, as it was: …before-{id}",
                    when=when,
                    id=act.id[:8],
                ),
            )
        )
        self._panel.add(button(tr("Undo: documents as before"), relinks.undo, link=True))

    def _what_changes(self, relinks: Relinks) -> None:
        panel, outcome = self._panel, relinks.outcome
        assert outcome is not None
        panel.head(tr("What changes"))
        group = QButtonGroup(panel)

        def choose(in_copy: bool, on: bool) -> None:
            if on and relinks.in_copy is not in_copy:
                relinks.in_copy = in_copy
                relinks.changed.emit()

        for in_copy, words in (
            (False, tr("the library here; each document is kept as it was before")),
            (True, tr("only the copy that a crossing makes")),
        ):
            choice = QRadioButton(in_lines(words))
            choice.setChecked(relinks.in_copy is in_copy)
            choice.toggled.connect(partial(choose, in_copy))
            group.addButton(choice)
            panel.add(choice)
        check = QCheckBox(in_lines(tr("Compare lengths and content first")))
        check.setToolTip(
            tr(
                "Reads every file that was found, as far as its length, capture time or "
                "digest is known."
            )
        )
        check.setChecked(relinks.checked)
        check.toggled.connect(relinks.check)
        panel.add(check)
        documents = trn("{n} document", "{n} documents", outcome.documents)
        panel.add(
            label(
                trn(
                    "{documents}, {n} reference. In and out points, grades and titles stay "
                    "as they are.",
                    "{documents}, {n} references. In and out points, grades and titles stay "
                    "as they are.",
                    outcome.references,
                    documents=documents,
                ),
                quiet=True,
            )
        )

    def _end(self, relinks: Relinks) -> None:
        found = relinks.found
        if relinks.relinking is not None and not relinks.relinking.lost:
            self._panel.end()
            return
        if relinks.in_copy:
            words = trn("Plan a crossing with {n} file", "Plan a crossing with {n} files", found)
        else:
            words = trn("Relink {n} file", "Relink {n} files", found)
        main = button(words if found else tr("Relink"), relinks.apply, main=True)
        if relinks.relinking:
            left = [x for x in relinks.relinking.lost if x.standing is not Standing.AWAY]
        else:
            left = []
        if left:
            nothing = tr("Nothing was found yet.")
        else:
            nothing = tr("The lost files are on a drive that is away. Connect it.")
        reason = "" if found else nothing
        reason = relinks.busy or reason
        main.setEnabled(not reason)
        if reason:
            self._panel.add_to_foot(label(reason, quiet=True))
        self._panel.end(main)
