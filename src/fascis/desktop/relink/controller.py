"""The view Relink.

Searching folders, matching, a person's decisions, applying and undoing.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library
from fascis.crossing.status.queue import crossed_away
from fascis.crossing.status.taken import Taken, taken_away
from fascis.desktop.kit.tasks import Task, post
from fascis.desktop.relink.ties import Group, groups_before, groups_of, summary
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import shown
from fascis.files.route import Moved
from fascis.relink.acts import Act, acts_of, recall
from fascis.relink.contents import Contents
from fascis.relink.index import Index, look, merge
from fascis.relink.lost import lost_of
from fascis.relink.moves import FolderMove
from fascis.relink.outcome import Candidate, Decisions, Match, State, evidence_words
from fascis.relink.relinking import AlsoLost, Relinking, also_lost, known_away
from fascis.relink.returned import old_paths, returned_moves
from fascis.words.figures import exact
from fascis.words.speech import tr
from fascis.workspace import Workspace

# Seconds between two counts of files seen.
_OFTEN = 0.1
# Milliseconds from a decision to its matching.
_SOON = 120


class Outcome(Struct):
    """One matching, ready to be shown."""

    match: Match
    groups: list[Group]
    open: list[int]
    documents: int
    references: int
    found: int
    words: tuple[str, str, str]
    also: dict[Moved, list[AlsoLost]] = field(default_factory=dict)
    away: dict[str, int] = field(default_factory=dict)


class Relinks(QObject):
    """Knows one library's lost files and the decisions about them. Views read and show."""

    changed = pyqtSignal()
    # Files seen in the folder being searched.
    progress = pyqtSignal(int)
    # Ties for the copy that a crossing makes.
    wants_copy = pyqtSignal(object)
    # The library's folder, after its documents changed.
    relinked = pyqtSignal(object)

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.indexes: dict[Path, Index] = {}  # Shared between libraries.
        self._turn, self._control, self._matching = 0, Control(), Control()
        # Changes are painted first, and quick decisions are matched together.
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_SOON)
        self._soon.timeout.connect(self._match)
        self._begun = 0
        self._clear(None)

    def _clear(self, root: Path | None) -> None:
        self.root, self.key = root, ""
        self.surveyed: Surveyed | None = None
        self.relinking: Relinking | None = None
        self.outcome: Outcome | None = None
        self.folders: list[Path] = []
        self.looking: Path | None = None
        self.expected = 0
        # Files found by a path to a drive's earlier mount point.
        self.old_paths = 0
        self.decisions = Decisions()
        self.history: list[Decisions] = []
        self.at = 0
        self.in_copy = self.checked = False
        self.act: Act | None = None
        self.trouble = ""
        self.busy = ""
        self.drives: list[Drive] = []
        self._before: list[Group] = []
        # Where drives are mounted, or were, and their labels.
        self.known: dict[bytes, str] = {}
        # Where Fascis itself took lost files.
        self.taken: list[Taken] = []

    # -- opening -----------------------------------------------------------------------------------

    def open(
        self,
        root: Path,
        decisions: Decisions | None = None,
        folders: list[Path] | None = None,
        known: Surveyed | None = None,
        expected: int = 0,
        literal: bool = False,
    ) -> None:
        """Finds a library's lost files, and starts searching for them.

        Args:
            decisions: earlier decisions; ``folders`` to search, None for the likely ones.
            known: a survey that was made for a plan just now.
            expected: how many files were lost when it was last surveyed.
            literal: ``known`` follows paths as any program does; only there, files on a drive
                mounted elsewhere count as lost.
        """
        self.cancel()
        self._clear(root)
        self.decisions, self.expected = decisions or Decisions(), expected
        self.busy = tr("Looking at what it refers to. Nothing is written.")
        self._turn += 1
        turn, control = self._turn, self._control

        def work() -> tuple[
            Surveyed, str, Relinking, list[Path], list[Drive], dict[bytes, str], Act | None
        ]:
            acts = acts_of(self.workspace)
            for trouble in acts.recover():
                if os.fsencode(root) in trouble.place:
                    raise trouble
            surveyed = known or survey_library(self.workspace, root, None, control)
            if not surveyed.survey.folders:
                raise FascisError(surveyed.problems[0].sentence)
            post(self, partial(self._draw_before, turn, groups_before(lost_of(surveyed.uses))))
            at = self.workspace.register.library_at(root) if literal else None
            key = at.id if at else remember(self.workspace, surveyed)
            relinking = surveyed.relinking(self.workspace, control)
            drives = self.workspace.drives.connected()
            self.old_paths = old_paths(surveyed.uses, returned_moves(surveyed.uses, drives))
            self.taken = taken_away(self.workspace, relinking.lost)
            copies = [t.folder for t in self.taken if not t.aside]
            where = folders or _without_inner([*copies, *first_folders(relinking, drives)])
            labels = {bytes(d.mount): d.label for d in self.workspace.register.drives()}
            labels |= {bytes(d.mount): d.label for d in drives}
            return (
                surveyed,
                key,
                relinking,
                where,
                [d for d in drives if d.connected],
                labels,
                acts.latest(key),
            )

        Task(work, lambda outcome: self._opened(turn, outcome), self)
        self.changed.emit()

    def _opened(self, turn: int, outcome: Any) -> None:
        if turn != self._turn:
            return
        self.busy = ""
        if isinstance(outcome, BaseException):
            self._fail(outcome)
            return
        self.surveyed, self.key, self.relinking, folders, self.drives, self.known, self.act = (
            outcome
        )
        if self.relinking.lost:
            self.folders = folders
            self._next()
        self.changed.emit()

    def _draw_before(self, turn: int, groups: list[Group]) -> None:
        """Lost files are drawn before the search starts."""
        if turn == self._turn and self.relinking is None:
            self._before, self.expected = groups, sum(g.files for g in groups)
            self.changed.emit()

    def _fail(self, error: BaseException) -> None:
        if not isinstance(error, FascisError):
            raise error
        self.trouble = "" if isinstance(error, Cancelled) else str(error)
        self.changed.emit()

    # -- looking -----------------------------------------------------------------------------------

    def look_in(self, folder: Path) -> None:
        """Searches another folder too, or the same one again."""
        self.indexes.pop(folder, None)
        if folder not in self.folders:
            self.folders.append(folder)
        self.trouble = ""
        if self.looking is None:
            self._next()
        self.changed.emit()

    def cancel(self) -> None:
        """Stops the search; what was found so far counts."""
        self._control.stop()
        self._matching.stop()
        self._control = Control()

    def _next(self) -> None:
        """Searches the next folder, then matches."""
        wanted = next((f for f in self.folders if f not in self.indexes), None)
        if wanted is None:
            self.looking = None
            self._match()
            return
        self.looking = wanted
        turn, control = self._turn, self._control
        last = [0.0]

        def report(files: int) -> None:
            if time.monotonic() - last[0] > _OFTEN:
                last[0] = time.monotonic()
                post(self, partial(self.progress.emit, files))

        Task(lambda: look(wanted, report, control), lambda o: self._looked(turn, wanted, o), self)

    def _looked(self, turn: int, folder: Path, outcome: Any) -> None:
        if turn != self._turn:
            return
        self.looking = None
        if isinstance(outcome, BaseException):
            self.folders.remove(folder)
            self._fail(outcome)
            if not isinstance(outcome, Cancelled):
                self._next()
            elif self.indexes:
                self._match()
            return
        self.indexes[folder] = outcome
        self._match()
        if any(f not in self.indexes for f in self.folders):
            self._next()

    # -- matching ----------------------------------------------------------------------------------

    def _match(self) -> None:
        relinking, root = self.relinking, self.root
        parts = [self.indexes[f] for f in self.folders if f in self.indexes]
        if relinking is None or root is None or not parts:
            self.changed.emit()
            return
        self._begun += 1
        begun, turn, checked = self._begun, self._turn, self.checked
        decisions, key = self.decisions, self.key
        self._matching.stop()
        control = self._matching = Control()

        def work() -> Outcome:
            match = relinking.match(merge(parts), Contents(control), decisions, checked)
            return self._outcome(relinking, match, key)

        Task(work, lambda outcome: self._matched(turn, begun, outcome), self)

    def _outcome(self, relinking: Relinking, match: Match, key: str) -> Outcome:
        lost = [x for x, s in zip(match.lost, match.state, strict=True) if s is not State.FOUND]
        changes = relinking.retargets(match)
        found, words = summary(match)
        return Outcome(
            match=match,
            groups=groups_of(match),
            open=[i for i, s in enumerate(match.state) if s is State.OPEN],
            documents=len(changes),
            references=sum(len(c.to) for c in changes),
            found=found,
            words=words,
            also=also_lost(self.workspace.register, [m.move for m in match.moves], key),
            away=known_away(
                self.workspace.register, self.workspace.drives, lost, crossed_away(self.workspace)
            ),
        )

    def _matched(self, turn: int, begun: int, outcome: Any) -> None:
        if turn != self._turn or begun != self._begun:
            return
        if isinstance(outcome, BaseException):
            self._fail(outcome)
            return
        chosen = self.current
        path = self.outcome.match.lost[chosen].path if self.outcome and chosen is not None else None
        self.outcome = outcome
        at = next(
            (n for n, i in enumerate(outcome.open) if outcome.match.lost[i].path == path), None
        )
        self.at = at if at is not None else min(self.at, max(0, len(outcome.open) - 1))
        self.changed.emit()

    # -- what a person says ------------------------------------------------------------------------

    @property
    def current(self) -> int | None:
        """The lost file in question."""
        open = self.outcome.open if self.outcome else []
        return open[self.at] if self.at < len(open) else None

    def candidates(self) -> list[Candidate]:
        """Its candidates."""
        i = self.current
        if self.outcome is not None and i is not None:
            return self.outcome.match.candidates(i)[:9]
        return []

    def next(self) -> None:
        """Asks about the next file."""
        if self.outcome and self.outcome.open:
            self.at = (self.at + 1) % len(self.outcome.open)
            self.changed.emit()

    def choose(self, number: int) -> None:
        """Chooses this candidate, counted from 1; 0 rejects all."""
        i, candidates = self.current, self.candidates()
        if i is None or self.outcome is None or number > len(candidates):
            return
        found = candidates[number - 1].path if number else None
        self._decide(chosen={**self.decisions.chosen, self.outcome.match.lost[i].path: found})
        # The next question comes at once; the matching follows.
        self.outcome.open.pop(self.at)
        self.at = min(self.at, max(0, len(self.outcome.open) - 1))
        self.changed.emit()

    def locate(self, i: int, found: Path) -> None:
        """This lost file is here: a file perhaps outside the searched folders."""
        if self.outcome is None:
            return
        if found.parent not in self.folders:
            self.folders.append(found.parent)
        self._decide(
            chosen={**self.decisions.chosen, self.outcome.match.lost[i].path: bytes(found)},
            match=False,
        )
        self._next()

    def accept(self, move: Moved) -> None:
        """Confirms a folder move."""
        self._decide(
            accepted=self.decisions.accepted | {move}, refused=self.decisions.refused - {move}
        )

    def refuse(self, move: Moved) -> None:
        """Rejects a folder move."""
        self._decide(
            refused=self.decisions.refused | {move}, accepted=self.decisions.accepted - {move}
        )

    def _decide(self, match: bool = True, **what: Any) -> None:
        self.history.append(self.decisions)
        self.decisions = replace(self.decisions, **what)
        if match:
            self._soon.start()

    def take_back(self) -> None:
        """Undoes the last decision."""
        if self.history:
            self.decisions = self.history.pop()
            self._soon.start()

    def check(self, on: bool) -> None:
        """Whether found files are read.

        Lengths, capture times, and content if a digest is known.
        """
        self.checked = on
        self._soon.start()

    def moves(self) -> list[FolderMove]:
        """Folder moves, open ones first."""
        moves = self.outcome.match.moves if self.outcome else []
        return sorted(moves, key=lambda m: (m.accepted, m.certain, -m.files))

    # -- applying ----------------------------------------------------------------------------------

    @property
    def found(self) -> int:
        """The number of found files."""
        return self.outcome.found if self.outcome else 0

    def apply(self) -> None:
        """Relinks: the library here, or the copy that a crossing makes."""
        outcome, relinking, surveyed, root = self.outcome, self.relinking, self.surveyed, self.root
        if (
            outcome is None
            or relinking is None
            or surveyed is None
            or root is None
            or self.busy
            or not self.found
        ):
            return
        if self.in_copy:
            self.wants_copy.emit(outcome.match.ties())
            return
        self.busy, self.trouble = tr("Rewriting the documents, and reading them back."), ""
        key, files = self.key, self.found

        def work() -> Act:
            done = acts_of(self.workspace).apply(
                key,
                surveyed.name,
                surveyed.source,
                files,
                relinking.retargets(outcome.match),
                relinking.known(),
            )
            remember(self.workspace, survey_library(self.workspace, root))
            return done

        self._work(work)

    def undo(self) -> None:
        """Restores the documents of the last act."""
        act, root = self.act, self.root
        if act is None or root is None or self.busy:
            return
        self.busy, self.trouble = tr("Putting the documents back as they were."), ""

        def work() -> Act:
            done = acts_of(self.workspace).undo(act.id)
            again = survey_library(self.workspace, root)
            recall(again.uses, done)
            remember(self.workspace, again)
            return done

        self._work(work)

    def groups(self) -> list[Group]:
        """What is drawn: the result, or before that the lost files of each folder."""
        return self.outcome.groups if self.outcome else self._before

    def _work(self, work: Callable[[], Act]) -> None:
        turn = self._turn
        Task(work, lambda outcome: self._worked(turn, outcome), self)
        self.changed.emit()

    def _worked(self, turn: int, outcome: Any) -> None:
        self.busy = ""
        if turn != self._turn:
            return
        if isinstance(outcome, BaseException):
            self._fail(outcome)
            return
        root = self.root
        assert root is not None
        self.open(root, self.decisions, self.folders)
        self.relinked.emit(root)


