"""The choices of a plan, as they open under the sentence."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import Struct
from PyQt6.QtCore import QMimeData, QPointF, Qt
from PyQt6.QtGui import QDrag, QMouseEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QRadioButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import (
    Choice,
    library_words,
    originals_words,
    part_after_words,
    shared_words,
    where_words,
)
from fascis.crossing.scope.named_parts import NamedPart, Weight
from fascis.desktop.kit.pieces import PART_MIME, Do, button, in_lines, label, tip
from fascis.desktop.kit.words import ROLE_WORDS
from fascis.desktop.plan.along import Along
from fascis.files.names import elided, shown
from fascis.library.roles import Role
from fascis.words.figures import listed, number, size
from fascis.words.speech import tr, trn

# A longer list scrolls.
_TALLEST = 190


class Target(Struct, frozen=True):
    """A possible drive: its name, its folder, and its free space in bytes."""

    label: str
    folder: Path
    free: int


class Around(Struct, frozen=True):
    """The facts around a plan.

    Attributes:
        along: what could be copied, with figures.
        targets: possible drives.
        parts: its parts, with their contents; None if not known yet.
        ticked: the chosen parts.
        opened: the choice that is open.
        busy: why it cannot start at once; it is then queued.
        accepted: the decisions made, by subject.
        news: a sentence above it.
        waits: a newer plan is being made.
    """

    along: Along
    targets: Sequence[Target]
    parts: tuple[Sequence[NamedPart], dict[str, Weight]] | None = None
    ticked: frozenset[str] = frozenset()
    opened: Choice | None = None
    busy: str = ""
    accepted: frozenset[Any] = frozenset()
    news: str = ""
    waits: bool = False


class ChoiceActions(Struct, frozen=True):
    """The functions of the choices."""

    change: Callable[..., None]
    name: Callable[[str], None]
    tick: Callable[[str], None]
    everything: Do
    split: Do
    place: Callable[[Path], None]
    folder: Do
    also: Callable[[Path | None], None]
    swap: Do
    strands: Do


class Choosing:
    """Builds the contents of an open choice."""

    def __init__(self, plan: Plan, around: Around, actions: ChoiceActions) -> None:
        self._plan, self._around, self._do = plan, around, actions

    def box(self, choice: Choice) -> QWidget:
        """The choice in a frame of its own."""
        made = QFrame()
        made.setObjectName("card")
        down = QVBoxLayout(made)
        down.setContentsMargins(12, 10, 12, 10)
        down.setSpacing(5)
        build: dict[Choice, Callable[[], Iterable[QWidget]]] = {
            Choice.WHAT: self._what,
            Choice.WHERE: self._where,
            Choice.NAME: self._name,
            Choice.ALONG: self._along,
            Choice.SHARED: self._shared,
            Choice.HOME: self._home,
            Choice.ORIGINALS: self._originals,
        }
        for widget in build[choice]():
            down.addWidget(widget)
        return made

    # -- what, and where to ------------------------------------------------------------------------

    def _what(self) -> Iterable[QWidget]:
        plan, around = self._plan, self._around
        whole = QCheckBox(in_lines(tr("All of {library}", library=library_words(plan))))
        whole.setChecked(not around.ticked)
        whole.toggled.connect(lambda _on: self._do.everything())
        yield whole
        if around.parts is None:
            yield label(tr("Weighing its parts…"), quiet=True)
            return
        parts, weights = around.parts
        if not parts:
            yield label(tr("It has no projects and no folders of a catalog."), quiet=True)
            return
        boxes = [self._part(p, weights.get(p.given), p.given in around.ticked) for p in parts]
        yield scrolling(boxes)
        yield label(tr("A part can also be dragged to a shelf, or onto a library."), quiet=True)
        if len(parts) > 1 and not parts[0].folder:
            yield button(tr("Split by project…"), self._do.split, link=True)

    def _part(self, part: NamedPart, weight: Weight | None, ticked: bool) -> QWidget:
        """One part: its checkbox with its figure, and below it the files that others use too."""
        made = QWidget()
        down = QVBoxLayout(made)
        down.setContentsMargins(0, 3, 6, 3)
        down.setSpacing(1)
        across = QHBoxLayout()
        across.addWidget(PartBox(part, ticked, self._do.tick), 1)
        words = tr("lies elsewhere, and goes by itself")
        if weight is not None:
            words = weight_words(weight)
            across.addWidget(label(size(weight.own[1] + weight.shared[1]), wrap=False, head=ticked))
        down.addLayout(across)
        down.addWidget(label(words, quiet=True))
        return made

    def _where(self) -> Iterable[QWidget]:
        plan, around = self._plan, self._around
        group = QButtonGroup()
        others = [t for t in around.targets if t.folder != plan.asked_for]
        here = where_words(plan.asked_for, plan.destination_drive)
        drive = plan.destination_drive
        rows = [(here, plan.asked_for, drive.free if drive else 0)]
        rows += [(shown(t.label), t.folder, t.free) for t in others]
        boxes: list[QWidget] = []
        for words, folder, free in rows:
            at = folder == plan.asked_for
            choice = radio(elided(words, 26), at, partial(self._do.place, folder), group)
            choice.setToolTip(tip(shown(str(folder))))
            boxes.append(beside(choice, tr("{size} free", size=size(free)) if free else ""))
        yield scrolling(boxes)
        yield button(tr("Another folder…"), self._do.folder, link=True)
        yield from self._lands()
        if not plan.choices.into:
            yield from self._second()

    def _lands(self) -> Iterable[QWidget]:
        """As a library of its own, or into the folder.

        A whole library on a drive gets its own folder.
        """
        plan = self._plan
        drive = plan.destination_drive
        some = plan.part or plan.of_catalog or plan.choices.into
        if not some and drive and plan.asked_for == drive.mount:
            return
        group = QButtonGroup()
        folder = elided(shown(plan.asked_for.name) or tr("the drive"), 26)
        for into, words in (
            (False, tr("a library of its own there")),
            (True, tr("into {folder}, beside what is there", folder=folder)),
        ):
            choice = radio(
                words,
                plan.choices.into is into,
                partial(self._do.change, into=into, taken=None),
                group,
            )
            yield choice
        if stands := len(plan.apart.stands):
            yield label(
                trn(
                    "{n} file is there already, with the same content: it is not copied again.",
                    "{n} files are there already, with the same content: they are not copied "
                    "again.",
                    stands,
                ),
                quiet=True,
            )
        if plan.choices.taken is not None:
            yield from self._taken()

    def _taken(self) -> Iterable[QWidget]:
        """What happens to files whose name is taken there; an earlier card decided it."""
        group = QButtonGroup()
        for taken, words in (
            (Taken.RENAMED, tr("give other names where a name is taken")),
            (Taken.LEFT_OUT, tr("leave those here whose name is taken")),
        ):
            choice = radio(
                words,
                self._plan.choices.taken is taken,
                partial(self._do.change, taken=taken),
                group,
            )
            yield choice

    def _second(self) -> Iterable[QWidget]:
        """Whether a second drive gets a copy too, and which of the two becomes home."""
        plan = self._plan
        mine = plan.destination_drive
        others = [t for t in self._around.targets if mine is None or t.folder != mine.mount]
        others = [t for t in others if t.folder != plan.asked_for]
        if not others:
            return
        choice = QComboBox()
        choice.setAccessibleName(tr("Second copy"))
        choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        choice.setMinimumContentsLength(12)
        choice.addItem(tr("No second copy"), None)
        for target in others:
            choice.addItem(tr("Second copy on {drive}", drive=shown(target.label)), target.folder)
        also = plan.goals[1].path if len(plan.goals) > 1 else None
        at = next((i for i in range(choice.count()) if choice.itemData(i) == also), 0)
        choice.setCurrentIndex(at)
        choice.activated.connect(lambda i: self._do.also(choice.itemData(i)))
        yield choice
        if len(plan.goals) > 1 and (second := plan.goals[1].drive):
            words = tr("Make {drive} home", drive=elided(shown(second.label), 20))
            yield button(words, self._do.swap, link=True)

    def _name(self) -> Iterable[QWidget]:
        name = QLineEdit(shown(self._plan.name))
        name.setAccessibleName(tr("Name on the new drive"))
        name.textEdited.connect(self._do.name)
        yield name
        yield label(shown(str(self._plan.target)), quiet=True)

    # -- what is taken -----------------------------------------------------------------------------

    def _along(self) -> Iterable[QWidget]:
        """Bytes beside each choice; used files that cannot be made again are always copied."""
        plan, along = self._plan, self._around.along
        choices, change = plan.choices, self._do.change
        yield choice_box(tr("Files in its folder"), along.used, True, None)
        if along.loose[0]:
            yield choice_box(
                tr("Loose media, gathered"),
                along.loose,
                choices.gather,
                lambda on: change(gather=on),
            )
        for role, files, total in along.remakeable:
            yield self._role(role, files, total)
        if along.unused[0]:
            yield choice_box(
                tr("Unused"),
                along.unused,
                not choices.leave_unused,
                lambda on: change(leave_unused=not on),
            )
        if plan.clashing[0]:
            on = not choices.leave_clashing
            yield choice_box(
                tr("Files this drive cannot store as they are"),
                plan.clashing,
                on,
                lambda on: change(leave_clashing=not on),
            )
            renamed = len(plan.apart.files) + len(plan.apart.folders)
            words = tr("not copied; the originals are kept")
            if on:
                words = trn(
                    "copied; {n} name changes there", "copied; {n} names change there", renamed
                )
            yield label(words, quiet=True)
        if choices.without:
            words = trn(
                "{n} strand taken out, {size}: it stays here.",
                "{n} strands taken out, {size}: they stay here.",
                len(choices.without),
                size=size(along.without[1]),
            )
            yield label(words, quiet=True)
            yield button(tr("Take them again"), lambda: change(without=frozenset()), link=True)
        yield button(tr("Choose in the drawing"), self._do.strands, link=True)

    def _role(self, role: Role, files: int, total: int) -> QWidget:
        out, plan = self._plan.choices.leave_out, self._plan

        def change(on: bool) -> None:
            self._do.change(
                leave_out=out - {role} if on else out | {role},
                discard=plan.choices.discard - {role},
            )

        words = tr("{role}, remakeable", role=ROLE_WORDS[role])
        return choice_box(words, (files, total), role not in out, change)

    # -- home and originals ------------------------------------------------------------------------

    def _shared(self) -> Iterable[QWidget]:
        library, group = library_words(self._plan), QButtonGroup()
        led = self._plan.followers.led
        for shared in Shared:
            choice = radio(
                shared_words(shared, library),
                led is (shared is Shared.FOLLOWS),
                partial(self._do.change, shared=shared),
                group,
            )
            yield choice
        for follower in self._plan.followers.documents[:6]:
            words = trn(
                "{document}: {n} reference changes",
                "{document}: {n} references change",
                follower.references,
                document=elided(follower.told, 40),
            )
            yield label(words, quiet=True)

    def _home(self) -> Iterable[QWidget]:
        plan, group = self._plan, QButtonGroup()
        there = elided(where_words(plan.destination, plan.destination_drive), 22)
        moves = plan.choices.after is not After.COPY
        for after, words in (
            (After.COPY, tr("Home stays here; this is one more copy")),
            (After.KEEP, tr("Home moves to {place}", place=there)),
        ):
            now = moves is (after is After.KEEP)
            choice = radio(words, now, partial(self._do.change, after=after), group)
            yield choice

    def _originals(self) -> Iterable[QWidget]:
        """What happens to the originals, to loose ones, and to files that are not copied."""
        plan, group = self._plan, QButtonGroup()
        acts = [After.KEEP, After.PARK, After.RELEASE]
        words_of = originals_words
        if plan.part is not None:
            acts, words_of = [After.COPY, After.KEEP, After.RELEASE], part_after_words
        for after in acts:
            words = words_of(after)
            choice = radio(
                words[:1].upper() + words[1:],
                plan.choices.after is after,
                partial(self._do.change, after=after),
                group,
            )
            yield choice
        if plan.choices.after is After.PARK:
            yield label(tr("They stay on the same drive, so this frees nothing yet."), quiet=True)
        goes = plan.choices.after in (After.PARK, After.RELEASE)
        if goes and plan.gathering.items:
            yield from self._loose_too()
        if plan.choices.after is not After.COPY:
            for role, files, _ in self._around.along.remakeable:
                if role in plan.choices.leave_out:
                    yield from self._discard(role, files)

    def _loose_too(self) -> Iterable[QWidget]:
        # Whether others need them is checked after they are chosen.
        plan = self._plan
        free = [o for _, o in plan.gathering.items if o.path not in plan.shared]
        total = size(sum(o.size for o in free))
        box = QCheckBox(in_lines(tr("Also loose originals")))
        box.setChecked(plan.choices.loose_too)
        box.toggled.connect(lambda on: self._do.change(loose_too=on))
        yield box
        if plan.choices.loose_too:
            words = trn(
                "{n} file that nothing else uses, {size}",
                "{n} files that nothing else uses, {size}",
                len(free),
                size=total,
            )
        else:
            words = trn(
                "If nothing else uses it: {n} file, {size}",
                "If nothing else uses them: up to {n} files, {size}",
                len(free),
                size=total,
            )
        yield label(words, quiet=True)

    def _discard(self, role: Role, files: int) -> Iterable[QWidget]:
        """Files that are not copied stay, unless the person decides to delete them too."""
        plan = self._plan
        discard = plan.choices.discard
        words = tr("Also delete {role}, of which no copy is made", role=ROLE_WORDS[role])
        box = QCheckBox(in_lines(words))
        box.setAccessibleName(words)
        box.setChecked(role in discard)
        box.toggled.connect(
            lambda on: self._do.change(discard=discard | {role} if on else discard - {role})
        )
        yield box
        names = [elided(shown(p.rpartition(b"/")[2]), 22) for p in plan.largest.get(role, [])]
        if names:
            yield label(
                trn(
                    "{n} file, largest: {names}",
                    "{n} files, largest: {names}",
                    files,
                    names=listed(names),
                ),
                quiet=True,
            )


class PartBox(QCheckBox):
    """A part with a checkbox; it can be dragged onto a shelf or into a library."""

    def __init__(self, part: NamedPart, ticked: bool, tick: Callable[[str], None]) -> None:
        super().__init__(elided(shown(part.words), 26))
        self._given, self._pressed = part.given, QPointF()
        self.setChecked(ticked)
        self.setAccessibleName(tr("Part: {name}", name=part.words))
        self.setToolTip(tip(shown(part.place)))
        self.toggled.connect(lambda _on: tick(part.given))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """A drag may start here."""
        if event is not None:
            self._pressed = event.position()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drags the part when the pointer has moved far enough."""
        if event is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        far = (event.position() - self._pressed).manhattanLength()
        if far > QApplication.startDragDistance():
            self.setDown(False)
            drag, said = QDrag(self), QMimeData()
            said.setData(PART_MIME, self._given.encode("utf-8", "surrogateescape"))
            drag.setMimeData(said)
            drag.setPixmap(self.grab())
            drag.exec(Qt.DropAction.CopyAction)


