"""Making a plan: the person's choices, fitted to what exists. Nothing is written."""

from __future__ import annotations

import os
import secrets
from array import array
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from fascis.crossing.fit.estimate import estimate
from fascis.crossing.fit.limits import Columns, holding_problems, left_problem, name_problems
from fascis.crossing.fit.names import Apart
from fascis.crossing.fit.obstacles import look_around, look_at_drives, parking_problems
from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.landing import NewFolder
from fascis.crossing.model.policy import usual_after
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.choices import Afterwards, Choices, Followers, Scope
from fascis.crossing.plan.fitting import fitted, room_on, totals_of
from fascis.crossing.plan.going import Going
from fascis.crossing.plan.into import find_into, new_in, taken_problems, writable_problems
from fascis.crossing.plan.plan import Goal, Plan, largest, new_crossing_id
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.scope.parts import part_name
from fascis.crossing.scope.selection import (
    Selection,
    away_problems,
    broken_problems,
    left_out_problems,
    left_out_used,
    select,
    shared_problems,
    use_problems,
)
from fascis.crossing.scope.surveyed import Surveyed
from fascis.files.codes import Code, Severity
from fascis.files.names import fsname, shown
from fascis.library.own import OWN
from fascis.library.roles import ROLES
from fascis.library.survey import Kind, Survey
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace


def make_plan(
    workspace: Workspace,
    surveyed: Surveyed,
    destination: Path,
    choices: Choices,
    also: Path | None = None,
    ask: bool = False,
) -> Plan:
    """Plans a crossing into the folder ``destination``, and ``also`` into a second one.

    Writes nothing.

    Args:
        ask: the destinations are tested: small files are made there and removed again.
    """
    source, found, identity = surveyed.source, surveyed.survey, surveyed.identity
    scope, afterwards = choices.scope, choices.afterwards
    known = None if identity else _known_id(workspace, surveyed.root)
    name = choices.name or _own_name(surveyed, scope.only)
    problems = list(surveyed.problems)
    if not _plain(name):
        problems.append(
            Problem(
                Code.NAME_NOT_USABLE,
                tr(
                    "{value} cannot be the name of a folder.",
                    value=shown(name) or tr("An empty name"),
                ),
                tr("Choose another name."),
            )
        )
        name = source.name or "library"
    problems += _own_folder_problems(found)
    paths = [destination, *([also] if also else [])]
    selection = select(surveyed, scope.leave_unused, scope.without, scope.only, scope.rest)
    problems += selection.problems
    around = look_at_drives(workspace, source, paths, ask, choices.into)
    into = None
    if choices.into:
        into = find_into(workspace, surveyed, selection, destination, name, around)
    leave_taken = choices.taken is Taken.LEFT_OUT
    meeting = into.meeting if into else None
    fit = fitted(surveyed, scope, selection, around, meeting, leave_taken)
    fates, gathering, apart = fit.fates, fit.gathering, fit.apart
    look_around(around, source, paths, name, found, identity)
    columns = Columns(found, fates)
    fitting = [d for d, usable in zip(around.drives, around.usable, strict=True) if d and usable]
    for drive in fitting:
        attributed, source_drive = surveyed.attributed, around.source_drive
        around.take(holding_problems(drive, name, columns, gathering, attributed, source_drive))
    around.take(name_problems(fitting, apart) if fitting else ())
    around.take(left_problem(fit.left))
    if into and around.drives[0]:
        around.take(taken_problems(apart, choices.taken, fit.left_taken, around.in_the_way))
        new = new_in(apart, _places_along(found, fates, gathering))
        around.take(writable_problems(into, apart, new))
    problems += around.problems
    problems += use_problems(surveyed, scope.gather, gathering)
    left_used = left_out_used(surveyed, fates, gathering)
    problems += left_out_problems(left_used)
    # Libraries at the destination may use the originals, known here or not.
    also_there = (bytes(into.landing.folder),) if into and into.landing.library else ()
    looked_at = (*surveyed.also, *also_there)
    is_part = selection.part is not None
    going = Going(surveyed, afterwards, fates, gathering, is_part, looked_at)
    follows = _follows(choices, selection, surveyed)
    shared = going.shared(workspace, follows)
    problems += broken_problems(going.following.broken, surveyed.below)
    if not going.following.broken:
        problems += shared_problems(shared, surveyed.below, afterwards.act, going.bounds, is_part)
        problems += away_problems(shared, going.away)
    totals, left, discarded = totals_of(found, fates, gathering)
    rooms = [room_on(found, fates, gathering, d, apart.stands) for d in around.drives]
    problems += around.room_problems(rooms, len(found) + len(gathering.items))
    problems += parking_problems(
        source,
        afterwards.act,
        around.source_drive,
        bool(surveyed.document),
        selection.part is not None,
    )
    problems += _discard_problems(scope, afterwards, found, fates)
    speeds = (
        {d.uuid: d for d in workspace.register.drives()} if workspace.register.path.exists() else {}
    )
    return Plan(
        crossing=new_crossing_id(),
        token=secrets.token_hex(16),
        library_id=(identity.library_id if identity else known or ""),
        name=name,
        kind=surveyed.kind,
        source=source,
        source_drive=around.source_drive,
        goals=[
            Goal(
                into.landing if into else NewFolder(p, name),
                d,
                room,
                estimate(room, totals.files, around.source_drive, d, speeds, columns.hole_bytes()),
            )
            for p, d, room in zip(paths, around.drives, rooms, strict=True)
        ],
        choices=choices,
        followers=Followers(follows, tuple(going.followers())),
        survey=found,
        uses=surveyed.uses,
        fates=fates,
        gathering=gathering,
        apart=apart,
        clashing=fit.clashing,
        identity=identity,
        document=surveyed.document,
        totals=totals,
        left_out=left,
        discarded=discarded,
        problems=problems,
        largest={r: largest(found, r) for r in scope.out if r.remakeable},
        asked_for=destination,
        also=looked_at,
        of_catalog=surveyed.of_catalog,
        part=selection.part,
        folders_out=_folders_out(found, selection, gathering, apart),
        shared=shared,
        frees=going.frees(shared),
        left_out_used=(len(left_used.files), len(left_used.remakeable)),
    )


