"""A release from its first check to its record.

All copies are checked, then originals are deleted, and the free space is measured.
"""

from __future__ import annotations

import logging
import os
from collections.abc import Collection, Mapping, Sequence
from contextlib import ExitStack, closing
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from fascis.crossing.arrival.destination import Destination
from fascis.crossing.copying.reading_back import Buffers
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Report
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.states import CopyState, State
from fascis.crossing.places.changes import Differences, compare, worked_in
from fascis.crossing.places.places import Places, open_source
from fascis.crossing.release.followers import give_back_cut_off, what_follows
from fascis.crossing.release.free_space import free_now, settle_down, shortfall
from fascis.crossing.release.lists import mend_lists
from fascis.crossing.release.loose_originals import release_loose
from fascis.crossing.release.originals import Kept, Release, left_behind, still_wanted
from fascis.crossing.release.set_aside import park, unpark
from fascis.crossing.scope.kept import add_named, kept_for_others, sidecars_of_what_stays
from fascis.crossing.scope.needed import Going, find_needed
from fascis.crossing.scope.parts import is_in_part
from fascis.crossing.scope.surveyed import survey_library
from fascis.documents.registry import companion_endings, is_companion
from fascis.files.codes import Code, Stays
from fascis.files.control import Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble, FascisError, Refused
from fascis.files.names import place_text, shown
from fascis.words.figures import NBSP, number
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_LOG = logging.getLogger(__name__)


def release(
    workspace: Workspace,
    journal: Journal,
    demanded: Sequence[Destination],
    control: Control,
    report: Report,
    also_stays: Mapping[bytes, Stays],
) -> dict[str, Any]:
    """Deletes the originals whose copies are verified on every required destination.

    Returns the record of it.

    Args:
        also_stays: originals that stay in any case, with the reason.

    Raises:
        Refused: a copy is not what was verified; nothing was deleted.
        EnvironmentTrouble: a drive failed or is away; it can be called again.
    """
    places = demanded[0].places
    record: dict[str, Any] | None = journal.value("release")
    if record is not None and places.standing() is None:
        return record
    give_back_cut_off(workspace)
    with ExitStack() as held:
        kept = [
            Kept(
                d.copies,
                held.enter_context(closing(d.open())),
                d.drive().rules,
                d.label,
                places.crossing,
            )
            for d in demanded
        ]
        source = held.enter_context(closing(open_source(workspace, places)))
        record = _release(workspace, places, source, kept, control, report, also_stays)
        standing = _standing(places, source)
    if journal.header.part:
        _mend_lists_of_the_rest(workspace, places, demanded[0].copies)
    journal.put("release", record)
    _LOG.info("released %s originals, %s bytes", record["files"], record["bytes"])
    if standing and not journal.header.document and not journal.header.part:
        _clear_top(workspace, journal, places, standing, record)
    return record


def _mend_lists_of_the_rest(workspace: Workspace, places: Places, copies: Copies) -> None:
    """The lists of the rest of a library no longer contain the files that left with its part."""
    gone = {item.place for item in copies.items(Which.DELETED)}
    for one in mend_lists(places.origin(), gone, {}):
        label = copies.journal.header.source_drive.label
        copies.journal.note(one.path, label, one.meaning, workspace.clock())


def _standing(places: Places, source: Medium) -> Path | None:
    """Where the folder of the originals is now, by its open handle.

    The paths by which it was known may be deleted.
    """
    status = source.status(b"")
    for path in (places.source, places.parked_path):
        try:
            if os.path.samestat(os.lstat(path), status):
                return path
        except OSError:
            continue
    return None


