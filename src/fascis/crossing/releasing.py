"""A release from its first look to its record: all copies are checked, then originals go, and the free space is measured."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import ExitStack, closing
from typing import Any

from fascis.crossing.copying import Buffers
from fascis.crossing.destination import Destination
from fascis.crossing.events import Control, Report
from fascis.crossing.journal import Journal
from fascis.crossing.loose_release import release_loose
from fascis.crossing.park import park, unpark
from fascis.crossing.places import Places, open_source
from fascis.crossing.release import Kept, Release, left_behind
from fascis.crossing.space import free_now, settle_down, shortfall
from fascis.crossing.states import State
from fascis.crossing.still import Differences, compare, worked_in
from fascis.files.errors import EnvironmentTrouble, FascisError, Refused
from fascis.files.medium import Medium
from fascis.files.names import place_text, shown
from fascis.workspace import Workspace


def release(
    workspace: Workspace, journal: Journal, demanded: Sequence[Destination], control: Control, report: Report
) -> dict[str, Any]:
    """Deletes the originals whose copies are verified on every demanded destination; gives the record of it.

    Raises:
        Refused: a copy is not what was verified; nothing was deleted.
        EnvironmentTrouble: a drive failed or is away; it can be called again.
    """
    places = demanded[0].places
    record: dict[str, Any] | None = journal.value("release")
    if record is not None and places.standing() is None:
        return record
    with ExitStack() as held:
        kept = [
            Kept(d.copies, held.enter_context(closing(d.open())), d.drive().rules, d.label, places.crossing)
            for d in demanded
        ]
        source = held.enter_context(closing(open_source(workspace, places)))
        record = _release(workspace, journal, places, source, kept, control, report)
    journal.put("release", record)
    if not journal.header.get("document"):
        _clear_top(workspace, journal, places, record)
    return record


def _release(
    workspace: Workspace,
    journal: Journal,
    places: Places,
    source: Medium,
    kept: list[Kept],
    control: Control,
    report: Report,
) -> dict[str, Any]:
    drive = workspace.drives.at(places.origin())
    copies = [k.copies for k in kept]
    with Buffers() as buffers:
        used = frozenset(used_by_others(workspace, places))
        work = Release(source, kept, drive.rules, buffers, control, report, workspace.step, used=used)
        work.check_copies()
        differences = work.differences = compare(source, copies, control.checkpoint)
        not_worked_in(differences)
        if journal.state is State.SWITCHED:
            _park_if_possible(workspace, journal, places)
        before = journal.value("free_before")
        if before is None:
            before = free_now(source)
            journal.put("free_before", before)
        act = journal.open_act("release") or journal.intend("release", shown(str(places.origin())), workspace.clock())
        work.run()
        if not journal.header.get("document"):
            work.clear_folders(source)  # the folders of a single document are not the library's
        stays = release_loose(workspace, journal, kept, control, report) if journal.header.get("loose_too") else []
    after = settle_down(source, before, work.deleted.allocated, drive)
    files, size = copies[0].sums("e.fate=0 AND e.outside IS NULL AND e.origin=2 AND e.why IS NULL")
    loose = copies[0].sums("e.outside IS NOT NULL AND e.origin=2 AND e.why IS NULL")
    discarded = copies[0].sums("e.fate=5 AND e.origin=2 AND e.why IS NULL")
    record = {
        "files": files,
        "bytes": size,
        "discarded_files": discarded[0],
        "discarded_bytes": discarded[1],
        "free_before": before,
        "free_after": after,
        "reasons": shortfall(work.deleted, before, after, drive),
        "loose_files": loose[0],
        "loose_bytes": loose[1],
        "left_behind": [
            {"path": place_text(p), "why": w} for p, w in left_behind(copies[0], source, differences) + stays
        ],
        "at": workspace.clock(),
        "stays_at": None,
    }
    journal.conclude(
        act, f"{files + discarded[0] + loose[0]} files, {size + discarded[1] + loose[1]} bytes", workspace.clock()
    )
    return record


def used_by_others(workspace: Workspace, places: Places) -> dict[bytes, list[str]]:
    """Places in the old library that other known libraries use, and the names of these: their originals stay."""
    header = places.header
    root = os.fsencode(header.get("real_source", header["source"]))
    known = workspace.register.used_in(root, header["library_id"])
    return {path[len(root.rstrip(b"/")) + 1 :]: names for path, names in known.items()}


def not_worked_in(found: Differences) -> None:
    """After the switch: where somebody works at the old place, its media must not be taken from under the work.

    Raises:
        Refused: a document or a database changed there.
    """
    if places := worked_in(found):
        raise Refused(
            "worked-in-since",
            f"{shown(places[0])} was worked in at the old place after home went to the new one. Nothing was set aside"
            " or deleted: bring that work over by hand, or take back the switch.",
        )


def _park_if_possible(workspace: Workspace, journal: Journal, places: Places) -> None:
    try:
        park(workspace, journal, places)
    except Refused:
        return  # a mount point, say: each file is checked right before it goes all the same


def _clear_top(workspace: Workspace, journal: Journal, places: Places, record: dict[str, Any]) -> None:
    """Removes the empty top folder; where something stays, it goes back under its old name."""
    origin = places.standing()
    if origin is None:
        return
    try:
        parent = workspace.drives.open(origin.parent)
    except EnvironmentTrouble:
        record["stays_at"] = str(origin)  # it cannot be put back now; where it is, is told
        return
    try:
        parent.remove_folder(os.fsencode(origin.name))
    except OSError:
        try:
            unpark(workspace, journal, places)
        except FascisError:
            record["stays_at"] = str(origin)
    finally:
        parent.close()
