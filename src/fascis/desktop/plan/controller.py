"""What happens at the shelves: looking, choosing, trying shelves, planning, starting."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from fascis.copies.bringing_back import ways_back
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan, make_usual_plan
from fascis.crossing.plan.plan import Plan, still_holds
from fascis.crossing.scope.catalog_folders import folders_of_catalog
from fascis.crossing.scope.named_parts import named_parts, weigh_parts
from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library, with_ties
from fascis.crossing.status.old_place import Begun, begun_again, set_aside
from fascis.crossing.status.queue import all_crossings
from fascis.desktop.copies.controller import Afterwards
from fascis.desktop.kit.notes import Notes
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.desktop.learning.controller import Learning
from fascis.desktop.plan.page import Around, PlanActions, PlanDraft, PlanPage, along_of
from fascis.desktop.plan.parts import PartsActions, PartsPage
from fascis.desktop.plan.splitting import Splitting
from fascis.desktop.shelves.drawing import Preview
from fascis.desktop.shelves.page import LibraryActions, LibraryPage, OnDisplay
from fascis.desktop.shelves.view import ShelvesView
from fascis.desktop.strands.woven import Woven, WovenStrand, weave
from fascis.documents.catalog import ENDING
from fascis.documents.registry import endings
from fascis.drives.model import Drive
from fascis.files.codes import Scope, Severity
from fascis.files.control import Control
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.library.catalogs import Cataloged, catalog_folders
from fascis.library.known.places import KnownPlaces, known_places
from fascis.library.known.recognising import Recognition
from fascis.library.known.shelves import OnShelf, Shelf, folders_in, read_shelves
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.words.figures import size
from fascis.workspace import Workspace


def _patterns() -> str:
    """Names of documents that can be a library by themselves, for a dialog of files."""
    return " ".join(f"*.{ending.decode()}" for ending in endings())


def preview_of(plan: Plan, drive: Drive) -> Preview:
    """What a shelf would become, in two lines.

    By what speaks of this drive, for what the library lacks is the same everywhere. Pure.
    """
    takes = plan.goals[0].room
    worst = [p for p in plan.problems if p.severity is Severity.STOPS]
    asks = [
        p
        for p in plan.problems
        if p.severity is Severity.DECISION and p.code.scope is Scope.DESTINATION
    ]
    if worst:
        worst.sort(key=lambda p: p.code.scope is not Scope.DESTINATION)
        return Preview(drive.uuid, "Cannot take it.", _brief(worst), takes, False)
    ready = time.strftime("%H:%M", time.localtime(time.time() + plan.estimate.seconds))
    after = 1 - (drive.free - takes) / max(drive.capacity, 1)
    if asks:
        return Preview(
            drive.uuid, f"Needs a decision. Ready at {ready}.", _brief(asks), takes, True
        )
    if drive.rules.certain or drive.rules.asked:
        fine = "every name and size is fine there"
    else:
        fine = "names and sizes are fine by its rules"
    return Preview(
        drive.uuid,
        f"Fits. {after:.0%} full after. Ready at {ready}.",
        f"{size(plan.totals.bytes)} to copy; {fine}",
        takes,
        True,
    )


def _brief(problems: list[Problem]) -> str:
    """Several problems in a line or two."""
    if all(p.brief for p in problems):
        return "; ".join(p.brief for p in problems[:3])
    return problems[0].sentence


def source_preview(plan: Plan, drive: Drive) -> Preview:
    """What becomes of the shelf it comes from, once the originals are deleted. Pure."""
    after = max(0.0, drive.full - plan.frees / max(drive.capacity, 1))
    return Preview(
        drive.uuid, f"{after:.0%} full after.", "once the originals are deleted", 0, False
    )


@dataclass(frozen=True, slots=True)
class _Looked:
    """What a look at drives and libraries found."""

    shelves: list[Shelf]
    begun: list[Begun]
    places: list[KnownPlaces]
    ways: dict[str, Path]


class Planning(QObject):
    """Connects the shelves and the side panel with the core."""

    started = pyqtSignal(object)  # Crossing
    see_crossing = pyqtSignal()
    refreshed = pyqtSignal()
    # Woven, or None when there is no plan any more.
    woven_changed = pyqtSignal(object)
    see_strands = pyqtSignal()
    # Libraries are to be looked for; the demo is to be opened.
    look_asked = pyqtSignal()
    demo_asked = pyqtSignal()
    see_relink = pyqtSignal(object)  # the library's folder
    # A library that was recognised and is not known, or another folder of one, was chosen.
    another = pyqtSignal(object)

    def __init__(
        self,
        workspace: Workspace,
        view: ShelvesView,
        panel: SidePanel,
        busy: Callable[[], str],
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self.workspace, self.view, self.panel, self._busy = workspace, view, panel, busy
        self.shelves: list[Shelf] = []
        self.draft: PlanDraft | None = None
        self.plan: Plan | None = None
        self.woven: Woven | None = None
        self._surveyed: Surveyed | None = None
        self._choices = Choices()
        # the person chose what becomes of home; until then it stays where everything is
        self._after_said = False
        self._decided = False
        self._also: Path | None = None
        self._ties: dict[bytes, bytes] = {}
        self._turn = self._looks = self._seen_look = 0
        self._wanted: Path | None = None
        self.recognition = Recognition(workspace.drives)
        self.notes = Notes()
        self.begun: list[Begun] = []
        # True while the panel says something that a look at the drives must not wipe away.
        self.tells = False
        # True while the panel shows something that is not about the shelves.
        self.held: Callable[[], bool] = lambda: False
        view.touched.connect(self._touched)
        view.chosen.connect(self._chosen)
        view.picked_up.connect(self._picked_up)
        view.put_down.connect(lambda standing, drive: self.begin_plan(standing, drive.mount))
        self._page = PlanPage(panel)
        self._parts_page = PartsPage(panel)
        self._ticked: frozenset[str] = frozenset()
        self._parts_first = False
        self.splitting = Splitting(workspace, panel, self.show_parts, self)
        self.splitting.started.connect(self._part_begun)
        view.part_put_down.connect(self.plan_part)
        view.held_over.connect(self._show_folders)
        self._page.choices_changed.connect(self._page_changed)
        self._library_page = LibraryPage(panel)
        self.afterwards = Afterwards(workspace, panel, self.show_chosen, self._one_more, self)
        self.afterwards.changed.connect(self.refresh)
        self.afterwards.started.connect(self.started)
        self.learning = Learning(workspace, panel, self._leave_learning, self)
        self.learning.confirmed.connect(self._understood)
        self.learning.proposed.connect(self._show_proposed)

    # -- looking -----------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Looks at drives and libraries again, off the interface thread.

        Of several looks at once the last counts.
        """
        self._looks += 1
        look = self._looks

        def work() -> _Looked:
            found, _ = all_crossings(self.workspace)
            try:
                parked, begun = set_aside(found), begun_again(found)
                places = known_places(self.workspace)
                ways = ways_back(found, places)
            finally:
                for c in found:
                    c.close()
            shelves = read_shelves(self.workspace, parked, self.recognition, places)
            return _Looked(shelves, begun, places, ways)

        Task(work, lambda outcome: self._refreshed(look, outcome), self)

    def _refreshed(self, look: int, outcome: Any) -> None:
        if look < self._seen_look:
            return  # a later one has been shown
        self._seen_look = look
        if isinstance(outcome, BaseException):
            self._error("The shelves cannot be shown", outcome)
            return
        before, self.shelves, self.begun = self.shelves, outcome.shelves, outcome.begun
        self.afterwards.places, self.afterwards.ways = outcome.places, outcome.ways
        self.notes.look(before, self.shelves, self.begun)
        self.view.show_notes(self.notes.shown())
        self.view.show_shelves(self.shelves, self._wanted)
        if any(s.root == self._wanted for shelf in self.shelves for s in shelf.standings):
            # A look that began before it was added does not have it yet.
            self._wanted = None
        self.refreshed.emit()
        self._search_deeper()

    def _search_deeper(self) -> None:
        """Looks deeper into drives that just appeared; what it finds stands on the shelf then."""
        new = self.recognition.unsearched([s.drive for s in self.shelves])

        def work() -> bool:
            before = {s.root for shelf in self.shelves for s in shelf.standings}
            for drive in new:
                self.recognition.search(drive)
            return any(r.root not in before for d in new for r in self.recognition.on(d))

        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException) and not isinstance(
                outcome, (FascisError, OSError)
            ):
                raise outcome
            # A drive that went away meanwhile is searched when it is back.
            if outcome is True:
                self.refresh()

        if new:
            Task(work, done, self)

    def _drive(self, uuid: str) -> Drive | None:
        return next((s.drive for s in self.shelves if s.drive.uuid == uuid), None)

    def shelf_of(self, uuid: str) -> Shelf | None:
        """The shelf of a drive."""
        return next((s for s in self.shelves if s.drive.uuid == uuid), None)

    def _touched(self) -> None:
        self.tells = False
        self.afterwards.close()
        self.learning.close()

    def _chosen(self, standing: OnShelf | None) -> None:
        held = self.tells or self.held() or self.afterwards.open or self.learning.open
        if self.draft is None and not held and self.view.isVisible():
            self.show_library(standing)

    def show_library(self, standing: OnShelf | None) -> None:
        """Shows the chosen library in the panel."""
        if standing is None:
            self.panel.show_nothing(
                "Fascis can look for the folders that hold your work, or you name one. Looking "
                "writes nothing there.",
                [
                    ("Look for libraries on this machine", self.look_asked.emit),
                    ("Add a folder…", self.ask_library),
                    ("Try it with the demo", self.demo_asked.emit),
                ],
            )
            return
        if standing.says is not None:
            self.another.emit(standing)
            return
        drive = self._drive(standing.drive)
        away = self._away_words(standing)
        best = None if away else self._best(standing)
        full = None
        if drive and standing.summary and standing.home and drive.connected:
            full = (drive.full, max(0.0, drive.full - standing.size / max(drive.capacity, 1)))
        at_home = standing.home and drive is not None and drive.connected
        actions = LibraryActions(
            plan=lambda: self.begin_plan(standing, best.mount) if best and not away else None,
            parts=lambda: self.begin_parts(standing, best.mount) if best and not away else None,
            survey=lambda: self.add_library(standing.root),
            forget=lambda: self._forget(standing),
            crossing=self.see_crossing.emit,
            strands=(lambda: self.open_strands(standing)) if at_home and best else None,
            relink=(lambda: self.see_relink.emit(standing.root)) if at_home else None,
            read=(lambda: self.learning.look(standing.root)) if at_home else None,
            readable=self.learning.asks.get(standing.root, 0),
            copies=self.afterwards.actions(standing, best is not None and not away),
        )
        library = OnDisplay(
            standing,
            drive.label if drive else "a drive that is away",
            self.afterwards.known(standing),
            full,
            best.label if best else None,
            [b.sentence for b in self.begun if b.library == standing.library],
            away,
        )
        self._library_page.show_library(library, actions)

    def _away_words(self, standing: OnShelf) -> str:
        """Says of a library whose drive is away that it is, and when the drive was last seen.

        Nothing for one that is there.
        """
        shelf = self.shelf_of(standing.drive)
        if shelf is None or shelf.drive.connected:
            return ""
        if shelf.seen_at:
            when = time.strftime("%d %b %Y, %H:%M", time.localtime(shelf.seen_at))
        else:
            when = "some time ago"
        return (
            f"{shown(shelf.drive.label)} is away, last seen {when}. Connect it to look at this "
            "library or to copy it."
        )

    def _best(self, standing: OnShelf) -> Drive | None:
        drives = [
            s.drive
            for s in self.shelves
            if s.group == "connected"
            and s.drive.connected
            and s.drive.uuid != standing.drive
            and not (s.drive.read_only or s.drive.ambiguous or s.drive.errors)
        ]
        fitting = [d for d in drives if d.free > standing.size * 1.02]
        return max(fitting, key=lambda d: (d.rules.links, d.free), default=None)

    def _forget(self, standing: OnShelf) -> None:
        self.workspace.register.forget_library(standing.id)
        self.refresh()

    def ask_library(self) -> None:
        """Asks for a library's folder."""
        folder = QFileDialog.getExistingDirectory(self.view, "The library's own folder")
        if folder:
            self.add_library(Path(folder))

    def ask_document(self) -> None:
        """Asks for a single document that is a library by itself, with what it refers to."""
        name, _ = QFileDialog.getOpenFileName(
            self.view, "A catalog, a timeline or a playlist", "", f"Documents ({_patterns()})"
        )
        if name:
            self.add_library(Path(name))

    def ask_catalog(self) -> None:
        """Asks for a folder of photos and for the name of a new catalog over it."""
        folder = QFileDialog.getExistingDirectory(self.view, "The folder of photos")
        if folder:
            name, _ = QFileDialog.getSaveFileName(
                self.view,
                "The new catalog",
                f"{folder}/{Path(folder).name}.{ENDING}",
                f"Photo catalog (*.{ENDING})",
            )
            if name:
                whole = name if name.endswith(f".{ENDING}") else f"{name}.{ENDING}"
                self.catalog(Path(whole), [Path(folder)])

    def ask_photos(self) -> None:
        """Asks for a folder of photos to add to the catalog of the chosen library."""
        chosen = self.view.selected
        if chosen and chosen.root.is_dir():
            found = sorted(chosen.root.glob(f"*.{ENDING}"))
        elif chosen:
            found = [chosen.root]
        else:
            found = []
        if len(found) != 1 or found[0].suffix != f".{ENDING}":
            self.panel.show_error(
                "No catalog is chosen",
                "Choose a library that has one catalog in its own folder. Nothing was changed.",
                [("Back to the shelves", self.back)],
            )
            return
        folder = QFileDialog.getExistingDirectory(self.view, "The folder of photos to add")
        if folder:
            self.catalog(found[0], [Path(folder)])

    def catalog(self, path: Path, folders: list[Path]) -> None:
        """Makes a catalog, or adds folders of photos to one; then looks at it as a library."""
        self._leave_plan()
        control, self.tells = Control(), True
        words = "Reading the photos. Nothing is written into them or their folders."
        self.panel.show_busy(shown(path.name), words, control.stop)

        def work() -> Cataloged:
            return catalog_folders(
                self.workspace.drives, path, folders, self.workspace.private, control
            )

        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException):
                self._error("The catalog is as it was", outcome)
                return
            inside = all(f.is_relative_to(path.parent) for f in folders)
            self.add_library(path.parent if inside else path)

        Task(work, done, self)

    def add_library(self, root: Path) -> None:
        """Surveys a folder and puts it on its shelf; an open plan is left."""
        self._look_at(root, home=False)

    def read_document(self, document: Path) -> None:
        """Looks where a document of the library that is planned keeps its paths."""
        if self.draft is not None:
            self.learning.read(self.draft.standing.root, document)

    def _leave_learning(self) -> None:
        if self.draft is not None:
            self.show_plan()
        else:
            self.show_chosen()

    def _understood(self, root: Path) -> None:
        """Documents of a library are understood that were not: it is looked at again."""
        if self.draft is not None and self.draft.standing.root == root:
            self.library_changed(root)
        else:
            self.add_library(root)

    def _show_proposed(self, root: Path) -> None:
        """It is known now what could be read in a library: its page says so, if it is shown."""
        chosen = self.view.selected
        if chosen is not None and chosen.root == root:
            self._chosen(chosen)

    def was_added(self, root: Path) -> None:
        """A library stands on its shelf that did not: it is chosen when it is seen there."""
        self._wanted, self.tells = root, False
        self.refresh()

    def make_home(self, root: Path) -> None:
        """The person's word that one folder, and no other of its library, is home here."""
        self._look_at(root, home=True)

    def _leave_plan(self) -> None:
        self.draft = self.plan = self.woven = None
        # A plan that is still being made is shown no more.
        self._turn += 1
        self.woven_changed.emit(None)

    def _look_at(self, root: Path, home: bool) -> None:
        self._leave_plan()
        control, self.tells = Control(), True
        self.panel.show_busy(
            shown(root.name), "Looking at it. Nothing is written into it.", control.stop
        )

        def work() -> Surveyed:
            surveyed = survey_library(self.workspace, root, None, control)
            stops = [p for p in surveyed.problems if p.severity is Severity.STOPS]
            if stops:
                raise FascisError(stops[0].sentence)
            key = remember(self.workspace, surveyed)
            if home:
                drive = self.workspace.drives.at(surveyed.source)
                self.workspace.register.put_library(
                    surveyed.root, drive.uuid, surveyed.name, surveyed.kind, key
                )
                remember(self.workspace, surveyed)
            return surveyed

        Task(work, self._added, self)

    def _added(self, outcome: Any) -> None:
        if isinstance(outcome, BaseException):
            self._error("This folder cannot be added", outcome)
            return
        self.was_added(outcome.root)
        self.learning.propose(outcome)

    # -- trying shelves ----------------------------------------------------------------------------

    def _picked_up(self, standing: OnShelf) -> None:
        self._turn += 1
        turn = self._turn
        drives = [s.drive for s in self.shelves if s.drive.connected]

        def work() -> tuple[Surveyed, list[Preview]]:
            surveyed = survey_library(self.workspace, standing.root)
            previews = []
            for drive in drives:
                if drive.uuid != standing.drive:
                    previews.append(
                        preview_of(
                            make_plan(self.workspace, surveyed, drive.mount, Choices()), drive
                        )
                    )
            own = next((d for d in drives if d.uuid == standing.drive), None)
            if own and drives:
                previews.append(
                    source_preview(
                        make_plan(self.workspace, surveyed, own.mount, Choices(name="x")), own
                    )
                )
            return surveyed, previews

        Task(work, lambda outcome: self._previewed(turn, outcome), self)

    def _previewed(self, turn: int, outcome: Any) -> None:
        if (
            turn == self._turn
            and self.view.picked is not None
            and not isinstance(outcome, BaseException)
        ):
            self.view.show_previews(outcome[1])

    # -- the plan ----------------------------------------------------------------------------------

    def begin_plan(self, standing: OnShelf, destination: Path) -> None:
        """Plans a crossing of a library into a folder and shows the plan."""
        self.draft, self.tells = PlanDraft(standing, destination), False
        self._after_said = self._parts_first = False
        self._choices, self._decided, self._surveyed, self._also = Choices(), False, None, None
        self.plan = self.woven = None
        self._ties = {}
        self.woven_changed.emit(None)
        self.panel.show_busy("Plan", "Looking at both places. Nothing is written.", self.back)
        self._make()

    def _one_more(self, standing: OnShelf) -> None:
        """Plans one more copy: home and originals stay as they are."""
        best = self._best(standing)
        if best is not None:
            self.begin_plan(standing, best.mount)
            self._choices_changed(Choices(after=After.COPY))

    def begin_parts(self, standing: OnShelf, destination: Path) -> None:
        """The same, and asks first which parts of it."""
        self.begin_plan(standing, destination)
        self._parts_first = True

    def open_strands(self, standing: OnShelf) -> None:
        """Opens a library: its strands, with a plan to the drive that suits it best."""
        best = self._best(standing)
        if best is not None:
            if self.draft is None or self.draft.standing.id != standing.id:
                self.begin_plan(standing, best.mount)
            self.see_strands.emit()

    def known_of(self, root: Path) -> tuple[Surveyed | None, int]:
        """The survey that the open plan was made from, if it is this library's.

        And how many files it had lost when last looked at.
        """
        mine = self.draft is not None and self.draft.standing.root == root and not self._ties
        standing = next(
            (s for shelf in self.shelves for s in shelf.standings if s.root == root and s.home),
            None,
        )
        lost = standing.summary.standing if standing and standing.summary else {}
        files = sum(lost.get(s, (0, 0))[0] for s in (Standing.MISSING, Standing.AWAY))
        return (self._surveyed if mine else None), files

    def library_changed(self, root: Path) -> None:
        """A library's documents were written anew.

        It is looked at again, and a plan of it made anew.
        """
        self.refresh()
        if self.draft is not None and self.draft.standing.root == root:
            self._surveyed = None
            self._make()

    def plan_with(self, root: Path, ties: dict[bytes, bytes]) -> bool:
        """Plans a crossing whose copy refers to what was found.

        False when there is no drive for one.
        """
        if self.draft is None or self.draft.standing.root != root:
            standing = next(
                (s for shelf in self.shelves for s in shelf.standings if s.root == root and s.home),
                None,
            )
            best = self._best(standing) if standing else None
            if standing is None or best is None:
                self.panel.show_error(
                    "There is no drive to plan a crossing to",
                    "Connect a drive that is large enough, or relink the library here. Nothing "
                    "was changed.",
                    [("Back to the shelves", self.back)],
                )
                return False
            self.begin_plan(standing, best.mount)
        self._ties = ties
        self._surveyed = None
        self._make()
        return True

    def take_in_or_out(self, strands: list[WovenStrand]) -> None:
        """Takes strands into the plan, or out of it where all of them are in it."""
        plan = self.plan
        if plan is None:
            return
        movable = [
            s
            for s in strands
            if s.key[2] not in (Standing.MISSING, Standing.AWAY) and s.key[1] is not Role.DOCUMENT
        ]
        keys = {s.key for s in movable}
        out = all(s.along_files for s in movable)
        without = plan.choices.without | keys if out else plan.choices.without - keys
        changes: dict[str, Any] = {"without": frozenset(without)}
        # What a box had taken out comes in again with its box.
        if not out:
            changes["leave_out"] = plan.choices.leave_out - {s.key[1] for s in movable}
            changes["gather"] = plan.choices.gather or any(
                s.key[2] is Standing.LOOSE for s in movable
            )
            unused = any(s.key[2] is Standing.UNUSED and not s.key[1].remakeable for s in movable)
            changes["leave_unused"] = plan.choices.leave_unused and not unused
        self._page_changed(replace(plan.choices, **changes))

    def _page_changed(self, choices: Choices) -> None:
        """A choice that is not about which parts go: these stay as they were ticked."""
        self._choices_changed(replace(choices, only=self._choices.only))

    def _choices_changed(self, choices: Choices) -> None:
        shown_after = self.plan.choices.after if self.plan else self._choices.after
        self._after_said = self._after_said or choices.after is not shown_after
        self._choices = choices
        self._make()

    def _make(self) -> None:
        draft, choices, surveyed, also, ties = (
            self.draft,
            self._choices,
            self._surveyed,
            self._also,
            self._ties,
        )
        if draft is None:
            return
        self._turn += 1
        turn, said = self._turn, self._after_said

        def work() -> tuple[Surveyed, Plan, Woven]:
            known = surveyed or with_ties(survey_library(self.workspace, draft.standing.root), ties)
            make = make_plan if said else make_usual_plan
            # A catalog's folder that lies elsewhere goes by itself.
            elsewhere = folders_of_catalog(self.workspace, known, sorted(choices.only))
            goes = elsewhere.surveyed if elsewhere else known
            wanted = replace(choices, only=elsewhere.only) if elsewhere else choices
            plan = make(self.workspace, goes, draft.destination, wanted, also)
            return known, plan, weave(goes, plan, self.workspace.drives)

        Task(work, lambda outcome: self._planned(turn, outcome), self)

    def _planned(self, turn: int, outcome: Any) -> None:
        if turn != self._turn or self.draft is None:
            return
        if isinstance(outcome, BaseException):
            self._error("This cannot be planned", outcome)
            return
        self._surveyed, self.plan, self.woven = outcome
        self.woven_changed.emit(self.woven)
        if self._parts_first:
            self._parts_first = False
            self.show_parts()
        else:
            self.show_plan()

    def show_plan(self, news: str = "") -> None:
        """Shows the plan in the panel; ``news`` is a sentence above it."""
        plan, woven = self.plan, self.woven
        if plan is None or woven is None:
            return
        actions = PlanActions(
            folder=self._ask_folder,
            start=self.start,
            back=self.back,
            decide=self._decide,
            also=self._choose_also,
            swap=self._swap,
            relink=self._relink_first,
            parts=self.show_parts,
            everything=self.take_everything,
        )
        along = along_of(woven, plan.choices.without)
        around = Around(along, self._others(plan), self._busy(), self._decided, news)
        self._page.show(plan, around, actions)

    # -- parts -------------------------------------------------------------------------------------

    def show_parts(self) -> None:
        """Shows the parts of the library that is planned, with what each brings."""
        surveyed = self._surveyed
        if surveyed is None or self.draft is None:
            return
        self._ticked = self._choices.only
        name, turn = surveyed.name, self._turn
        self.panel.show_busy(f"Parts of {shown(name)}", "Weighing them.", self.show_plan)

        def work() -> Any:
            parts = named_parts(surveyed)
            return parts, weigh_parts(surveyed, parts)

        def done(outcome: Any) -> None:
            if turn != self._turn or self.draft is None:
                return
            if isinstance(outcome, BaseException):
                self._error("The parts cannot be told", outcome)
                return
            self._parts = outcome
            self._show_ticks()

        Task(work, done, self)

    _parts: Any = None

    def _show_ticks(self) -> None:
        parts, weights = self._parts
        assert self._surveyed
        actions = PartsActions(
            tick=self._tick,
            plan=lambda: self.plan_parts(self._ticked),
            split=self._split,
            everything=self.take_everything,
            back=self.show_plan,
        )
        self._parts_page.show(self._surveyed.name, parts, weights, self._ticked, actions)

    def _tick(self, given: str) -> None:
        self._ticked = self._ticked ^ {given}
        self._show_ticks()

    def tick_part(self, given: str) -> None:
        """Ticks a part in Strands, or takes the tick away: the plan is made anew."""
        if self.plan is not None:
            self.plan_parts(self._choices.only ^ {given})

    def plan_parts(self, only: frozenset[str]) -> None:
        """Plans these parts; none is all of it."""
        if self._choices.only != only:
            self._choices_changed(replace(self._choices, only=only, name="", taken=None))
        else:
            self.show_plan()

    def take_everything(self) -> None:
        """Plans the whole library again."""
        self.plan_parts(frozenset())

    def plan_part(self, given: str, where: object) -> None:
        """A part was put on a shelf, or onto a library there: it is planned to go there."""
        if self.draft is None:
            return
        if isinstance(where, OnShelf):
            self.draft = PlanDraft(self.draft.standing, where.root)
        elif isinstance(where, Drive):
            self.draft = PlanDraft(self.draft.standing, where.mount)
        elif isinstance(where, Path):
            self.draft = PlanDraft(self.draft.standing, where)
        into = not isinstance(where, Drive)
        only = self._ticked | {given}
        self._choices_changed(replace(self._choices, only=only, name="", into=into, taken=None))

    def _show_folders(self, folder: Path) -> None:
        """Shows which folders are in one that a part is held over."""

        def done(found: Any) -> None:
            if not isinstance(found, BaseException):
                self.view.show_folders(folder, found)

        Task(lambda: folders_in(folder), done, self)

    def _split(self) -> None:
        if self._surveyed is not None and self.draft is not None:
            self.splitting.begin(self._surveyed, self.draft.destination)

    def _part_begun(self, crossing: Crossing) -> None:
        self.draft = self.plan = self.woven = None
        self.woven_changed.emit(None)
        self.started.emit(crossing)

    def _relink_first(self) -> None:
        if self.draft:
            self.see_relink.emit(self.draft.standing.root)

    def _others(self, plan: Plan) -> list[tuple[str, Path]]:
        """Drives that could take a second copy, as ``(label, folder)``.

        The chosen one is among them.
        """
        taken = {d.uuid for d in (plan.source_drive, plan.destination_drive) if d}
        found = [
            (s.drive.label, s.drive.mount)
            for s in self.shelves
            if s.drive.connected
            and s.drive.uuid not in taken
            and s.group == "connected"
            and not s.drive.read_only
        ]
        if self._also and self._also not in [p for _, p in found]:
            drive = plan.goals[-1].drive
            found.append((drive.label if drive else shown(str(self._also)), self._also))
        return found

    def _choose_also(self, folder: Path | None) -> None:
        self._also = folder
        self._make()

    def _swap(self) -> None:
        """The second copy becomes home, and the other way round."""
        if self.draft and self._also:
            self.draft, self._also = (
                PlanDraft(self.draft.standing, self._also),
                self.draft.destination,
            )
            self._make()

    def _decide(self, on: bool) -> None:
        self._decided = on
        self.show_plan()

    def _ask_folder(self) -> None:
        if self.draft is None:
            return
        folder = QFileDialog.getExistingDirectory(
            self.view, "The folder that the library will stand in", str(self.draft.destination)
        )
        if folder:
            self.choose_folder(Path(folder))

    def choose_folder(self, folder: Path) -> None:
        """Plans the same to go to another folder."""
        if self.draft is not None:
            self.draft = PlanDraft(self.draft.standing, folder)
            self._choices = replace(self._choices, taken=None)
            self._make()

    def back(self) -> None:
        """Leaves the plan."""
        self.draft = self.plan = self.woven = None
        self.woven_changed.emit(None)
        self.show_chosen()

    def show_chosen(self) -> None:
        """Shows the chosen drive, or the chosen library."""
        self.tells = False
        if self.view.drive is not None:
            self.view.drive_chosen.emit(self.view.drive)
        else:
            self.show_library(self.view.selected)

    def start(self) -> None:
        """Starts the crossing that is planned.

        Where the library is no longer as planned, shows the new plan instead.
        """
        plan, surveyed = self.plan, self._surveyed
        if plan is None or surveyed is None or plan.stopped:
            return
        decided, also, only = self._decided, self._also, self._choices.only
        self.panel.show_busy(
            "Starting", "Looking at both places once more, then writing the plan into its journal."
        )

        def work() -> Crossing | tuple[Surveyed, Plan, Woven]:
            again = with_ties(survey_library(self.workspace, surveyed.root), surveyed.ties)
            elsewhere = folders_of_catalog(self.workspace, again, sorted(only))
            goes = elsewhere.surveyed if elsewhere else again
            fresh = make_plan(self.workspace, goes, plan.asked_for, plan.choices, also, ask=True)
            if not still_holds(plan, fresh):
                return again, fresh, weave(goes, fresh, self.workspace.drives)
            return Crossing.start(self.workspace, fresh, decided=decided)

        Task(work, self._started, self)

    def _started(self, outcome: Any) -> None:
        if isinstance(outcome, BaseException):
            self._error("It did not start; nothing was written", outcome)
        elif isinstance(outcome, Crossing):
            self.draft = self.plan = self.woven = None
            self.woven_changed.emit(None)
            self.started.emit(outcome)
        else:
            self._surveyed, self.plan, self.woven = outcome
            self.woven_changed.emit(self.woven)
            self._decided = False
            self.show_plan(
                "The library, its places or what the drive says of itself changed since this plan "
                "was shown. It is made anew; nothing was copied."
            )

    def _error(self, title: str, error: BaseException) -> None:
        if not isinstance(error, FascisError):
            raise error
        self.draft, self.tells = None, True
        self.panel.show_error(title, str(error), [("Back to the shelves", self.back)])
