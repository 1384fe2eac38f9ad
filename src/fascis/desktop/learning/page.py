"""What was learnt of a document, with examples, and one question, in the side panel."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, label, rule
from fascis.documents.learned.search import Left
from fascis.files.names import elided, shown
from fascis.library.learning.learnt import Field, Learnt
from fascis.library.learning.proposing import Proposal
from fascis.words.figures import listed, number
from fascis.words.speech import tr, trn

_MOST_LEFT = 4
_LONGEST = 60


class LearningActions(Struct, frozen=True):
    """The possible actions.

    Attributes:
        read: examines one of the documents.
        yes: confirms the fields; ``take`` is the number of one with equal content.
        back: leaves it unchanged.
    """

    read: Callable[[Path], None]
    yes: Do
    take: Callable[[int], None]
    back: Do


class ToRead(Struct, frozen=True):
    """A document that is not understood: the reason, and what was found in it."""

    document: Path
    why: str
    proposal: Proposal | None

    @property
    def sentence(self) -> str:
        """The sentence about it before it is read."""
        one = self.proposal
        if one is None:
            return f"{self.why[:1].upper()}{self.why[1:]}.".replace("..", ".")
        if one.asks:
            return tr(
                "{count} of {count_2} paths that it keeps were found.",
                count=number(one.found),
                count_2=number(one.values),
            )
        return one.why


class LearningPage:
    """Shows documents of unknown make in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel

    def show_documents(
        self, name: str, documents: Sequence[ToRead], actions: LearningActions
    ) -> None:
        """The documents of a library, why each is not understood, and what was found in it."""
        panel = self._panel
        panel.begin(
            shown(name),
            trn(
                "{n} document is not understood: what it refers to is not known.",
                "{n} documents are not understood: what they refer to is not known.",
                len(documents),
            ),
        )
        for one in sorted(documents, key=lambda d: not (d.proposal and d.proposal.asks)):
            panel.add(label(shown(one.document.name), head=True))
            panel.add(label(one.sentence, quiet=True))
            words = tr("Read {name}…", name=elided(shown(one.document.name), 30))
            panel.add(button(words, lambda d=one.document: actions.read(d), link=True))  # type: ignore[misc]
        if not documents:
            panel.add(label(tr("Every document is understood."), head=True))
        panel.end(button(tr("Back"), actions.back, back=True))

    def show_learnt(self, learnt: Learnt, actions: LearningActions) -> None:
        """The result for one document."""
        panel, name = self._panel, shown(learnt.document.name)
        panel.begin(name, tr("This format is not known here. Nothing was changed."))
        for found in learnt.fields:
            self._tell_field(found)
        for left in learnt.left[:_MOST_LEFT]:
            panel.add(label(_left_words(left), quiet=True))
        if learnt.verdict == "refused" or not learnt.fields:
            panel.add(
                label(tr("It stays as it is. {why}", why=learnt.why), wrong=bool(learnt.fields))
            )
            panel.end(button(tr("Back"), actions.back, main=True, back=True))
            return
        if learnt.why:
            panel.add(label(learnt.why))
        self._ask(learnt, actions)

    def _tell_field(self, found: Field) -> None:
        panel = self._panel
        panel.head(_sentence(found))
        dead = found.values - found.found
        figures = {"count": number(found.found), "of": number(found.values)}
        if dead:
            words = tr(
                "{count} of {of} lead to media, {dead} lead nowhere.", dead=number(dead), **figures
            )
        else:
            words = tr("{count} of {of} lead to media.", **figures)
        panel.add(label(words))
        for written, leads in found.examples:
            panel.add(label(elided(shown(written), _LONGEST), quiet=True))
            panel.add(label("→ " + elided(shown(leads), _LONGEST)))
            panel.add(rule())
        if found.dead:
            panel.add(
                label(
                    tr("Leads nowhere: {dead}", dead=elided(shown(found.dead), _LONGEST)),
                    quiet=True,
                )
            )

    def _ask(self, learnt: Learnt, actions: LearningActions) -> None:
        panel = self._panel
        contested = [(n, f) for n, f in enumerate(learnt.fields) if f.contested_by]
        leave = button(tr("Leave it as it is"), actions.back)
        if not contested:
            panel.add(
                label(tr("Are these the places where this document keeps its media?"), head=True)
            )
            panel.end(button(tr("Yes, these are the places"), actions.yes, main=True), leave)
            return
        panel.add(label(tr("Two places say the same. Which does its program follow?"), head=True))
        for n, one in contested:
            words = tr("It follows {column}", column=_column(one))
            panel.add(button(words, lambda n=n: actions.take(n), link=True))  # type: ignore[misc]
        panel.end(button(tr("I don't know: leave it as it is"), actions.back, main=True))


def _column(found: Field) -> str:
    """The name of a field for people: the names in the document."""
    names = [p.column.rpartition("/")[2].strip("@") for p in found.reading.pieces]
    told = [shown(n) for n in dict.fromkeys(names) if n]
    if not told:
        return tr("its lines")
    return listed(told)


def _sentence(found: Field) -> str:
    pieces = len(found.reading.pieces)
    column = _column(found)
    if pieces > 1:
        told = tr("It keeps each file in {n} parts: {column}", n=number(pieces), column=column)
    else:
        told = tr("It keeps each file: {column}", column=column)
    if found.reading.from_folder:
        return tr("{told}, counted from the document's folder", told=told)
    return told


def _left_words(left: Left) -> str:
    name = shown(left.column.rpartition("/")[2].strip("@"))
    return tr(
        "Looks like a path and will be left: {name} ({alive} of {values} exist).",
        name=name,
        alive=left.alive,
        values=left.values,
    )
