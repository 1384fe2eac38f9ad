"""The copies of a library in the side panel, and what is done with them."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFrame, QRadioButton, QVBoxLayout, QWidget

from fascis.copies.repairing import CANNOT, Found, Repair
from fascis.copies.verifying.verified import Verified
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import gathered_words, plan_sentence, ready_sentence
from fascis.desktop.kit.decisions import DecisionActions, Decisions, first_words, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, label, row, rule
from fascis.desktop.kit.sentence import Piece, SentenceView
from fascis.files.names import elided, shown
from fascis.files.times import date_text
from fascis.library.known.places import KnownPlaces, Place, State
from fascis.words.figures import counted, number
from fascis.words.speech import tr

# So many files are told one by one.
_MOST = 12
_STATES = {
    State.EQUAL: "equal",
    State.AHEAD: "ahead",
    State.DIFFERS: "differs",
    State.DAMAGED: "damaged",
    State.UNKNOWN: "not compared yet",
    State.AWAY: "away",
}


@dataclass(frozen=True, slots=True)
class CopyActions:
    """What a person can do about a library's copies; None for what cannot be done now.

    Attributes:
        look: compares the copies that are connected with their home.
        verify: reads the chosen place again.
        update: copies that can be brought up to date, by their folder.
        repair: good files can be taken from these places, by what their drive is called.
        back: where it can be brought back to, and doing that.
        one_more: plans one more copy.
    """

    look: Do | None = None
    verify: Do | None = None
    update: dict[Path, Do] = field(default_factory=dict)
    repair: list[tuple[str, Do]] = field(default_factory=list)
    back: tuple[Path, Do] | None = None
    one_more: Do | None = None


@dataclass(frozen=True, slots=True)
class PlanToChange:
    """What is planned to be done to a copy.

    Attributes:
        title, under: what it is.
        deed: what the main button says.
        accepted: the decisions that were made, by what each was about.
        ungather: gathered media goes back to its loose place; None where that is no question.
        said: what is to be known of it.
    """

    title: str
    under: str
    deed: str
    plan: Plan | None
    accepted: frozenset[Any] = frozenset()
    ungather: bool | None = None
    said: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class ChangeActions:
    """What a person can do with it; ``again`` plans it with or without ungathering."""

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
        """A line for each place of a library, with what can be done about it."""
        panel = self._panel
        copies = [p for p in known.copies if p.seen.what == "copy"]
        panel.head(
            counted(len(copies), "verified copy", "verified copies")
            if copies
            else "No verified copy anywhere"
        )
        panel.add_row(shown(known.home.label), "home", verified_words(known.home))
        for place in known.copies:
            if place.seen.what == "originals":
                panel.add_row(shown(place.label), "originals", "still where they were")
                continue
            panel.add(row(shown(place.label), state_words(place), verified_words(place)))
            if place.path in actions.update:
                words = f"Bring {shown(place.label)} up to date"
                panel.add(button(words, actions.update[place.path], link=True))
            panel.add(rule())
        for place in known.aside:
            since = f"since {_day(place.seen.since)}" if place.seen.since else ""
            panel.add_row(shown(place.label), "set aside", since)
        # The first of them is the main button.
        for where, repair in actions.repair[1:]:
            panel.add(button(f"Take the good files from {shown(where)}", repair, link=True))
        if actions.look:
            panel.add(button("Compare the copies with home", actions.look, link=True))
        if actions.verify:
            panel.add(button("Verify again", actions.verify, link=True))
        if actions.one_more:
            panel.add(button("Make one more copy", actions.one_more, link=True))
        if actions.back:
            before, back = actions.back
            panel.add(button(f"Bring back to {elided(str(before), 28)}", back, link=True))

    # -- what was found ----------------------------------------------------------------------------

    def show_verified(
        self, name: str, drive: str, found: Verified, repair: list[tuple[str, Do]], back: Do
    ) -> None:
        """What reading it again found."""
        panel, result = self._panel, found.found
        panel.begin(shown(name), f"on {shown(drive)}, verified just now")
        wrong = len(result.damaged) + len(result.missing)
        if found.sound:
            words = f"Sound: {counted(result.files, 'file')}, each what it was."
        elif wrong:
            words = f"{counted(wrong, 'file is', 'files are')} damaged or missing."
        else:
            count = len(found.unresolved)
            words = f"Every file is what it was. {counted(count, 'file')} used by it not there."
        panel.add(label(words, wrong=bool(wrong), head=not wrong))
        if not result.proven:
            panel.add(
                label(
                    "Read back, perhaps from memory: this drive's driver does not prove that it "
                    "was read from the drive itself.",
                    quiet=True,
                )
            )
        lists = (
            ("damaged", result.damaged),
            ("missing", result.missing),
            ("edited since", result.edited),
            ("not listed", result.unlisted),
        )
        for word, places in lists:
            self._files(word, places)
        self._files("not there", found.unresolved)
        if wrong and not repair:
            panel.add(label("No sound copy of it is connected to take the good files from."))
        takes = [
            button(f"Take the good files from {shown(where)}", do, main=n == 0)
            for n, (where, do) in enumerate(repair if wrong else [])
        ]
        panel.end(*takes, button("Back", back, main=not takes, back=True))

    def _files(self, word: str, places: list[bytes] | list[str]) -> None:
        for place in places[:_MOST]:
            self._panel.add_row(elided(shown(place), 40), word)
        if len(places) > _MOST:
            self._panel.add_row(f"and {number(len(places) - _MOST)} more", word)

    # -- repairing ---------------------------------------------------------------------------------

    def show_repair(self, name: str, where: str, found: Found, do: Do, back: Do) -> None:
        """What of a library is damaged or missing, and what the copy has of it."""
        panel = self._panel
        panel.begin("Repair", f"{shown(name)}, from {shown(where)}")
        if not found.good and not found.cannot:
            panel.add(label("Nothing of it is damaged or missing.", head=True))
            panel.end(button("Back", back, main=True, back=True))
            return
        if found.good:
            panel.head(f"Good on {shown(where)}")
        for place in list(found.good)[:_MOST]:
            word = "missing here" if place in found.missing else "damaged here"
            panel.add_row(elided(shown(place), 40), "", word)
        if len(found.good) > _MOST:
            panel.add_row(f"and {number(len(found.good) - _MOST)} more")
        if found.cannot:
            panel.head("Cannot be repaired from there")
        for place, why in list(found.cannot.items())[:_MOST]:
            panel.add_row(elided(shown(place), 40), "", CANNOT[why])
        if not found.good:
            panel.end(button("Back", back, main=True, back=True))
            return
        panel.add(
            label(
                "Each good file is checked, written beside the damaged one, read back, then put in "
                "its place. The damaged ones are kept in .fascis/before-repair.",
                quiet=True,
            )
        )
        panel.end(button("Put the good files back", do, main=True), button("Back", back, back=True))

    def show_repaired(self, act: Repair, undo: Do, back: Do) -> None:
        """What was put back."""
        panel = self._panel
        panel.begin("Repaired", shown(Path(act.root).name))
        files = counted(len(act.files), "file is what it was", "files are what they were")
        panel.add(label(f"{files}.", head=True))
        self._files("", [file.place for file in act.files])
        panel.end(
            button("Back", back, main=True, back=True), button("Take it back", undo, link=True)
        )

    # -- changing a copy ---------------------------------------------------------------------------

    def show_plan(self, change: PlanToChange, actions: ChangeActions) -> None:
        """What would change, and what is to be decided first."""
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
        """The choice of what becomes of gathered media, opened from the sentence."""
        made = QFrame()
        made.setObjectName("card")
        down = QVBoxLayout(made)
        down.setContentsMargins(12, 8, 12, 8)
        for ungather in (False, True):
            words = gathered_words(ungather)
            choice = QRadioButton(words[:1].upper() + words[1:])
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


def state_words(place: Place) -> str:
    """How a copy stands to its home, in a word or two."""
    if place.state is State.BEHIND:
        return f"{counted(place.seen.behind_files, 'file')} behind"
    if place.connected and not place.there:
        return "not there"
    return _STATES[place.state]


def verified_words(place: Place) -> str:
    """When a place was last verified, and how."""
    seen = place.seen
    if not seen.verified_at:
        return "never verified"
    when = f"verified {_day(seen.verified_at)}"
    if seen.damaged:
        when += f": {counted(seen.damaged, 'file')} damaged or missing"
    return when


def _day(at: float | None) -> str:
    if at is None:
        return ""
    if time.strftime("%Y%j", time.localtime(at)) == time.strftime("%Y%j"):
        return "today"
    return date_text(int(at * 1e9), "%d %b %Y")
