"""Updating a copy from its home: a crossing of what changed since.

New and newer files are copied and verified. Moved files are recognised by their content and moved.
Replaced and removed files are kept in the copy. Equal files are left alone, and work that somebody
did in the copy is a decision.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

from fascis.copies.comparing import Comparison, Difference, Place, Source
from fascis.crossing.arrival.landing.updated_copy import EARLIER_FOLDER
from fascis.crossing.journal.header import UpdateFacts
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.landing import IntoExisting
from fascis.crossing.model.problems import Problem
from fascis.crossing.places.places import hold
from fascis.crossing.plan.plan import Goal, Plan, Update
from fascis.crossing.scope.surveyed import survey_library
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium
from fascis.files.errors import Refused, told
from fascis.files.names import join, parent, shown
from fascis.library.survey import Kind
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

# Problems of a crossing to a new folder that do not concern an update.
NOT_ASKED = frozenset(
    (
        Code.DESTINATION_EXISTS,
        Code.SAME_LIBRARY_THERE,
        Code.NOT_ENOUGH_ROOM,
        Code.DESTINATION_IN_A_LIBRARY,
        Code.DESTINATION_INSIDE_LIBRARY,
        Code.SAME_DRIVE,
        Code.SAME_DISK,
        Code.IN_TWO_PLACES,
    )
)
_MOST = 1000


def plan_update(
    workspace: Workspace, home: Path, copy: Path, control: Control = UNSTOPPED
) -> tuple[Plan, Difference]:
    """Plans what makes a copy equal to its home again. Writes nothing.

    Raises:
        Damaged: the copy has no records, or they are not understood.
        Refused: the two are not a library and its copy.
        EnvironmentTrouble: a drive failed.
    """
    surveyed = survey_library(workspace, home, None, control)
    if surveyed.document:
        raise Refused(
            Code.LIBRARY_NOT_A_FOLDER,
            tr(
                "{home} is a single document; only copies of folders are brought up to "
                "date. Nothing was changed.",
                home=shown(str(home)),
            ),
        )
    compared = Comparison(workspace, surveyed, copy, control)
    plan, found, identity = compared.plan, compared.found, compared.tree.identity
    id = plan.library_id or _known_id(workspace, home)
    if identity is None or (id and identity.library_id != id):
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "{copy} is no copy of {home}. Nothing was changed.",
                copy=shown(str(copy)),
                home=shown(str(home)),
            ),
        )
    plan.library_id = identity.library_id
    _leave_alone(plan, compared)
    goes = [*found.added, *found.changed, *_conflicting(compared, found)]
    earlier = [s.there for s in found.changed] + found.both + found.removed
    plan.update = Update(
        UpdateFacts(
            added=len(found.added),
            changed=len(found.changed) + len(found.both),
            moved=len(found.moved),
            removed=len(found.removed),
            unchanged=len(found.unchanged) + len(found.edited),
        ),
        found.moved,
        tuple(earlier),
    )
    landing = IntoExisting(Path(os.path.realpath(copy)), b"", identity.library_id, updates=True)
    first = plan.goals[0]
    room = sum(source.size for source in goes)
    plan.goals = [Goal(landing, first.drive, room, first.estimate)]
    plan.problems = [p for p in plan.problems if p.code not in NOT_ASKED]
    plan.problems += _ahead(found, copy)
    places = [s.there for s in (*found.added, *found.changed)]
    plan.problems += copy_problems(workspace, plan, places, copy, room)
    plan.asked_for = copy
    return plan, found


def _known_id(workspace: Workspace, home: Path) -> str:
    register = workspace.register
    known = register.library_at(home) if register.path.exists() else None
    return known.id if known else ""


def _leave_alone(plan: Plan, compared: Comparison) -> None:
    """Files that the copy already has count as arrived, and are not copied."""
    found = compared.found
    new = {s.there for s in (*found.added, *found.changed)} | set(found.both)
    for source in compared.sources:
        if source.there not in new:
            plan.apart.stands[source.place] = source.there
    # Home's records belong to home.
    leave_alone(plan, compared.tree.links, lambda _place: True)


def leave_alone(plan: Plan, links: set[Place], is_left: Callable[[Place], bool]) -> None:
    """Existing links, and Fascis's own files that are left, are not copied."""
    survey = plan.survey
    kinds = survey.kinds()
    for row, folder, place in survey.rows():
        if plan.fates[row] == Fate.OWN or kinds[row] != Kind.FILE:
            own = survey.is_own(folder) and is_left(place)
            link = kinds[row] == Kind.LINK and plan.apart.there(place) in links
            if own or link:
                plan.fates[row] = Fate.LEFT_OUT


