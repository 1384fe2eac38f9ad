"""The start of a crossing.

Its plan is written into a new journal, and room is reserved for what it will write there.
"""

from __future__ import annotations

import os
import uuid
from pathlib import Path
from typing import Any

from fascis.crossing.journal.header import DriveFacts, Goal, Header, PartFacts
from fascis.crossing.journal.journal import EARLIER, MOVES, Journal
from fascis.crossing.model.landing import IntoExisting, Landing
from fascis.crossing.model.seen import inode_key
from fascis.crossing.model.states import State
from fascis.crossing.plan.plan import Plan, landmarks
from fascis.crossing.scope.references import lead_rows
from fascis.crossing.start.listed import listed_rows
from fascis.crossing.start.record import write_known
from fascis.crossing.start.rows import Rows
from fascis.drives.model import Drive
from fascis.files.codes import Code, Severity
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.files.names import parent, shown
from fascis.library.learning.agreed import pass_on
from fascis.words.speech import tr
from fascis.workspace import Workspace


def begin(
    workspace: Workspace, plan: Plan, decided: bool = False, consent: bool = False
) -> Journal:
    """Writes a plan into a new journal.

    Args:
        decided: the person accepted open decisions, now and during the crossing.
        consent: the person consented to a release at the start.

    Raises:
        Refused: a problem stops it, or needs a decision that was not taken; nothing was written.
    """
    worst = next((p for p in plan.problems if p.severity is Severity.STOPS), None)
    if worst is None and plan.asks and not decided:
        worst = next(p for p in plan.problems if p.severity is Severity.DECISION)
    if worst is not None:
        raise Refused(worst.code, worst.sentence)
    drives = [goal.drive for goal in plan.goals if goal.drive]
    assert plan.source_drive and len(drives) == len(plan.goals)
    root = plan.source / os.fsdecode(plan.document) if plan.document else plan.source
    called = shown(plan.identity.name if plan.identity else root.name)
    workspace.register.put_drives([plan.source_drive, *drives])
    whole_id = workspace.register.meet_library(
        root, plan.source_drive.uuid, called, plan.kind, plan.library_id or None
    )
    landing = plan.goals[0].landing
    if isinstance(landing, IntoExisting):
        # It becomes part of that library, or of none.
        library_id = landing.library
    else:
        # A part is a library of its own from now on.
        library_id = str(uuid.uuid4()) if plan.part else whole_id
    pass_on(workspace, plan.source, (whole_id, library_id))
    # Read before anything is written: a list may no longer be valid.
    listed = list(listed_rows(plan)) if plan.lists else []
    journal = Journal.create(workspace.crossings / f"{plan.crossing}.sqlite", workspace.step)
    header = _header(workspace, plan, library_id, whole_id, consent)
    leads = lead_rows(plan.uses, plan.survey, plan.gathering, elsewhere=plan.elsewhere)
    more: dict[str, Any] = {
        "kept_for_others": plan.kept_for_others(),
        "followers": plan.followers_told(),
    }
    if plan.update:
        moves = plan.update.moves.items()
        more[MOVES] = {there.hex(): old.hex() for there, old in moves}
        more[EARLIER] = [place.hex() for place in plan.update.earlier]
    rows = Rows(plan.survey, plan.fates, plan.gathering, plan.apart, leads)
    journal.write_plan(header, rows, more, listed)
    try:
        journal.keep_room()
    except EnvironmentTrouble as error:
        journal.enter(State.UNDONE)
        journal.close()
        raise Refused(
            Code.NO_ROOM_FOR_JOURNAL,
            tr(
                "{error} The journal of so many files needs room on the drive it is kept "
                "on; nothing was copied.",
                error=error,
            ),
        ) from error
    # This comes last: without it, the start was interrupted.
    write_known(workspace, journal, plan.source)
    return journal


def _header(
    workspace: Workspace, plan: Plan, library_id: str, whole_id: str, consent: bool
) -> Header:
    assert plan.source_drive
    part = None
    if plan.part:
        folders = [os.fsdecode(f) for f in plan.part.all_folders]
        # The rest of a library has only the name given to it.
        names = sorted(plan.part.names) or [plan.name]
        part = PartFacts(projects=names, folders=folders)
    return Header(
        crossing=plan.crossing,
        token=plan.token,
        library_id=library_id,
        whole_id=whole_id,
        part=part,
        split=plan.split,
        also=[os.fsdecode(path) for path in plan.also],
        of_catalog=plan.of_catalog,
        update=plan.update.facts if plan.update else None,
        restores=plan.restores,
        folders_out=sorted(os.fsdecode(f) for f in plan.folders_out),
        frees=plan.frees,
        follows=plan.followers.led,
        lacks=plan.lacks,
        name=plan.name,
        called=shown(plan.identity.name if plan.identity else plan.source.name),
        kind=plan.kind,
        source=str(plan.source),
        source_drive=_drive_facts(plan.source_drive),
        root_inode=inode_key(plan.survey.root_inode),
        stable_inodes=plan.source_drive.rules.stable_inodes,
        landmarks=landmarks(plan.survey),
        real_source=os.path.realpath(plan.source),
        named=bool(plan.choices.name),
        mounts={d.uuid: str(d.mount) for d in workspace.drives.connected(measured=False)},
        document=os.fsdecode(plan.document),
        references=plan.references(),
        loose_too=plan.afterwards.loose_too,
        loose_drives=_loose_drives(workspace, plan) if plan.afterwards.loose_too else {},
        destinations=[_goal(g.landing, g.drive) for g in plan.goals if g.drive],
        after=plan.afterwards.act,
        leave_out=sorted(r.value for r in plan.scope.out),
        discard=sorted(r.value for r in plan.scope.discard),
        planned_at=workspace.clock(),
        estimate=max(g.estimate.seconds for g in plan.goals),
        consent=consent,
        identity=plan.identity.model_dump(mode="json", by_alias=True) if plan.identity else None,
        decisions=[p.sentence for p in plan.problems if p.severity is Severity.DECISION],
    )


def _goal(landing: Landing, drive: Drive) -> Goal:
    facts = _drive_facts(drive)
    if isinstance(landing, IntoExisting):
        return Goal(
            landing="existing-folder",
            path=str(landing.folder),
            name="",
            inner=os.fsdecode(landing.inner),
            library=landing.library,
            updates=landing.updates,
            drive=facts,
        )
    return Goal(path=str(landing.folder), name=landing.name, drive=facts)


def _loose_drives(workspace: Workspace, plan: Plan) -> dict[str, str]:
    """On which drive each folder of loose files is, by its UUID.

    Another one may be mounted there when they are to be deleted.
    """
    folders = {Path(os.fsdecode(parent(loose.path) or b"/")) for _, loose in plan.gathering.items}
    return {str(folder): workspace.drives.uuid_at(folder) for folder in folders}


def _drive_facts(drive: Drive) -> DriveFacts:
    return DriveFacts(
        uuid=drive.uuid,
        label=drive.label,
        filesystem=drive.filesystem,
        stand_in=drive.stand_in,
        mount=str(drive.mount),
        answers=drive.answers.as_json() if drive.answers else None,
    )
