"""The copies of a library in the side panel, and the actions on them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from PyQt6.QtWidgets import QFrame, QRadioButton, QVBoxLayout, QWidget

from fascis.copies.repairing import CANNOT, Found, Repair
from fascis.copies.verifying.verified import Verified
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import gathered_words, plan_sentence, ready_sentence
from fascis.desktop.kit.decisions import DecisionActions, Decisions, first_words, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, in_lines, label, row, rule
from fascis.desktop.kit.sentence import Piece, SentenceView
from fascis.files.names import elided, shown
from fascis.library.known.places import KnownPlaces, day_words
from fascis.words.figures import number
from fascis.words.speech import tr, trn

# The number of files that are listed.
_MOST = 12


class CopyActions(Struct, frozen=True):
    """Actions on a library's copies; None for those that are not possible now.

    Attributes:
        look: compares the connected copies with their home.
        verify: reads the chosen copy again.
        update: copies that can be updated, by their folder.
        repair: copies with good files, by the name of their drive.
        back: its earlier path, and bringing it back there.
        one_more: plans one more copy.
    """

    look: Do | None = None
    verify: Do | None = None
    update: dict[Path, Do] = field(default_factory=dict)
    repair: list[tuple[str, Do]] = field(default_factory=list)
    back: tuple[Path, Do] | None = None
    one_more: Do | None = None


class PlanToChange(Struct, frozen=True):
    """A planned change of a copy.

    Attributes:
        title, under: its heading.
        deed: the text of the main button.
        accepted: the decisions made, by subject.
        ungather: gathered media returns to its loose path; None if that is not a question.
        said: what to know about it.
    """

    title: str
    under: str
    deed: str
    plan: Plan | None
    accepted: frozenset[Any] = frozenset()
    ungather: bool | None = None
    said: list[str] = field(default_factory=list)


class ChangeActions(Struct, frozen=True):
    """The actions for it; ``again`` plans it with or without ungathering."""

    decisions: DecisionActions
    start: Do
    back: Do
    again: Callable[[bool], None] | None = None


class CopiesPage:
    """Shows them in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self._decisions = Decisions(panel)

    # -- in a library's page -----------------------------------------------------------------------

    def tell_copies(self, known: KnownPlaces, actions: CopyActions) -> None:
        """A line for each path of a library, with its actions."""
        panel = self._panel
        copies = [p for p in known.copies if p.seen.what == "copy"]
        panel.head(
            # Not "verified": each line shows its own state below.
            trn("{n} copy", "{n} copies", len(copies)) if copies else tr("There is no copy")
        )
        panel.add_row(shown(known.home.label), tr("home"), known.home.verified_words)
        for place in known.copies:
            if place.seen.what == "originals":
                panel.add_row(shown(place.label), tr("originals"), tr("still where they were"))
                continue
            panel.add(row(shown(place.label), place.state_words, place.verified_words))
            if place.path in actions.update:
                words = tr("Bring {label} up to date", label=shown(place.label))
                panel.add(button(words, actions.update[place.path], link=True))
            panel.add(rule())
        for place in known.aside:
            since = tr("since {day}", day=day_words(place.seen.since)) if place.seen.since else ""
            panel.add_row(shown(place.label), tr("set aside"), since)
        # The first of them is the main button.
        for where, repair in actions.repair[1:]:
            panel.add(
                button(
                    tr("Take the good files from {where}", where=shown(where)), repair, link=True
                )
            )
        if actions.look:
            panel.add(button(tr("Compare the copies with home"), actions.look, link=True))
        if actions.verify:
            panel.add(button(tr("Verify again"), actions.verify, link=True))
        if actions.one_more:
            panel.add(button(tr("Make one more copy"), actions.one_more, link=True))
        if actions.back:
            before, back = actions.back
            panel.add(
                button(
                    tr("Bring back to {before}", before=elided(str(before), 28)), back, link=True
                )
            )

    # -- what was found ----------------------------------------------------------------------------

    def show_verified(
        self, name: str, drive: str, found: Verified, repair: list[tuple[str, Do]], back: Do
    ) -> None:
        """The result of reading it again."""
        panel, result = self._panel, found.found
        panel.begin(shown(name), tr("on {drive}, verified just now", drive=shown(drive)))
        wrong = len(result.damaged) + len(result.missing)
        if found.sound:
            words = trn(
                "Sound: {n} file, each what it was.",
                "Sound: {n} files, each what it was.",
                result.files,
            )
        elif wrong:
            words = trn(
                "{n} file is damaged or missing.", "{n} files are damaged or missing.", wrong
            )
        else:
            count = len(found.unresolved)
            words = trn(
                "Every file is what it was. {n} file used by it not there.",
                "Every file is what it was. {n} files used by it not there.",
                count,
            )
        panel.add(label(words, wrong=bool(wrong), head=not wrong))
        if not result.proven:
            panel.add(
                label(
                    tr(
                        "Read back, perhaps from memory: this drive's driver does not "
                        "prove that the data came from the drive itself."
                    ),
                    quiet=True,
                )
            )
        lists = (
            (tr("damaged"), result.damaged),
            (tr("missing"), result.missing),
            (tr("edited since"), result.edited),
            (tr("not listed"), result.unlisted),
        )
        for word, places in lists:
            self._files(word, places)
        self._files(tr("not there"), found.unresolved)
        if wrong and not repair:
            panel.add(label(tr("No undamaged copy with the good files is connected.")))
        takes = [
            button(tr("Take the good files from {where}", where=shown(where)), do, main=n == 0)
            for n, (where, do) in enumerate(repair if wrong else [])
        ]
        panel.end(*takes, button(tr("Back"), back, main=not takes, back=True))

    def _files(self, word: str, places: list[bytes] | list[str]) -> None:
        for place in places[:_MOST]:
            self._panel.add_row(elided(shown(place), 40), word)
        if len(places) > _MOST:
            self._panel.add_row(tr("and {count} more", count=number(len(places) - _MOST)), word)

    # -- repairing ---------------------------------------------------------------------------------

    def show_repair(self, name: str, where: str, found: Found, do: Do, back: Do) -> None:
        """Damaged and missing files of a library, and those the copy has intact."""
        panel = self._panel
        panel.begin(tr("Repair"), tr("{name}, from {where}", name=shown(name), where=shown(where)))
        if not found.good and not found.cannot:
            panel.add(label(tr("Nothing in it is damaged or missing."), head=True))
            panel.end(button(tr("Back"), back, main=True, back=True))
            return
        if found.good:
            panel.head(tr("Good on {where}", where=shown(where)))
        for place in list(found.good)[:_MOST]:
            word = tr("missing here") if place in found.missing else tr("damaged here")
            panel.add_row(elided(shown(place), 40), "", word)
        if len(found.good) > _MOST:
            panel.add_row(tr("and {count} more", count=number(len(found.good) - _MOST)))
        if found.cannot:
            panel.head(tr("Cannot be repaired from there"))
        for place, why in list(found.cannot.items())[:_MOST]:
            panel.add_row(elided(shown(place), 40), "", CANNOT[why])
        if not found.good:
            panel.end(button(tr("Back"), back, main=True, back=True))
            return
        panel.add(
            label(
                tr(
                    "Each good file is checked, written beside the damaged one, read back, "
                    "then put in its place. The damaged ones are kept in "
                    ".fascis/before-repair."
                ),
                quiet=True,
            )
        )
        panel.end(
            button(tr("Put the good files back"), do, main=True),
            button(tr("Back"), back, back=True),
        )

    def show_repaired(self, act: Repair, undo: Do, back: Do) -> None:
        """The restored files."""
        panel = self._panel
        panel.begin(tr("Repaired"), shown(Path(act.root).name))
        files = trn("{n} file is what it was", "{n} files are what they were", len(act.files))
        panel.add(label(f"{files}.", head=True))
        self._files("", [file.place for file in act.files])
        panel.end(
            button(tr("Back"), back, main=True, back=True),
            button(tr("Take it back"), undo, link=True),
        )

    # -- changing a copy ---------------------------------------------------------------------------

    def show_plan(self, change: PlanToChange, actions: ChangeActions) -> None:
        """What would change, and the decisions before that."""
        panel, plan = self._panel, change.plan
        assert plan
        panel.begin_plain(change.title)
        sentence = plan_sentence(plan, change.ungather if actions.again else None)
        pieces = [Piece(r.text, r.choice or "") for r in sentence.runs]
        panel.add(SentenceView(pieces, lambda _key: self._open_gathered()))
        panel.space(4)
        panel.add(self._gathered(change, actions))
        panel.add(label(ready_sentence(plan), head=True))
        if plan.update and plan.update.facts.changed + plan.update.facts.removed:
            words = tr("What is replaced or removed is kept in the copy, in .fascis/earlier.")
            panel.add(label(words, quiet=True))
        for said in change.said:
            panel.add(label(said, quiet=True))
        self._decisions.show(plan.problems, plan.choices, change.accepted, actions.decisions)
        waiting = open_decisions(plan.problems, change.accepted)
        nothing = plan.update is not None and not plan.update.facts.changes and not plan.restores
        back = button(tr("Back"), actions.back, back=True)
        if nothing and not plan.stopped:
            panel.end(back)
        elif waiting:
            panel.end(button(first_words(waiting), self._decisions.first, main=True), back)
        else:
            panel.end(button(change.deed, actions.start, main=True), back)

    def _gathered(self, change: PlanToChange, actions: ChangeActions) -> QWidget:
        """The choice about gathered media, opened from the sentence."""
        made = QFrame()
        made.setObjectName("card")
        down = QVBoxLayout(made)
        down.setContentsMargins(12, 8, 12, 8)
        for ungather in (False, True):
            words = gathered_words(ungather)
            choice = QRadioButton(in_lines(words[:1].upper() + words[1:]))
            choice.setChecked(change.ungather is ungather)
            if actions.again:
                chosen = partial(actions.again, ungather)
                choice.toggled.connect(lambda on, do=chosen: do() if on else None)
            down.addWidget(choice)
        made.hide()
        self._choice = made
        return made

    def _open_gathered(self) -> None:
        self._choice.setVisible(not self._choice.isVisible())
        first = self._choice.findChild(QRadioButton)
        if self._choice.isVisible() and first is not None:
            first.setFocus()