def _folders_out(
    found: Survey, selection: Selection, gathering: Gathering, apart: Apart
) -> frozenset[bytes]:
    """Folders that are not made at the new place because no part contains them."""
    if apart.bases:
        own = {f.place for f in found.folders if found.is_own(f)} if not selection.part else set()
        return frozenset(f.place for f in found.folders).difference(apart.arriving, own)
    return frozenset(selection.folders_out.difference(gathering.folders()))


def _places_along(found: Survey, fates: array[int], gathering: Gathering) -> Iterator[bytes]:
    """The places of everything that is copied."""
    for row, _, place in found.rows():
        if fates[row] == Fate.COPY:
            yield place
    yield from (place for place, _ in gathering.items)


def _follows(choices: Choices, selection: Selection, surveyed: Surveyed) -> bool:
    """True if documents that stay are updated to the new place.

    The default for folders: a catalog follows its photos. For a project, the originals stay
    instead.
    """
    if choices.shared is None and choices.after is not After.COPY:
        part = selection.part
        if part is None:
            works = any(d.place and d.kind.works for d in surveyed.uses.documents)
            return (choices.into or bool(surveyed.of_catalog)) and not works
        return part.folders_only
    return choices.shared is Shared.FOLLOWS and choices.after is not After.COPY


def as_asked(workspace: Workspace, plan: Plan) -> Plan | None:
    """The plan after its drives were tested; None if it must be made again.

    It must be if one can store less than assumed, if that was only assumed, or if it cannot be
    tested. Small files are made there and removed again.
    """
    goals = []
    for goal in plan.goals:
        if goal.drive is None or not goal.drive.rules.certain:
            return None
        drive = workspace.drives.asked(goal.drive, goal.path)
        if drive.rules != replace(goal.drive.rules, asked=True):
            return None
        goals.append(replace(goal, drive=drive))
    return replace(plan, goals=goals)


