"""A split in the side panel: the new libraries, and what happens to the rest."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct
from PyQt6.QtWidgets import QCheckBox, QRadioButton, QVBoxLayout, QWidget

from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.split import SplitPlan
from fascis.desktop.kit.decisions import DecisionActions, Decisions, first_words, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, in_lines, label
from fascis.files.names import elided, shown
from fascis.words.figures import size
from fascis.words.speech import tr, trn


class SplitPage:
    """Shows the result of splitting a library."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self._decisions = Decisions(panel)

    def show_split(self, split: SplitPlan, draft: SplitDraft, actions: SplitActions) -> None:
        """The new libraries side by side, with their sizes and the files in none of them."""
        panel = self._panel
        drive = split.plans[0].destination_drive if split.plans else None
        there = shown(drive.label) if drive else tr("there")
        panel.begin(tr("Split"), f"{shown(draft.name)} → {there}, {shown(draft.folder)}")
        panel.head(trn("{n} new library", "{n} new libraries", len(split.plans)))
        for plan in split.plans:
            files = trn("{n} file", "{n} files", plan.totals.files)
            panel.add_row(elided(shown(plan.name), 26), size(plan.totals.bytes), files)
        twice = split.parts_bytes + split.stays_bytes - split.before_bytes
        panel.head(tr("Together"))
        panel.add_row(tr("Now"), size(split.before_bytes))
        panel.add_row(tr("The new ones"), size(split.parts_bytes))
        if twice > 0:
            panel.add(
                label(
                    tr("{size} of it is used by several, and goes into each.", size=size(twice)),
                    quiet=True,
                )
            )
        if split.stays_files:
            panel.add_row(
                tr("Not in any of them"),
                size(split.stays_bytes),
                trn(
                    "{n} file stays where it is", "{n} files stay where they are", split.stays_files
                ),
            )
        if split.stays_files or draft.rest:
            rest = QCheckBox(in_lines(tr("Make a library of the rest too")))
            rest.setChecked(draft.rest)
            rest.toggled.connect(actions.rest)
            panel.add(rest)
        panel.head(tr("Home and originals"))
        panel.add(self._after(draft, actions))
        choices = Choices()
        self._decisions.show(split.problems, choices, draft.accepted, actions.decisions)
        waiting = open_decisions(split.problems, draft.accepted)
        if waiting:
            main = button(first_words(waiting), self._decisions.first, main=True)
        else:
            main = button(tr("Start the split"), actions.start, main=True)
        panel.end(main, button(tr("Back"), actions.back, back=True))

    def _after(self, draft: SplitDraft, actions: SplitActions) -> QWidget:
        made = QWidget()
        down = QVBoxLayout(made)
        down.setContentsMargins(0, 0, 0, 0)
        for after, words in (
            (After.COPY, tr("Home stays here; these are copies")),
            (After.KEEP, tr("Home goes to them; originals stay")),
            (After.RELEASE, tr("…then originals are deleted, after I have looked")),
        ):
            choice = QRadioButton(in_lines(words))
            choice.setChecked(draft.after is after)
            choice.toggled.connect(lambda on, a=after: actions.after(a) if on else None)
            down.addWidget(choice)
        words = tr("An original goes when every part that uses it holds it, all at the end.")
        down.addWidget(label(words, quiet=True))
        return made


class SplitDraft(Struct, frozen=True):
    """The split in progress.

    Attributes:
        name: the library's.
        folder: the folder for the new libraries.
        rest: make a library of all files in no part.
        accepted: the decisions made, by subject.
    """

    name: str
    folder: str
    rest: bool = False
    after: After = After.KEEP
    accepted: frozenset[Any] = frozenset()


class SplitActions(Struct, frozen=True):
    """The possible actions on a planned split."""

    rest: Callable[[bool], None]
    after: Callable[[After], None]
    decisions: DecisionActions
    start: Do
    back: Do