def first_folders(relinking: Relinking, drives: list[Drive]) -> list[Path]:
    """Where to search first.

    Beside the library, and in the nearest existing folders above lost files' paths.
    """
    mounts = {bytes(d.mount) for d in drives}
    wanted = [Path(os.fsdecode(relinking.root)).parent]
    nearest: dict[bytes, bytes] = {}
    for x in relinking.lost:
        if x.folder not in nearest:
            above = x.folder
            while above and not os.path.isdir(above):  # noqa: PTH112 - bytes
                above = above.rpartition(b"/")[0]
            nearest[x.folder] = above or b"/"
    wanted += [Path(os.fsdecode(f)) for f in dict.fromkeys(nearest.values())]
    away = [d.mount for d in drives if not d.connected]
    good = [
        f
        for f in dict.fromkeys(wanted)
        if (len(f.parts) > 2 or (bytes(f) in mounts and str(f) != "/"))
        and not any(f.is_relative_to(m) for m in away)
    ]
    return _without_inner(good)[:12]


def _without_inner(folders: list[Path]) -> list[Path]:
    """Folders outside all others, each once."""
    once = list(dict.fromkeys(folders))
    return [f for f in once if not any(f != other and f.is_relative_to(other) for other in once)]


def short_names(known: Mapping[bytes, str], home: bytes) -> Callable[[bytes], str]:
    """Short names of folders.

    Below their drive, with its label if it is not the library's own.

    Args:
        known: where drives are mounted, or were, and their labels.
        home: the library's folder.
    """
    mounts = sorted(
        ((mount.rstrip(b"/"), name) for mount, name in known.items()), key=lambda m: -len(m[0])
    )
    own = next((m for m, _ in mounts if (home + b"/").startswith(m + b"/")), b"")

    def short(path: bytes) -> str:
        for mount, name in mounts:
            if (path + b"/").startswith(mount + b"/"):
                inner = shown(path[len(mount) :].strip(b"/"))
                if mount == own:
                    return inner or shown(name)
                return f"{shown(name)} / {inner}".rstrip(" /")
        return shown(path)

    return short


def tells(lost_size: int, candidate: Candidate, more: Mapping[str, str]) -> list[str]:
    """Differences and equalities between what a document stores and a candidate, a line each.

    Pure.
    """
    lines = [exact(candidate.size) + _mark(candidate, "size")]
    for what in ("length", "capture time", "date of change"):  # for programs
        if what in more:
            lines.append(more[what] + _mark(candidate, what))
    rest = [
        evidence_words(d)
        for d in candidate.differs
        if d not in ("size", "length", "capture time", "date of change")  # for programs
    ]
    return lines + rest


def _mark(candidate: Candidate, what: str) -> str:
    if what in candidate.agrees:
        return " ="
    if what in candidate.differs:
        return " ≠"
    return ""