def make_usual_plan(
    workspace: Workspace,
    surveyed: Surveyed,
    destination: Path,
    choices: Choices,
    also: Path | None = None,
) -> Plan:
    """Plans a crossing with the default for what happens afterwards.

    Writes nothing.
    """
    plan = make_plan(workspace, surveyed, destination, choices, also)
    usual = usual_after(plan.lacks_used)
    if usual is plan.afterwards.act:
        return plan
    return make_plan(workspace, surveyed, destination, replace(choices, after=usual), also)


def _own_name(surveyed: Surveyed, only: frozenset[str]) -> str:
    """The default name there: that of the library, or a part's own name."""
    if only and (name := part_name(surveyed, sorted(only))):
        return name
    if surveyed.document:
        return surveyed.root.stem
    identity = surveyed.identity
    return identity.name if identity and _plain(identity.name) else surveyed.root.name


def _plain(name: str) -> bool:
    # These names are reserved for Fascis.
    if name in ("", ".", "..") or name.casefold().startswith(".fascis"):
        return False
    held = fsname(name)
    return "/" not in name and "\0" not in name and len(held) <= 255 and os.fsdecode(held) == name


def _known_id(workspace: Workspace, source: Path) -> str | None:
    if not workspace.register.path.exists():
        # A dry run writes nothing, not even an empty register.
        return None
    known = workspace.register.library_at(source)
    return known.id if known else None


def _own_folder_problems(found: Survey) -> Iterator[Problem]:
    """Fascis stores its records in a folder of the library.

    A file with that name would be in the way.
    """
    root = found.folders[0] if found.folders else None
    if root and OWN in found.names_in(root):
        yield Problem(
            Code.NAME_NOT_USABLE,
            tr(
                "The library contains something called {own} that is not a folder. "
                "Fascis keeps its records in a folder of that name.",
                own=shown(OWN),
            ),
            tr("Give it another name first."),
            (OWN,),
        )


def _discard_problems(
    scope: Scope, afterwards: Afterwards, found: Survey, fates: array[int]
) -> Iterator[Problem]:
    wrong = [r for r in sorted(scope.discard) if not r.remakeable]
    if wrong:
        for role in wrong:
            yield Problem(
                Code.DISCARD_NOT_POSSIBLE,
                tr("What cannot be made again is never discarded: {role}.", role=role.words),
                tr("Only proxies, renders and previews can be discarded."),
                severity_here=Severity.STOPS,
            )
    elif scope.discard and afterwards.act is After.COPY:
        yield Problem(
            Code.DISCARD_NOT_POSSIBLE,
            tr(
                "Nothing is discarded, because the old place stays home and all its files are kept."
            ),
        )
    elif kept := _kept_from_discarding(scope, found, fates):
        yield Problem(
            Code.DISCARD_NOT_POSSIBLE,
            trn(
                "{n} file stays at the old place: that they can be made again stands "
                "only in the library's identity file, which anybody can edit.",
                "{n} files stay at the old place: that they can be made again stands "
                "only in the library's identity file, which anybody can edit.",
                kept,
            ),
        )


def _kept_from_discarding(scope: Scope, found: Survey, fates: array[int]) -> int:
    """Files with a discarded role that stay nevertheless.

    Only the identity file gives them that role.
    """
    wanted = {ROLES.index(r) for r in scope.discard}
    return sum(
        found.role[row] in wanted and fates[row] == Fate.LEFT_OUT and found.kind(row) is Kind.FILE
        for row in range(len(found))
        if wanted
    )