def _release(
    workspace: Workspace,
    places: Places,
    source: Medium,
    kept: list[Kept],
    control: Control,
    report: Report,
    also_stays: Mapping[bytes, Stays],
) -> dict[str, Any]:
    drive = workspace.drives.at(places.origin(), measured=False)
    copies = [k.copies for k in kept]
    journal = copies[0].journal
    with Buffers() as buffers:
        work = Release(source, kept, drive.rules, buffers, control, report, workspace.step)
        work.still_wanted = lambda: still_wanted(journal)
        work.still_wanted()
        work.check_copies()
        work.lost |= also_stays
        differences = work.differences = of_this(
            compare(source, copies, control.checkpoint), copies[0]
        )
        not_worked_in(differences)
        doubtful = [*differences.newer, *work.lost]
        needed = needed_now(workspace, places, copies[0], doubtful, control)
        top = os.fsencode(places.origin()).rstrip(b"/") + b"/"
        work.used = {p[len(top) :]: who for p, who in needed.items() if p.startswith(top)}
        if journal.state is State.SWITCHED and not work.used and not journal.header.part:
            _park_if_possible(workspace, journal, places)
        before = journal.value("free_before")
        if before is None:
            before = free_now(source)
            journal.put("free_before", before)
        act = journal.open_act("release") or journal.intend(
            "release", shown(str(places.origin())), workspace.clock()
        )
        work.run()
        if not journal.header.document:
            # The folders of a single document do not belong to the library.
            work.clear_folders(source)
        if journal.header.loose_too:
            stays = release_loose(workspace, kept, needed, control, report)
        else:
            stays = []
    after = settle_down(source, before, work.deleted.allocated, drive)
    files, size = copies[0].sums(Which.DELETED_BY_US)
    loose = copies[0].sums(Which.LOOSE_DELETED_BY_US)
    discarded = copies[0].sums(Which.DISCARDED_BY_US)
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
        "left_behind": _left_behind(
            copies[0], left_behind(copies[0], source, differences) + stays, work.used, needed
        ),
        "at": workspace.clock(),
        "stays_at": None,
    }
    journal.conclude(
        act,
        trn(
            "{n} file, {count}{nbsp}bytes",
            "{n} files, {count}{nbsp}bytes",
            files + discarded[0] + loose[0],
            count=number(size + discarded[1] + loose[1]),
            nbsp=NBSP,
        ),
        workspace.clock(),
    )
    return record


def lost_there(
    demanded: Sequence[Destination], control: Control, which: Which = Which.MAY_GO
) -> list[dict[bytes, Stays]]:
    """Originals whose copies were changed or removed since they were verified, and how.

    For each destination. They stay.

    Raises:
        EnvironmentTrouble: a drive is away or failed.
        Refused: what stands there is not what this crossing made.
        Cancelled: by the control.
    """
    lost = []
    with Buffers() as buffers:
        for destination in demanded:
            with closing(destination.open()) as medium:
                kept = Kept(
                    destination.copies,
                    medium,
                    destination.drive().rules,
                    destination.label,
                    destination.places.crossing,
                )
                lost.append(kept.lost(buffers, control, which))
    return lost


def _left_behind(
    copies: Copies,
    stays: Sequence[tuple[bytes, str]],
    used: Mapping[bytes, list[str]],
    needed: Mapping[bytes, list[str]],
) -> list[dict[str, Any]]:
    """Files that stay, for the record.

    Path, reason, length, who needs it, and whether the plan announced it.
    """
    planned = {kept["path"] for kept in copies.journal.value("kept_for_others", [])}
    loose = {i.outside: i.size for i in copies.items(Which.LOOSE)}
    out: list[dict[str, Any]] = []
    for place, why in stays:
        told = place_text(place)
        out.append({"path": told, "why": why})
        if why == Stays.USED_ELSEWHERE:
            item = copies.at(place)
            length = item.size if item and place in used else loose.get(place, 0)
            out[-1] |= {
                "bytes": length,
                "by": used.get(place) or needed.get(place) or [],
                "planned": told in planned,
            }
    return out


def of_this(found: Differences, copies: Copies) -> Differences:
    """The differences that concern a crossing.

    For a part, changes in the rest of its library do not matter.
    """
    part = copies.journal.header.part
    if part is None:
        return found

    def mine(place: bytes) -> bool:
        item = copies.at(place)
        return item is not None and item.fate is not Fate.LEFT_OUT

    return replace(
        found,
        changed=[p for p in found.changed if mine(p)],
        gone=[p for p in found.gone if mine(p)],
        appeared=[p for p in found.appeared if is_in_part(p, part)],
    )


