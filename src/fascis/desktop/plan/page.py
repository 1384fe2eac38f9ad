"""The plan in the side panel: a sentence with choices, totals, and decisions.

Everything belongs to one plan. While a newer one is made, the figures are replaced by a note.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace
from PyQt6.QtCore import QObject, Qt, QTimer
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFrame,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import (
    Choice,
    freed_sentence,
    kept_sentence,
    plan_sentence,
    ready_sentence,
)
from fascis.desktop.kit.decisions import DecisionActions, Decisions, first_words, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, label, row, tip
from fascis.desktop.kit.sentence import Piece, SentenceView
from fascis.desktop.plan.choosing import Around, ChoiceActions, Choosing
from fascis.files.names import elided, shown
from fascis.words.figures import size
from fascis.words.speech import tr, trn

# A name is applied this long after the last key.
_TYPED_MS = 300
_MOST_KEPT = 200


class PlanActions(Struct, frozen=True):
    """The possible actions on a plan."""

    choices: ChoiceActions
    open: Callable[[Choice | None], None]
    decisions: DecisionActions
    start: Do
    back: Do


class PlanPage(QObject):
    """Shows plans in a side panel, and reports every choice."""

    def __init__(self, panel: SidePanel) -> None:
        super().__init__(panel)
        self._panel = panel
        self._typed: str | None = None
        self._give: Callable[[str], None] | None = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_TYPED_MS)
        self._soon.timeout.connect(self.commit)
        self._decisions = Decisions(panel)
        self._kept = False
        self._box: QWidget | None = None
        self._figures: list[QLabel] = []
        self._wants_first = False

    # -- what is shown -----------------------------------------------------------------------------

    def show(self, plan: Plan, around: Around, actions: PlanActions) -> None:
        """Shows the plan; the focus stays where it was."""
        focus = self._focus()
        self._panel.begin_plain(tr("Plan"))
        self._panel.remember(self)
        if around.news:
            self._panel.add(label(around.news, wrong=True))
        self._sentence(plan, around, actions)
        self._figures = []
        self._summary(plan, around)
        if around.waits:
            self.wait()
        waiting = open_decisions(plan.problems, around.accepted)
        self._decisions.show(plan.problems, plan.choices, around.accepted, actions.decisions)
        self._end(waiting, around, actions)
        self._focus_again(focus)

    def wait(self) -> None:
        """A choice was made: the page still shows the previous plan."""
        if not self._panel.shows(self):
            return
        for at, figure in enumerate(self._figures):
            figure.setText(tr("Working out what that changes…") if at == 0 else "")

    def _sentence(self, plan: Plan, around: Around, actions: PlanActions) -> None:
        pieces = [Piece(r.text, r.choice or "") for r in plan_sentence(plan).runs]
        opened = around.opened or ""

        def pressed(key: str) -> None:
            actions.open(None if key == opened else Choice(key))

        self._panel.add(SentenceView(pieces, pressed, opened))
        self._panel.space(4)
        self._box = None
        if around.opened is None:
            return
        self._give = actions.choices.name
        choices = _with_name(actions.choices, self._type)
        self._box = box = Choosing(plan, around, choices).box(around.opened)
        self._panel.add(box)
        field = box.findChild(QLineEdit)
        if field is not None:
            if self._typed is not None:
                field.setText(self._typed)
            field.returnPressed.connect(self.commit)
        self._panel.space(4)

    def _summary(self, plan: Plan, around: Around) -> None:
        ready = label(ready_sentence(plan), head=True)
        freed = label(freed_sentence(plan), quiet=True)
        self._figures = [ready, freed]
        for made in self._figures:
            self._panel.add(made)
        if around.busy:
            self._panel.add(label(around.busy, quiet=True))
        if kept := kept_sentence(plan):
            link = button(kept, self._fold_kept, link=True)
            link.setProperty("quiet", True)
            link.setText(elided(kept, 50))
            link.setToolTip(tip(kept))
            self._panel.add(link)
            self._kept_list = self._kept_box(plan)
            self._kept_list.setVisible(self._kept)
            self._panel.add(self._kept_list)

    def _kept_box(self, plan: Plan) -> QWidget:
        """Copied files that stay here too: name, size, and who needs them."""
        made = QFrame()
        made.setObjectName("card")
        down = QVBoxLayout(made)
        down.setContentsMargins(12, 8, 12, 8)
        down.setSpacing(3)
        kept = plan.kept_for_others()
        for one in kept[:_MOST_KEPT]:
            users = tr("needed by {users}", users=elided(shown(", ".join(one["used_by"])), 60))
            name = elided(shown(one["path"]).rpartition("/")[2], 28)
            line = row(name, size(one["bytes"]), users)
            line.setToolTip(tip(shown(one["path"])))
            down.addWidget(line)
        if len(kept) > _MOST_KEPT:
            more = trn("and {n} more", "and {n} more", len(kept) - _MOST_KEPT)
            down.addWidget(label(more, quiet=True))
        return made

    def _fold_kept(self) -> None:
        self._kept = not self._kept
        self._kept_list.setVisible(self._kept)

    # -- the buttons -------------------------------------------------------------------------------

    def _end(self, waiting: list[Problem], around: Around, actions: PlanActions) -> None:
        back = button(tr("Back"), actions.back, back=True)
        if waiting:
            first = button(first_words(waiting), self._decisions.first, main=True)
            self._panel.end(first, back)
            return
        words = tr("Add it to the queue") if around.busy else tr("Start the crossing")
        self._panel.end(button(words, actions.start, main=True), back)

    # -- the name that is typed --------------------------------------------------------------------

    def _type(self, name: str) -> None:
        self._typed = name
        self._soon.start()

    def commit(self) -> None:
        """Applies the typed text now."""
        self._soon.stop()
        name, self._typed = self._typed, None
        if name is not None and self._give is not None:
            self._give(name)

    def forget(self) -> None:
        """Another plan starts: everything is folded, nothing typed."""
        self._soon.stop()
        self._typed, self._kept = None, False
        self._decisions.forget()

    # -- focus -------------------------------------------------------------------------------------

    def focus_choice(self) -> None:
        """Focuses the first control of the choice that just opened."""
        self._wants_first = True

    def _focus(self) -> tuple[type[QWidget], str, int] | None:
        """The focused control, by its kind and name; for a field also the cursor."""
        focus = QApplication.focusWidget()
        if focus is None or not self._panel.isAncestorOf(focus):
            return None
        at = focus.cursorPosition() if isinstance(focus, QLineEdit) else 0
        return type(focus), focus.accessibleName(), at

    def _focus_again(self, before: tuple[type[QWidget], str, int] | None) -> None:
        if self._wants_first:
            self._wants_first = False
            kinds = (QLineEdit, QAbstractButton, QComboBox)
            inside: list[QWidget] = self._box.findChildren(QWidget) if self._box else []
            controls = [w for w in inside if isinstance(w, kinds)]
            first = next((w for w in controls if _chosen(w)), next(iter(controls), None))
            if first is not None:
                first.setFocus(Qt.FocusReason.TabFocusReason)
                if isinstance(first, QLineEdit):
                    first.selectAll()
            return
        if before is None:
            return
        kind, name, at = before
        alike: list[QWidget] = self._panel.findChildren(kind)
        # Earlier widgets are hidden, and removed a moment later.
        there = (w for w in alike if w.isVisibleTo(self._panel))
        again = next((w for w in there if w.accessibleName() == name), None)
        if again is None:
            return
        again.setFocus(Qt.FocusReason.OtherFocusReason)
        if isinstance(again, QLineEdit):
            again.setCursorPosition(at)


def _chosen(widget: QWidget) -> bool:
    """True for the control of a choice from which a person would start."""
    if isinstance(widget, QAbstractButton):
        return widget.isEnabled() and (widget.isChecked() or not widget.isCheckable())
    return True


def _with_name(actions: ChoiceActions, name: Callable[[str], None]) -> ChoiceActions:
    return replace(actions, name=name)
