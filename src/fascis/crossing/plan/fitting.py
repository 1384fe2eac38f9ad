"""The fate of every file, so that the destinations can store it, and the room it needs."""

from __future__ import annotations

from array import array
from collections.abc import Mapping

import numpy as np
from msgspec import Struct

from fascis.crossing.fit.limits import Clashes, Columns, clashes
from fascis.crossing.fit.meeting import Comes, Meeting
from fascis.crossing.fit.names import Apart, keep_apart
from fascis.crossing.fit.obstacles import Surroundings
from fascis.crossing.model.fates import Fate, Fates
from fascis.crossing.plan.choices import Scope
from fascis.crossing.scope.gathering import Gathering, folders_above, gather
from fascis.crossing.scope.selection import Selection
from fascis.crossing.scope.surveyed import Surveyed
from fascis.documents.registry import is_companion
from fascis.drives.model import Drive
from fascis.library.references.uses import Outside
from fascis.library.roles import ROLES, Role
from fascis.library.standing import Standing
from fascis.library.survey import Kind, Survey


class Totals(Struct, frozen=True):
    """Sums over regular files, without Fascis's own.

    Bytes are lengths, ``allocated`` the room on the drive.
    """

    files: int = 0
    bytes: int = 0
    allocated: int = 0


class Fitted(Struct, frozen=True):
    """The fate of every file, so that the destinations can store it.

    ``left`` files stay for that reason, ``left_taken`` files because another file has their name.
    """

    fates: array[int]
    gathering: Gathering
    apart: Apart
    left: Clashes
    clashing: tuple[int, int]
    left_taken: int = 0


def fitted(
    surveyed: Surveyed,
    scope: Scope,
    selection: Selection,
    around: Surroundings,
    meeting: Meeting | None = None,
    leave_taken: bool = False,
) -> Fitted:
    """Fits a library to its destinations.

    Names that cannot be stored are changed, or their files left out by choice.

    Args:
        meeting: the existing files there.
        leave_taken: files whose name is taken there stay.
    """
    found, drives = surveyed.survey, [d for d in around.drives if d]
    links = len(drives) < len(around.drives) or any(d.rules.links for d in drives)

    def fit() -> tuple[array[int], Gathering, Apart]:
        fates = Fates(scope.leave_out, scope.discard, links, selection.rows_out).of(found)
        gathering = _gathering(surveyed, scope, selection, fates)
        rules = [d.rules for d in drives]
        if meeting:
            meeting.loose = {
                place: Comes(o.path, o.size, o.mtime_ns, o.named or is_companion(o.path))
                for place, o in gathering.items
            }
        return (
            fates,
            gathering,
            keep_apart(found, surveyed.uses, fates, gathering, rules, surveyed.before, meeting),
        )

    fates, gathering, apart = fit()
    left_taken = 0
    if leave_taken and apart.with_taken:
        left_taken = _leave(surveyed, selection, gathering, apart.with_taken)
        fates, gathering, apart = fit()
    clashing = clashes(drives, Columns(found, fates), gathering, apart) if drives else Clashes()
    figures = len(clashing), clashing.bytes
    if not clashing or not scope.leave_clashing:
        return Fitted(fates, gathering, apart, Clashes(), figures, left_taken)
    selection.rows_out |= clashing.rows
    selection.paths_out |= clashing.paths
    return Fitted(*fit(), clashing, figures, left_taken)


def _leave(
    surveyed: Surveyed, selection: Selection, gathering: Gathering, places: set[bytes]
) -> int:
    """Leaves files, and everything in folders, at their paths; returns how many files."""

    def meant(place: bytes) -> bool:
        return place in places or not places.isdisjoint(folders_above(place))

    rows = {row for row, place in surveyed.survey.files() if meant(place)}
    rows -= selection.rows_out
    paths = {o.path for place, o in gathering.items if meant(place)}
    selection.rows_out |= rows
    selection.paths_out |= paths
    return len(rows) + len(paths)


def _gathering(
    surveyed: Surveyed, scope: Scope, selection: Selection, fates: array[int]
) -> Gathering:
    """The gathered files by these choices, and their places, including files left out."""
    found, uses = surveyed.survey, surveyed.uses

    def goes(loose: Outside) -> bool:
        wanted = loose.path not in selection.paths_out and loose.role not in scope.out
        return scope.gather and wanted

    equals = surveyed.equal_files() if scope.gather and uses.of(Standing.LOOSE) else {}
    asked = {p.removeprefix(surveyed.below) for p in equals.values()}
    if asked:
        inside = {p for row, p in found.files() if p in asked and fates[row] == Fate.COPY}
    else:
        inside = set()
    return gather(found, uses, surveyed.source, goes, inside.__contains__, equals)


def totals_of(
    found: Survey, fates: array[int], gathering: Gathering
) -> tuple[Totals, Totals, Totals]:
    """The sums of copied, left out, and discarded files."""
    files = _files(found)
    mine = np.frombuffer(bytes(fates), np.uint8)
    sums = {}
    for fate in (Fate.COPY, Fate.LEFT_OUT, Fate.DISCARD):
        rows = np.flatnonzero(files & (mine == fate)).tolist()
        sums[int(fate)] = [
            len(rows),
            # Some are so large that their sum exceeds the machine's numbers.
            sum(map(found.size.__getitem__, rows)),
            sum(map(found.allocated.__getitem__, rows)),
        ]
    along = sums[Fate.COPY]
    for _, loose in gathering.items:
        along[0] += 1
        along[1] += loose.size
        along[2] += loose.allocated
    gone_along, left, discarded = (Totals(*s) for s in sums.values())
    return gone_along, left, discarded


def _files(found: Survey) -> np.ndarray:
    """True for every row that is a regular file."""
    files: np.ndarray = np.frombuffer(found.kinds(), np.uint8) == Kind.FILE
    return files


_ALONG = [int(Fate.COPY), int(Fate.OWN)]


def room_on(
    found: Survey,
    fates: array[int],
    gathering: Gathering,
    drive: Drive | None,
    stands: Mapping[bytes, bytes],
) -> int:
    """Bytes that a library needs on a drive, in its block size.

    Documents count twice, because their earlier versions are kept.

    Args:
        stands: files that need none because an equal file exists there.
    """
    room, twins = 0, set()
    block = max(drive.block if drive else 4096, 1)
    holes, links = (drive.rules.holes, drive.rules.links) if drive else (True, True)
    document = ROLES.index(Role.DOCUMENT)
    there = {row for row, place in found.files() if place in stands} if stands else set()
    # In a subvolume the same number is another file.
    links = links and not found.subvolumes
    along = np.isin(np.frombuffer(bytes(fates), np.uint8), _ALONG)
    for row in np.flatnonzero(_files(found) & along).tolist():
        if row in there:
            continue
        if found.link_count[row] > 1 and links:
            if found.inode[row] in twins:
                continue
            twins.add(found.inode[row])
        size = found.size[row]
        if holes and found.allocated[row] < size:
            size = found.allocated[row]
        room += -(-size // block) * block * (2 if found.role[row] == document else 1)
    for place, loose in gathering.items:
        if place in stands:
            continue
        room += -(-loose.size // block) * block
    return room + (len(found.folders) + len(gathering.folders())) * block