def _conflicting(compared: Comparison, found: Difference) -> list[Source]:
    both = set(found.both)
    return [source for source in compared.sources if source.there in both]


def _ahead(found: Difference, copy: Path) -> Iterator[Problem]:
    """Work in the copy is a decision."""
    if not (found.edited or found.made or found.both):
        return
    worked = [*found.both, *found.edited, *found.made]
    told = trn(
        "{n} file of {copy} was made or changed there since it arrived: {worked}.",
        "{n} files of {copy} were made or changed there since it arrived: {worked} first.",
        len(worked),
        copy=shown(str(copy)),
        worked=shown(worked[0]),
    )
    if found.both:
        both = trn(
            "{n} of them was changed at home too.",
            "{n} of them were changed at home too.",
            len(found.both),
        )
        told = f"{told} {both}"
    yield Problem(
        Code.COPY_IS_AHEAD,
        told,
        tr(
            "Continue (--yes): files changed only in the copy stay as they are; where home "
            "changed too, the copy gets home's version and keeps its own in .fascis/earlier. Or "
            "copy the newer files home first."
        ),
        tuple(worked[:_MOST]),
    )


def copy_problems(
    workspace: Workspace, plan: Plan, places: list[Place], copy: Path, room: int
) -> Iterator[Problem]:
    """Problems that prevent changing a library at its path.

    Args:
        places: paths of new files.
        room: bytes that it needs.
    """
    drive = plan.goals[0].drive
    if drive and drive.connected and room > drive.free:
        yield Problem(
            Code.NOT_ENOUGH_ROOM,
            tr(
                "{label} has {size} free; what changed needs {size_2}.",
                label=shown(drive.label),
                size=size(drive.free),
                size_2=size(room),
            ),
            tr("Make room on it first."),
        )
    with closing(workspace.drives.open(copy)) as medium:
        try:
            hold(medium, copy)
        except Refused as error:
            yield Problem(error.code, str(error), tr("Let that one end first."))
    wrong = _not_writable(plan, places, copy)
    if wrong is not None:
        yield Problem(
            Code.DESTINATION_NOT_PERMITTED,
            tr("You do not have permission to write to {wrong}.", wrong=shown(str(wrong))),
            tr("Check its permissions."),
        )


def _not_writable(plan: Plan, new: list[Place], copy: Path) -> Path | None:
    """The first folder of the copy that must be changed and is not writable."""
    assert plan.update
    moves = plan.update.moves
    places = [*new, *plan.update.earlier, *moves, *moves.values()]
    folders = {b".fascis", *map(parent, places)}
    paths = (copy / os.fsdecode(folder) for folder in sorted(folders))
    return next((p for p in paths if p.is_dir() and not os.access(p, os.W_OK | os.X_OK)), None)


# -- what earlier updates kept ---------------------------------------------------------------------


def earlier_of(workspace: Workspace, copy: Path) -> tuple[int, int]:
    """``(files, bytes)`` that updates replaced or removed in a copy and that are kept in it."""
    with closing(workspace.drives.open(copy)) as medium:
        sizes = [s.st_size for _, s in _earlier(medium)]
    return len(sizes), sum(sizes)


def drop(workspace: Workspace, copy: Path) -> int:
    """Deletes the files that updates kept in a copy; returns how many.

    Raises:
        EnvironmentTrouble: the drive failed.
        Refused: a crossing runs there.
    """
    with closing(workspace.drives.open(copy)) as medium:
        hold(medium, copy)
        found = list(_earlier(medium))
        try:
            for place, status in found:
                medium.unlink(place, Proven.by(status, stable=False))
            folders = [f.place for f in medium.walk() if _is_earlier(f.place)]
            for folder in sorted(folders, key=lambda f: -f.count(b"/")):
                medium.remove_folder(folder)
            medium.sync()
        except OSError as error:
            raise told(error, tr("delete"), EARLIER_FOLDER) from error
    return len(found)


def _earlier(medium: Medium) -> Iterator[tuple[bytes, os.stat_result]]:
    for folder in medium.walk():
        if _is_earlier(folder.place):
            for name, status in zip(folder.names, folder.stats, strict=True):
                yield join(folder.place, name), status


def _is_earlier(folder: bytes) -> bool:
    return (folder + b"/").startswith(EARLIER_FOLDER + b"/")