def weight_words(weight: Weight) -> str:
    """The size of a part in words: its files, and those others use too."""
    files = weight.own[0] + weight.shared[0]
    if not weight.shared[0]:
        return trn("{n} file", "{n} files", files)
    others = listed(weight.shared_with[:2]) or tr("other documents")
    return trn(
        "{n} file; {size} of it also used by {others}",
        "{n} files; {size} of them also used by {others}",
        files,
        size=size(weight.shared[1]),
        others=elided(others, 40),
    )


# -- pieces of a choice ----------------------------------------------------------------------------


def radio(words: str, on: bool, chosen: Do, group: QButtonGroup) -> QRadioButton:
    """One of several; ``chosen`` is called when a person selects it."""
    made = QRadioButton(in_lines(words))
    made.setAccessibleName(words)
    made.setChecked(on)
    made.toggled.connect(lambda now: chosen() if now else None)
    group.addButton(made)
    if group.parent() is None:
        # It exists as long as the first of them.
        group.setParent(made)
    return made


def beside(widget: QWidget, figure: str) -> QWidget:
    """A widget with a figure at its right."""
    made = QWidget()
    across = QHBoxLayout(made)
    across.setContentsMargins(0, 2, 6, 2)
    across.addWidget(widget, 1)
    if figure:
        across.addWidget(label(figure, wrap=False, quiet=True))
    return made


