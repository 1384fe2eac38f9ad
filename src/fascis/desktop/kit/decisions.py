"""Decisions before something starts, as cards, and information, folded."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from functools import partial
from typing import Any

from msgspec import Struct
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.answers import Answer, Turn, answers
from fascis.crossing.plan.choices import Choices
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import button, label, row, rule, tip
from fascis.files.codes import Severity
from fascis.files.names import shown
from fascis.words.figures import number
from fascis.words.speech import tr, trn


def about(problem: Problem) -> Any:
    """The subject of a decision: made once, it holds for plans with the same question."""
    return problem.code, problem.files


def open_decisions(problems: Sequence[Problem], accepted: Collection[Any]) -> list[Problem]:
    """Open decisions before a start: first the problems that stop it."""
    asked = [p for p in problems if p.severity is not Severity.NOTE]
    waiting = [p for p in asked if p.severity is Severity.STOPS or about(p) not in accepted]
    return sorted(waiting, key=lambda p: p.severity is not Severity.STOPS)


def first_words(waiting: Sequence[Problem]) -> str:
    """The main button's text while decisions are open."""
    if waiting[0].severity is Severity.STOPS:
        return tr("See what stops it")
    return trn("{n} decision first", "{n} decisions first", len(waiting))


class DecisionActions(Struct, frozen=True):
    """The results of decisions; ``able`` are the possible turns here."""

    answer: Callable[[Problem, Answer], None]
    reopen: Callable[[Problem], None]
    able: Collection[Turn] = frozenset(Turn)


class Decisions:
    """Shows the problems of a plan in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self._cards: list[QWidget] = []
        self._unfolded = False
        self._count = 0

    def show(
        self,
        problems: Sequence[Problem],
        choices: Choices,
        accepted: Collection[Any],
        actions: DecisionActions,
    ) -> None:
        """Cards for open decisions, a line for each decision made, and the rest folded."""
        waiting = open_decisions(problems, accepted)
        self._head(waiting)
        for problem in waiting:
            given = [a for a in answers(choices, problem) if a.turn in actions.able]
            card = _card(problem, given, actions)
            self._cards.append(card)
            self._panel.add(card)
        made = [p for p in problems if p.severity is Severity.DECISION and p not in waiting]
        if made:
            self._panel.head(tr("Decided, {n}", n=number(len(made))))
        for problem in made:
            self._panel.add(_decided(problem, choices, actions))
        notes = [p for p in problems if p.severity is Severity.NOTE]
        if notes:
            self._know(notes)

    def _head(self, waiting: Sequence[Problem]) -> None:
        self._cards = []
        stops = sum(p.severity is Severity.STOPS for p in waiting)
        if stops:
            self._panel.head(trn("{n} thing stops it", "{n} things stop it", stops))
        elif waiting:
            self._panel.head(tr("To decide, {n}", n=number(len(waiting))))

    def first(self) -> None:
        """Goes to the first card."""
        if not self._cards:
            return
        self._panel.show_part(self._cards[0])
        first = self._cards[0].findChild(QPushButton)
        if first is not None:
            first.setFocus(Qt.FocusReason.TabFocusReason)

    def forget(self) -> None:
        """Folds everything."""
        self._unfolded = False

    def _know(self, notes: Sequence[Problem]) -> None:
        self._panel.space(8)
        self._fold = button("", self._turn, link=True)
        self._panel.add(self._fold)
        self._folded = QWidget()
        down = QVBoxLayout(self._folded)
        down.setContentsMargins(0, 0, 0, 0)
        for problem in notes:
            down.addWidget(row(problem.sentence, "", _under(problem)))
            down.addWidget(rule())
        self._panel.add(self._folded)
        self._count = len(notes)
        self._show_fold()

    def _turn(self) -> None:
        self._unfolded = not self._unfolded
        self._show_fold()

    def _show_fold(self) -> None:
        self._folded.setVisible(self._unfolded)
        mark = "▾" if self._unfolded else "▸"
        words = tr("Good to know, {n}", n=number(self._count))
        self._fold.setText(f"{words} {mark}")
        self._fold.setAccessibleName(words)


def _under(problem: Problem) -> str:
    """Possible solutions, and the first files concerned."""
    files = "; ".join(shown(p) for p in problem.files[:2])
    if len(problem.files) > 2:
        files += " …"
    return " ".join(filter(None, (problem.remedy, files)))


def _card(problem: Problem, given: Sequence[Answer], actions: DecisionActions) -> QWidget:
    """A decision: its subject, and its answers as buttons."""
    card = QFrame()
    card.setObjectName("card")
    card.setToolTip(tip(_under(problem)))
    down = QVBoxLayout(card)
    down.setContentsMargins(12, 9, 12, 9)
    down.setSpacing(6)
    stops = problem.severity is Severity.STOPS
    down.addWidget(label(problem.sentence, wrong=stops))
    if not given and problem.remedy:
        down.addWidget(label(problem.remedy, quiet=True))
    across = QHBoxLayout()
    across.setSpacing(16)
    for answer in given:
        made = button(answer.words, partial(actions.answer, problem, answer), link=True)
        across.addWidget(made)
    across.addStretch(1)
    down.addLayout(across)
    return card


def _decided(problem: Problem, choices: Choices, actions: DecisionActions) -> QWidget:
    """A decision that was made, as a line with a way to change it."""
    accept = next(a for a in answers(choices, problem) if a.turn is Turn.ACCEPT)
    line = QWidget()
    across = QHBoxLayout(line)
    across.setContentsMargins(0, 2, 0, 2)
    words = label(f"✓ {accept.words}", quiet=True)
    words.setToolTip(tip(problem.sentence))
    across.addWidget(words, 1)
    change = button(tr("Change"), partial(actions.reopen, problem), link=True)
    change.setAccessibleName(tr("Change: {decision}", decision=accept.words))
    across.addWidget(change)
    return line
