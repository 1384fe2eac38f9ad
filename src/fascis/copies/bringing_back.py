"""Bringing a library back to its earlier path: a crossing to the old place.

Documents that nobody edited get their earlier bytes, if every reference in them resolves. If the
old place still exists, equal files there are compared as a whole and adopted; files that differ are
a decision, and are kept in ``.fascis/earlier/``.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import ExitStack, closing, suppress
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from fascis.copies.comparing import CopyTree, Place, Source, sources_of
from fascis.copies.ungathering import Ungathered, find_ungathered
from fascis.copies.updating import NOT_ASKED, copy_problems, leave_alone
from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.header import UpdateFacts
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.landing import IntoExisting
from fascis.crossing.model.problems import Problem
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan, make_usual_plan
from fascis.crossing.plan.plan import Goal, Plan, Update
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.crossing.status.queue import all_crossings, find_crossing
from fascis.files.codes import Code, Severity
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium, PosixMedium
from fascis.files.errors import Damaged, EnvironmentTrouble, Refused
from fascis.files.names import join, shown
from fascis.files.times import mtime_of
from fascis.library.identity import Identity, read_identity
from fascis.library.known.places import KnownPlaces
from fascis.library.own import OWN
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_MOST = 1000


class WayBack(Struct, frozen=True):
    """Where a library is, and where it was.

    Attributes:
        aside: where its originals are set aside, if so.
        crossing: the crossing that took it from there; empty if this computer has no journal of it.
    """

    now: Path
    before: Path
    aside: Path | None = None
    crossing: str = ""


def way_back(workspace: Workspace, now: Path) -> WayBack:
    """Finds where a library was before its last crossing.

    Raises:
        Refused: that is not on record, or it came as a part of another library.
    """
    found, _ = all_crossings(workspace)
    try:
        came = [c for c in found if _came_by(c, now)]
        if came:
            return way_of(max(came, key=lambda c: c.places.header.planned_at), now)
    finally:
        for crossing in found:
            crossing.close()
    identity = _identity(workspace, now)
    if identity is None or not identity.history:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "Fascis has no record of where {now} was before. Say where it should "
                "go (--to). Nothing was changed.",
                now=shown(str(now)),
            ),
        )
    last = identity.history[-1]
    if last.part_of:
        raise _came_as_part(now)
    return WayBack(now, Path(last.from_))


def ways_back(crossings: list[Crossing], places: list[KnownPlaces]) -> dict[str, Path]:
    """The earlier paths of libraries that are home at their present paths, by their ids.

    From this computer's crossings; only paths to which a library can be brought back.
    """
    homes = {k.library.id: k.home.path for k in places}
    found: dict[str, Path] = {}
    for crossing in sorted(crossings, key=lambda c: c.places.header.planned_at):
        header = crossing.places.header
        home = homes.get(header.library_id)
        if home is None or header.part or header.document or not _came_by(crossing, home):
            continue
        crossing.places.follow_source(crossing.workspace)
        if crossing.places.source.parent.is_dir():
            found[header.library_id] = crossing.places.source
    return found


def _came_by(crossing: Crossing, now: Path) -> bool:
    crossing.places.follow_destination(crossing.workspace)
    here = crossing.places.target == now and not crossing.places.goal.joins
    return here and crossing.state not in (*UNFINISHED, State.UNDONE)


def way_of(crossing: Crossing, now: Path | None = None) -> WayBack:
    """The way back of one crossing.

    Raises:
        Refused: what crossed was a part of a library, or never came to be a library there.
    """
    places, workspace = crossing.places, crossing.workspace
    places.follow_source(workspace)
    places.follow_destination(workspace)
    if places.header.part or places.goal.joins or places.header.document:
        raise _came_as_part(places.told)
    if crossing.state in UNFINISHED:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "State of the crossing: {value}. The library is still at {source}. Nothing was "
                "changed.",
                value=crossing.state.words,
                source=shown(str(places.source)),
            ),
        )
    known = next(
        (k for k in workspace.register.libraries() if k.id == places.header.library_id), None
    )
    home = known.root if known and known.root.is_dir() else places.target
    aside = places.parked_path if places.standing() == places.parked_path else None
    return WayBack(now or home, places.source, aside, places.crossing)


def _identity(workspace: Workspace, root: Path) -> Identity | None:
    if not root.is_dir():
        return None
    with closing(workspace.drives.open(root)) as medium:
        return read_identity(medium, root)


def _came_as_part(now: Path) -> Refused:
    return Refused(
        Code.WRONG_STATE,
        tr(
            "{now} came here as a part, or became part of another library. Take it "
            "into a folder with fascis relocate --into, or take its crossing back "
            "with fascis undo. Nothing was changed.",
            now=shown(str(now)),
        ),
    )


def plan_bringing_back(
    workspace: Workspace,
    way: WayBack,
    after: After | None = None,
    control: Control = UNSTOPPED,
    ungather: bool = False,
) -> tuple[Plan, Ungathered]:
    """Plans the crossing to a library's earlier path. Writes nothing.

    Args:
        ungather: gathered media returns to its loose path; missing files are written there before
            the crossing starts.

    Raises:
        Refused: it is there already, or that place cannot be used.
        EnvironmentTrouble: a drive failed.
    """
    now, before = way.now, way.before
    if os.path.realpath(now) == os.path.realpath(before):
        raise Refused(
            Code.WRONG_STATE,
            tr("It is at {before} already. Nothing was changed.", before=shown(str(before))),
        )
    if not before.parent.is_dir():
        raise Refused(
            Code.DESTINATION_MISSING,
            tr(
                "The folder {parent}, where it was, no longer exists. Create it, or "
                "say where the library should go (--to). Nothing was changed.",
                parent=shown(str(before.parent)),
            ),
        )
    surveyed = survey_library(workspace, now, None, control)
    if surveyed.document:
        raise Refused(
            Code.LIBRARY_NOT_A_FOLDER,
            tr(
                "{now} is a single document; only libraries in folders are brought back. "
                "Nothing was changed.",
                now=shown(str(now)),
            ),
        )
    choices = Choices(before.name, after=after or After.KEEP)
    make = make_plan if after else make_usual_plan
    plan = make(workspace, surveyed, before.parent, choices)
    plan.restores = True
    loose = _ungathered(workspace, way, surveyed, plan, control) if ungather else Ungathered()
    if os.path.lexists(before):
        _adopt(workspace, plan, surveyed, before, control)
    if way.aside:
        plan.problems.append(
            Problem(
                Code.IN_TWO_PLACES,
                tr(
                    "The originals from before are set aside at {aside}.",
                    aside=shown(str(way.aside)),
                ),
                tr(
                    "To restore exactly these without copying: fascis undo {crossing}. "
                    "Work done since then is only where the library is now.",
                    crossing=way.crossing[:8],
                ),
                severity_here=Severity.NOTE,
            )
        )
    return plan, loose


def _ungathered(
    workspace: Workspace, way: WayBack, surveyed: Surveyed, plan: Plan, control: Control
) -> Ungathered:
    """Removes from a plan the media that returns to its loose path."""
    if not way.crossing:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "What was gathered is known only on the computer where the library "
                "crossed. Bring it back without --ungather: gathered media stays in the "
                "library. Nothing was changed."
            ),
        )
    crossing = find_crossing(workspace, way.crossing)
    try:
        found = find_ungathered(crossing, surveyed, plan, control)
    finally:
        crossing.close()
    survey, left = plan.survey, 0
    for row, place in survey.files():
        if place in found.paths:
            plan.fates[row] = Fate.LEFT_OUT
            left += survey.size[row]
    totals = plan.totals
    plan.totals = replace(totals, files=totals.files - len(found.paths), bytes=totals.bytes - left)
    plan.elsewhere = found.paths
    # Documents that name it by an absolute path will name the loose path again.
    plan.gathering.aliases |= {surveyed.below + p: path for p, path in found.paths.items()}
    return found


# -- what still stands there -----------------------------------------------------------------------


class Stands(Struct):
    """What still exists of a library at its old place.

    Attributes:
        equal: equal files there, which are adopted.
        replaced: files there that are rewritten: documents, and files in ``differs``.
        in_the_way: folders with the path of a file of the library.
        files_in_the_way: files with the path of a folder of the library.
        others: how many files there the library does not have.
    """

    new: list[Source] = field(default_factory=list)
    equal: list[Source] = field(default_factory=list)
    replaced: list[Source] = field(default_factory=list)
    differs: list[Place] = field(default_factory=list)
    in_the_way: list[Place] = field(default_factory=list)
    files_in_the_way: list[Place] = field(default_factory=list)
    others: int = 0


def _adopt(
    workspace: Workspace, plan: Plan, surveyed: Surveyed, before: Path, control: Control
) -> None:
    """Adapts a plan to what exists at the old place."""
    identity = _identity(workspace, before)
    if identity and plan.library_id and identity.library_id != plan.library_id:
        plan.problems.append(
            Problem(
                Code.DESTINATION_EXISTS,
                tr("There is another library at {before} now.", before=shown(str(before))),
                tr("Say where this one is to go (--to)."),
            )
        )
        return
    if not before.is_dir() or before.is_symlink():
        return  # What exists there stops it, as it would stop any crossing.
    plan.library_id = plan.library_id or (identity.library_id if identity else "")
    with closing(workspace.drives.open(before)) as medium:
        old = _OldPlace(medium)
        drives = (workspace.drives.at(before, measured=False), plan.source_drive)
        step = max(d.rules.granularity_ns for d in drives if d)
        found = _compared(plan, surveyed, old, step, control)
    for source in found.equal:
        plan.apart.stands[source.place] = source.there
    leave_alone(plan, old.links, old.own.__contains__)
    goes = [*found.new, *found.replaced]
    facts = UpdateFacts(
        added=len(found.new),
        changed=len(found.replaced),
        moved=0,
        removed=len(found.files_in_the_way),
        unchanged=len(found.equal),
    )
    earlier = [*(s.there for s in found.replaced), *found.files_in_the_way]
    plan.update = Update(facts, {}, tuple(earlier))
    landing = IntoExisting(Path(os.path.realpath(before)), b"", plan.library_id, updates=True)
    first, room = plan.goals[0], sum(source.size for source in goes)
    plan.goals = [Goal(landing, first.drive, room, first.estimate)]
    plan.problems = [p for p in plan.problems if p.code not in NOT_ASKED]
    plan.problems += _problems(found, before)
    plan.problems += copy_problems(workspace, plan, [s.there for s in goes], before, room)
    plan.asked_for = before


def _problems(found: Stands, before: Path) -> Iterator[Problem]:
    where = shown(str(before))
    if found.in_the_way:
        yield Problem(
            Code.DESTINATION_EXISTS,
            tr(
                "{in_the_way} is a folder in {where}, and a file of the library.",
                in_the_way=shown(found.in_the_way[0]),
                where=where,
            ),
            tr("Give that folder another name first."),
            tuple(found.in_the_way[:_MOST]),
        )
    differs = [*found.differs, *found.files_in_the_way]
    if differs:
        files = trn("{n} file stands", "{n} files stand", len(differs))
        yield Problem(
            Code.NAME_TAKEN,
            tr(
                "{files} in {where} with other content than in the library: {differs} first.",
                files=files,
                where=where,
                differs=shown(differs[0]),
            ),
            tr(
                "Continue (--yes): the library's own files replace them, and those that are "
                "there now are kept in .fascis/earlier. Or move them first."
            ),
            tuple(differs[:_MOST]),
        )
    if found.others:
        files = trn("{n} file stands", "{n} files stand", found.others)
        yield Problem(
            Code.SAME_LIBRARY_THERE,
            tr(
                "{files} in {where} that the library does not have; they stay as they are.",
                files=files,
                where=where,
            ),
            "",
            severity_here=Severity.NOTE,
        )


class _OldPlace:
    """What exists at the old place.

    Attributes:
        there: size and time of every file.
        own: places of Fascis's own files.
    """

    def __init__(self, medium: Medium) -> None:
        self._medium = medium
        self.there: dict[Place, tuple[int, int]] = {}
        self.folders: set[Place] = set()
        self.links: set[Place] = set()
        self.own: set[Place] = set()
        for folder in medium.walk():
            self.folders.add(folder.place)
            for name, status in zip(folder.names, folder.stats, strict=True):
                place = join(folder.place, name)
                if place.startswith(OWN + b"/"):
                    self.own.add(place)
                elif stat.S_ISREG(status.st_mode):
                    self.there[place] = (status.st_size, mtime_of(status))
                elif stat.S_ISLNK(status.st_mode):
                    self.links.add(place)

    def digest(self, place: Place) -> bytes:
        """The digest of a file there, read now."""
        with closing(self._medium.open(place)) as file:
            return digest_of(file)


def _compared(
    plan: Plan, surveyed: Surveyed, old: _OldPlace, step: int, control: Control
) -> Stands:
    found, wanted = Stands(), set()
    above: set[Place] = set()
    with ExitStack() as stack:
        now = stack.enter_context(closing(PosixMedium.at(surveyed.source)))
        before = _Before(now, surveyed.source)
        for source in sources_of(plan, surveyed):
            control.checkpoint()
            wanted.add(source.there)
            above |= set(_above(source.there))
            there = old.there.get(source.there)
            if source.there in old.folders:
                found.in_the_way.append(source.there)
            elif there is None:
                found.new.append(source)
            elif source.document:
                found.replaced.append(source)
                mine = before.digest(source.place) or source.digest()
                if old.digest(source.there) != mine:
                    found.differs.append(source.there)
            elif source.size == there[0] and (
                abs(source.mtime_ns - there[1]) < step
                or source.digest() == old.digest(source.there)
            ):
                # Both are read as a whole when it is adopted.
                found.equal.append(source)
            else:
                found.replaced.append(source)
                found.differs.append(source.there)
    found.files_in_the_way = sorted(p for p in old.there if p in above)
    found.others = len(old.there.keys() - wanted - above)
    return found


def _above(place: Place) -> Iterator[Place]:
    while b"/" in place:
        place = place.rpartition(b"/")[0]
        yield place


class _Before:
    """Finds the earlier content of a library's documents, from before the last crossing."""

    def __init__(self, medium: Medium, root: Path) -> None:
        self._tree: CopyTree | None = None
        with suppress(Damaged, EnvironmentTrouble, OSError):
            # Without records the earlier content is not known.
            self._tree = CopyTree(medium, root)

    def digest(self, place: Place) -> bytes | None:
        """The digest of a document's earlier content; None if it was edited since, or not kept."""
        tree = self._tree
        if tree is None or place not in tree.before or place not in tree.recorded:
            return None
        return tree.digest(tree.before[place]) if tree.is_as_recorded(place) else None