def choice_box(
    words: str, figures: tuple[int, int], on: bool, change: Callable[[bool], None] | None
) -> QWidget:
    """A choice with its bytes; if it cannot be changed, with the reason."""
    files, total = figures
    box = QCheckBox(elided(words, 32))
    box.setAccessibleName(words)
    box.setChecked(on)
    box.setEnabled(change is not None)
    box.setToolTip(tip(words) if change else tr("Always copied: these files cannot be made again."))
    if change is not None:
        box.toggled.connect(change)
    made = QWidget()
    across = QHBoxLayout(made)
    across.setContentsMargins(0, 2, 0, 2)
    across.addWidget(box, 1)
    figure = label(size(total), wrap=False, head=on)
    figure.setToolTip(
        trn("{n} file, {bytes} bytes", "{n} files, {bytes} bytes", files, bytes=number(total))
    )
    across.addWidget(figure)
    return made


def scrolling(widgets: Sequence[QWidget]) -> QWidget:
    """Widgets below one another; a long list scrolls."""
    inner = QWidget()
    down = QVBoxLayout(inner)
    down.setContentsMargins(0, 0, 0, 0)
    down.setSpacing(0)
    for widget in widgets:
        down.addWidget(widget)
    wanted = inner.sizeHint().height()
    if wanted <= _TALLEST:
        return inner
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setFixedHeight(_TALLEST)
    area.setWidget(inner)
    return area