def needed_now(
    workspace: Workspace,
    places: Places,
    copies: Copies,
    stays: Collection[bytes],
    control: Control,
    whole: bool = False,
) -> dict[bytes, list[str]]:
    """The originals that others need, checked now: absolute path → who. These stay.

    Args:
        stays: places that changed at the old place, or whose copies are not as verified.
        whole: the whole library's folder would be set aside, with files left out and new ones.

    Raises:
        Cancelled: by the control.
    """
    header = places.header
    origin = os.path.realpath(os.fsencode(places.origin())).rstrip(b"/")
    top = origin + b"/"
    loose = {i.outside: i for i in copies.items(Which.LOOSE_MAY_GO)} if header.loose_too else {}
    changed = frozenset(stays)

    def goes(path: bytes) -> bool:
        if not path.startswith(top):
            return path in loose
        if whole:
            return True
        place = path[len(top) :]
        item = copies.at(place)
        return (
            item is not None and item.outside is None and place not in changed and _would_go(item)
        )

    def names_in(folder: bytes) -> list[bytes]:
        if (folder + b"/").startswith(top):
            return [i.place.rpartition(b"/")[2] for i in copies.in_folder(folder[len(top) :])]
        return [p.rpartition(b"/")[2] for p in loose if p and p.rpartition(b"/")[0] == folder]

    document, own = bool(header.document), not whole and (bool(changed) or copies.anything_stays())
    targets = [] if places.goal.joins else [bytes(places.target)]
    library, paths = header.whole, frozenset(filter(None, loose))
    before = os.path.realpath(os.fsencode(places.source)).rstrip(b"/")
    going = Going(
        origin,
        library,
        paths,
        targets,
        document,
        own,
        places.crossing,
        before,
        also=[os.fsencode(path) for path in header.also],
    )
    needed = find_needed(workspace, going, control)
    if header.follows and copies.journal.state is State.SETTLED:
        # They are updated to the new place before home moves.
        needed = needed.without(what_follows(workspace, places, copies, control).led)
    if own and not document:
        surveyed = survey_library(workspace, places.origin(), None, control)
        add_named(needed, surveyed.uses, surveyed.survey, surveyed.below)
    kept = kept_for_others(needed, goes, names_in)
    sidecars = [top + i.place for i in copies.named(Which.FILES_THERE, companion_endings())] + [
        p for p in paths if is_companion(p)
    ]
    kept |= sidecars_of_what_stays(sidecars, lambda p: goes(p) or p[len(top) :] in changed, kept)
    if needed.unknown:
        kept |= {path: sorted(needed.unknown) for path in loose if path and path not in kept}
    return kept


def _would_go(item: Item) -> bool:
    """True for an original that a release would delete.

    Verified there, one of Fascis's own records, or discarded by choice.
    """
    if item.fate is Fate.DISCARD:
        return True
    return item.fate in (Fate.COPY, Fate.OWN) and item.copy is CopyState.VERIFIED


def nothing_needed(workspace: Workspace, demanded: Sequence[Destination], control: Control) -> None:
    """Setting aside takes a whole folder from everyone: nothing in it may be needed by others.

    Raises:
        Refused: something is.
    """
    give_back_cut_off(workspace)
    home = demanded[0]
    kept = needed_now(workspace, home.places, home.copies, (), control, whole=True)
    top = os.path.realpath(os.fsencode(home.places.origin())).rstrip(b"/") + b"/"
    inside = {p[len(top) :]: who for p, who in kept.items() if p.startswith(top)}
    if inside:
        first = min(inside)
        needed = tr(
            "{inside} uses {first} at the old place", inside=inside[first][0], first=shown(first)
        )
        if len(inside) > 1:
            needed = trn(
                "{needed}, and {n} more file is needed too",
                "{needed}, and {n} more files are needed too",
                len(inside) - 1,
                needed=needed,
            )
        raise Refused(
            Code.WOULD_BREAK,
            tr("{needed}. Set aside, it would not be found. Nothing was set aside.", needed=needed),
            tuple(sorted(inside)),
        )


def not_worked_in(found: Differences) -> None:
    """Checks after the switch that nobody works at the old place.

    Its media must not be removed during that work.

    Raises:
        Refused: a document or a database changed there.
    """
    if places := worked_in(found):
        raise Refused(
            Code.WORKED_IN_SINCE,
            tr(
                "Somebody worked in {places} at the old place after home moved to the "
                "new one. Nothing was set aside or deleted. Copy that work over by "
                "hand, or undo the switch.",
                places=shown(places[0]),
            ),
            tuple(places),
        )


def _park_if_possible(workspace: Workspace, journal: Journal, places: Places) -> None:
    try:
        park(workspace, journal, places)
    except Refused:
        # A mount point, for example: each file is still checked right before it is deleted.
        return


def _clear_top(
    workspace: Workspace, journal: Journal, places: Places, origin: Path, record: dict[str, Any]
) -> None:
    """Removes the empty top folder; if something stays, it gets its old name back."""
    try:
        parent = workspace.drives.open(origin.parent)
    except EnvironmentTrouble:
        # It cannot be moved back now; its path is reported.
        record["stays_at"] = str(origin)
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
