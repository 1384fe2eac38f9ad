"""What prevents a crossing.

The two places, their drives, and what the destination can store.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Sequence, Set
from contextlib import suppress
from pathlib import Path

import numpy as np
import numpy.typing as npt
from msgspec import Struct, field

from fascis.crossing.journal.glance import promised, spoken_for
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.problems import Problem
from fascis.drives.care.character import look_at_character
from fascis.drives.model import Drive
from fascis.files.codes import Code, Severity
from fascis.files.errors import Damaged, DriveGone, EnvironmentTrouble
from fascis.files.names import shown
from fascis.library.identity import Identity, read_identity
from fascis.library.open_files import find_open
from fascis.library.roles import ROLES, Role
from fascis.library.survey import Kind, Survey
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_MOST = 1000
# Measured on a library of a million files, rounded up.
_JOURNAL_BYTES_A_FILE = 420


# Files tested for a lease before the start; each is tested again while it is copied.
MOST_LEASES = 2_000


class Surroundings(Struct):
    """The drives of all places, and the problems found.

    ``drives`` are those of the destinations, None for an unknown one; ``usable`` shows which can be
    examined further. ``into``: the landing is an existing folder; ``in_the_way`` has its name and
    is not a folder.
    """

    workspace: Workspace
    source_drive: Drive | None = None
    drives: list[Drive | None] = field(default_factory=list)
    usable: list[bool] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    into: bool = False
    in_the_way: list[Path] = field(default_factory=list)

    def add(
        self,
        code: Code,
        sentence: str,
        remedy: str = "",
        files: tuple[bytes, ...] = (),
        severity_here: Severity | None = None,
    ) -> None:
        """Adds a problem once: two destinations may have the same."""
        problem = Problem(code, sentence, remedy, files[:_MOST], severity_here=severity_here)
        self.take((problem,))

    def take(self, problems: Iterable[Problem]) -> None:
        """Adds problems, each once."""
        self.problems += [p for p in problems if p not in self.problems]

    def room_problems(self, needed: list[int], rows: int) -> Iterator[Problem]:
        """Problems of room, once the totals are known.

        ``needed`` is in bytes for each destination.
        """
        others = promised(self.workspace.crossings)
        for drive, wanted in zip(self.drives, needed, strict=True):
            if drive is not None and drive.connected:
                yield from self._drive_room(drive, wanted, rows, others.get(drive.uuid, 0))
        yield from self._journal_room(rows * len(self.drives))

    @staticmethod
    def _drive_room(drive: Drive, needed: int, rows: int, others: int) -> Iterator[Problem]:
        reserve = max(1 << 20, min(256 << 20, drive.capacity // 200)) + rows * 260
        if needed + reserve + others > drive.free:
            free = size(drive.free)
            if others:
                free = tr(
                    "{free} (crossings that run or wait will take {size} of it)",
                    free=free,
                    size=size(others),
                )
            yield Problem(
                Code.NOT_ENOUGH_ROOM,
                tr(
                    "Free on {label}: {free}. Needed: {needed} ({size} for the files, the rest in "
                    "reserve).",
                    label=drive.label,
                    free=free,
                    needed=size(needed + reserve),
                    size=size(needed),
                ),
                tr("Choose a drive with more room, or leave out what can be made again."),
                (),
                tr(
                    "{size} free, {size_2} needed",
                    size=size(drive.free),
                    size_2=size(needed + reserve),
                ),
            )
        elif drive.free - needed - others < drive.capacity // 20:
            yield Problem(
                Code.NEARLY_FULL_AFTER,
                tr(
                    "{label} will be nearly full: {size} of {size_2} remain.",
                    label=drive.label,
                    size=size(drive.free - needed - others),
                    size_2=size(drive.capacity),
                ),
            )

    def _journal_room(self, rows: int) -> Iterator[Problem]:
        folder = self.workspace.state
        while not folder.exists():
            folder = folder.parent
        space = os.statvfs(folder)
        wanted = rows * _JOURNAL_BYTES_A_FILE + (4 << 20)
        if space.f_bavail * space.f_frsize < wanted:
            yield Problem(
                Code.NO_ROOM_FOR_JOURNAL,
                tr(
                    "The journal needs {size} on the drive of {folder}, which has {size_2}.",
                    size=size(wanted),
                    folder=shown(str(folder)),
                    size_2=size(space.f_bavail * space.f_frsize),
                ),
                tr("Free a little room there first."),
            )


def look_at_drives(
    workspace: Workspace,
    source: Path,
    destinations: Sequence[Path],
    ask: bool = False,
    into: bool = False,
) -> Surroundings:
    """The drives of all places, and problems of these places themselves. Writes nothing.

    Args:
        ask: the destinations are tested, which makes small files there and removes them again.
        into: the landing is an existing folder.
    """
    around = Surroundings(workspace, into=into)
    # The library's own problem reports this.
    with suppress(EnvironmentTrouble):
        around.source_drive = workspace.drives.at(source)
    for destination in destinations:
        drive, goes_on = _destination(around, source, destination)
        if ask and drive and goes_on:
            drive = workspace.drives.asked(drive, destination)
        around.drives.append(drive)
        around.usable.append(goes_on)
    _two_drives(around)
    return around


def look_around(
    around: Surroundings,
    source: Path,
    destinations: Sequence[Path],
    name: str,
    found: Survey,
    identity: Identity | None,
) -> None:
    """Examines all places with what will be copied. Writes nothing."""
    _library(around, source, found)
    for destination, drive, usable in zip(destinations, around.drives, around.usable, strict=True):
        if drive and usable and not around.into:
            _target(around, destination, name, identity)


def _two_drives(around: Surroundings) -> None:
    """A second copy on the same drive, or the same disk, does not protect you if it fails."""
    one, other = (*around.drives, None, None)[:2]
    if one is None or other is None:
        return
    if one.uuid == other.uuid:
        around.add(
            Code.ALSO_SAME_DRIVE,
            tr("Both copies would be on {label}; if it breaks, both are lost.", label=one.label),
            tr("Choose another drive for the second copy."),
        )
    elif around.workspace.drives.same_disk(one, other):
        around.add(
            Code.ALSO_SAME_DISK,
            tr(
                "{label} and {label_2} are on one physical disk; if it breaks, both "
                "copies are lost.",
                label=one.label,
                label_2=other.label,
            ),
            tr("Choose another drive for the second copy."),
        )


def parking_problems(
    source: Path, after: After, drive: Drive | None, single: bool = False, part: bool = False
) -> Iterator[Problem]:
    """Reasons why the originals cannot be set aside by one rename, reported before the start."""
    if after not in (After.PARK, After.RELEASE) or not os.path.lexists(source):
        return
    if part and after is After.RELEASE:
        # Each is deleted at its path.
        return
    if single:
        sentence = tr("A single document with what it refers to cannot be set aside by a rename.")
        yield _not_by_rename(sentence, after, "compared")
        return
    why = ""
    if not os.access(source.parent, os.W_OK | os.X_OK):
        why = tr("{parent} may not be written", parent=shown(str(source.parent)))
    elif not part and _keeps_others_names(source):
        why = tr(
            "in {parent} only the owner of a folder may rename it", parent=shown(str(source.parent))
        )
    if why:
        yield Problem(
            Code.CANNOT_SET_ASIDE,
            tr("The originals could not be set aside: {why}.", why=why),
            tr("Keep the originals, or change the permissions."),
        )
    elif os.path.ismount(source):
        name = shown(source.name)
        sentence = tr(
            "{name} is a drive's own top folder and cannot be set aside by a rename.", name=name
        )
        yield _not_by_rename(sentence, after, "compared")
    elif drive and drive.renames_safely is not True:
        refused = drive.renames_safely is False
        if refused:
            sentence = tr(
                "The driver of {label} ({name}) does not promise that a rename replaces nothing, "
                "so the originals cannot be set aside there.",
                label=shown(drive.label),
                name=drive.rules.name,
            )
        else:
            sentence = tr(
                "The driver of {label} ({name}) may not promise that a rename replaces nothing, "
                "so perhaps the originals cannot be set aside there.",
                label=shown(drive.label),
                name=drive.rules.name,
            )
        yield _not_by_rename(sentence, after, "read", certain=refused)


def _not_by_rename(sentence: str, after: After, again: str, certain: bool = True) -> Problem:
    """The originals cannot be set aside.

    A release works without it: each original is checked in another way.

    Args:
        again: how each original is checked right before it is deleted.
        certain: False if it may be possible nevertheless.
    """
    if after is After.PARK:
        remedy = tr("Keep the originals, or have them deleted after you have looked.")
        severity = Severity.STOPS if certain else Severity.NOTE
        return Problem(Code.CANNOT_SET_ASIDE, sentence, remedy, severity_here=severity)
    once_more = {
        "compared": tr("Each original is compared once more right before it is deleted."),
        "read": tr("Each original is read once more right before it is deleted."),
    }
    told = f"{sentence} {once_more[again]}"
    return Problem(Code.CANNOT_SET_ASIDE, told, "", severity_here=Severity.NOTE)


def _keeps_others_names(source: Path) -> bool:
    """True in a folder like /tmp, if the library belongs to somebody else.

    The sticky bit, see rename(2).
    """
    above, me = os.stat(source.parent), os.geteuid()
    return bool(above.st_mode & stat.S_ISVTX) and me not in (
        0,
        above.st_uid,
        os.lstat(source).st_uid,
    )


def _library(around: Surroundings, source: Path, found: Survey) -> None:
    if found.mounts:
        around.add(
            Code.NESTED_MOUNTS,
            trn(
                "{n} other drive is mounted inside the library; what is on them stays where it is.",
                "{n} other drives are mounted inside the library; what is on them stays "
                "where it is.",
                len(found.mounts),
            ),
            tr("Unmount them, or continue without them."),
            tuple(found.mounts),
        )
    if found.subvolumes:
        around.add(
            Code.NESTED_SUBVOLUMES,
            trn(
                "{n} folder of the library is a subvolume of its file system, {subvolumes} "
                "first. It is copied, and becomes an ordinary folder there.",
                "{n} folders of the library are subvolumes of its file system, {subvolumes} "
                "first. They are copied, and become ordinary folders there.",
                len(found.subvolumes),
                subvolumes=shown(found.subvolumes[0]),
            ),
            "",
            tuple(found.subvolumes),
        )
    inodes = _Inodes(found)
    openers = find_open(inodes, inodes.devices)
    writers = [o for o in openers.files if o.writing]
    if writers:
        programs = ", ".join(sorted({shown(o.program) for o in writers}))
        places = inodes.places({(o.device, o.inode) for o in writers})
        around.add(
            Code.LIBRARY_OPEN,
            trn(
                "{programs} has {n} file of the library open for writing.",
                "{programs} has {n} files of the library open for writing.",
                len(places) or 1,
                programs=programs,
            ),
            tr("Close {programs}, then look again.", programs=programs),
            tuple(places),
        )
    if not openers.all_seen and not writers:
        _ask_leases(around, source, found)
    special: tuple[bytes, ...] = ()
    if Kind.SPECIAL in found.kinds():
        special = tuple(p for row, _, p in found.rows() if found.kind(row) is Kind.SPECIAL)
    if special:
        around.add(
            Code.SPECIAL_FILES,
            trn(
                "{n} device, pipe or socket cannot be copied and will stay.",
                "{n} devices, pipes or sockets cannot be copied and will stay.",
                len(special),
            ),
            "",
            special,
        )


def _ask_leases(around: Surroundings, source: Path, found: Survey) -> None:
    """Programs of other users cannot be seen.

    Read leases show whether one of them writes; documents and small roles are tested first.
    """
    files = np.flatnonzero(np.frombuffer(found.kinds(), np.uint8) == Kind.FILE)
    soon = [ROLES.index(Role.DOCUMENT), ROLES.index(Role.OTHER)]
    is_first = np.isin(np.frombuffer(bytes(found.role), np.uint8)[files], soon)
    order = np.concatenate((files[is_first], files[~is_first]))
    asked = set(order[:MOST_LEASES].tolist())
    known, written = len(files) <= MOST_LEASES, []
    try:
        medium = around.workspace.drives.open(source)
    except EnvironmentTrouble:
        return  # Reported elsewhere.
    try:
        for place in _places(found, asked):
            try:
                file = medium.open(place)
            except OSError:
                known = False
                continue
            try:
                granted = file.hold()
            finally:
                file.close()
            known = known and granted is not None
            if granted is False:
                written.append(place)
    finally:
        medium.close()
    if written:
        around.add(
            Code.LIBRARY_OPEN,
            trn(
                "A program of another user has {n} file of the library open for writing, "
                "{written} first.",
                "A program of another user has {n} files of the library open for "
                "writing, {written} first.",
                len(written),
                written=shown(written[0]),
            ),
            tr("Close it, then look again."),
            tuple(written[:1000]),
        )
    elif not known:
        around.add(
            Code.OPEN_NOT_KNOWN,
            tr(
                "Programs of other users cannot be seen, so it is not known for every "
                "file whether one of them has it open."
            ),
        )


class _Inodes:
    """The survey's files as a container of (device, inode), without an object for each file."""

    def __init__(self, found: Survey) -> None:
        self._found = found
        everything = np.array(found.inode, np.uint64)
        pieces: dict[int, list[npt.NDArray[np.uint64]]] = {}
        for folder in found.folders:
            some = everything[folder.first : folder.end]
            pieces.setdefault(folder.device, []).append(some)
        self._inodes = {d: np.sort(np.concatenate(some)) for d, some in pieces.items()}

    @property
    def devices(self) -> Set[int]:
        """The device numbers of these inodes."""
        return self._inodes.keys()

    def __contains__(self, key: object) -> bool:
        if not isinstance(key, tuple) or (mine := self._inodes.get(key[0])) is None:
            return False
        at = int(np.searchsorted(mine, np.uint64(key[1])))
        return at < len(mine) and int(mine[at]) == key[1]

    def places(self, wanted: set[tuple[int, int]]) -> list[bytes]:
        """The places of some files, by device and inode."""
        inode = self._found.inode
        return [p for row, f, p in self._found.rows() if (f.device, inode[row]) in wanted]


def is_inside(inner: Path, outer: Path) -> bool:
    """True if ``inner`` is ``outer`` or below it, by device and inode, never by path text."""
    try:
        wanted = os.stat(outer)
        here = Path(os.path.realpath(inner))
        return any(os.path.samestat(os.stat(p), wanted) for p in (here, *here.parents))
    except OSError:
        return False


def _destination(
    around: Surroundings, source: Path, destination: Path
) -> tuple[Drive | None, bool]:
    """Problems of the folder that will contain the library.

    Its drive, and True if it can be examined further.
    """
    text = shown(str(destination))
    try:
        around.workspace.drives.check_answers(destination)
    except DriveGone as error:
        around.add(Code.DRIVE_SILENT, str(error), tr("Check the cable, or connect it again."))
        return None, False
    if not os.path.lexists(destination):
        around.add(
            Code.DESTINATION_MISSING,
            tr("There is no folder {text}.", text=text),
            tr("Make it, or connect its drive."),
        )
        return None, False
    if not destination.is_dir():
        around.add(
            Code.DESTINATION_NOT_A_FOLDER,
            tr("{text} is not a folder.", text=text),
            tr("Name a folder on the drive."),
        )
        return None, False
    try:
        drive = around.workspace.drives.at(destination)
    except EnvironmentTrouble as error:
        around.add(Code.DESTINATION_NOT_PERMITTED, str(error), tr("Check its permissions."))
        return None, False
    if not drive.connected:
        around.add(Code.AWAY, tr("{label} is away.", label=drive.label), tr("Connect it."))
        return drive, False
    if is_inside(destination, source):
        around.add(
            Code.DESTINATION_INSIDE_LIBRARY,
            tr("{text} lies inside the library itself.", text=text),
            tr("Choose another drive."),
        )
        return drive, False
    _look_at_place(around, destination, drive)
    _suitability(around, drive, destination)
    return drive, True


def _look_at_place(around: Surroundings, destination: Path, drive: Drive) -> None:
    """Problems of a folder that can be examined, and of its drive."""
    text = shown(str(destination))
    library = None if around.into else enclosing_library(around.workspace, destination, drive)
    if library is not None:
        around.add(
            Code.DESTINATION_IN_A_LIBRARY,
            tr(
                "{text} lies inside another library, {library}.",
                text=text,
                library=shown(str(library)),
            ),
            tr("Choose a folder outside of it."),
        )
    if drive.read_only:
        around.add(
            Code.DESTINATION_READ_ONLY,
            tr("{label} can only be read.", label=drive.label),
            tr("Connect it so that it can be written."),
        )
    elif not os.access(destination, os.W_OK | os.X_OK):
        around.add(
            Code.DESTINATION_NOT_PERMITTED,
            tr("You do not have permission to write to {text}.", text=text),
            tr("Check its permissions."),
        )
    if around.source_drive and around.source_drive.uuid == drive.uuid:
        around.add(
            Code.SAME_DRIVE,
            tr("The library is on {label} already; nothing would be freed.", label=drive.label),
            "" if around.into else tr("Choose another drive."),
            severity_here=Severity.NOTE if around.into else None,
        )
    elif around.source_drive and around.workspace.drives.same_disk(around.source_drive, drive):
        around.add(
            Code.SAME_DISK,
            tr("Both places are on one physical disk; if it breaks, both are lost."),
            tr("Choose another drive."),
        )
    if drive.transport == "network":
        around.add(
            Code.NETWORK_DRIVE,
            tr(
                "{label} is a network share; whether a flush reaches its disks is not known.",
                label=drive.label,
            ),
        )


def enclosing_library(workspace: Workspace, destination: Path, drive: Drive) -> Path | None:
    """The library that a folder is, or lies in.

    By an identity file in it or above it, or one that is known here.
    """
    real = Path(os.path.realpath(destination))
    for above in (real, *real.parents):
        if (above / ".fascis/identity.json").is_file() and not (
            above / ".fascis/arriving.json"
        ).is_file():
            return above
    if not workspace.register.path.exists():
        return None
    for library in workspace.register.libraries():
        roots = [library.root, *(c.root for c in workspace.register.copies(library.id))]
        for root in roots:
            if root != drive.mount and root.is_dir() and is_inside(real, root):
                return root
    return None


def _suitability(around: Surroundings, drive: Drive, destination: Path) -> None:
    """Reasons against a drive as such."""
    label = shown(drive.label)
    for one in (drive, around.source_drive):
        if one and one.ambiguous:
            around.add(
                Code.DRIVE_TWINS,
                tr(
                    "{label} shares its identity (UUID) with another drive that is "
                    "connected, as a cloned disk does; which is which is not known.",
                    label=shown(one.label),
                ),
                tr("Disconnect the one that you do not mean."),
            )
    if drive.errors:
        around.add(
            Code.DRIVE_ERRORS,
            trn(
                "The kernel has counted {n} fault of the file system on {label}.",
                "The kernel has counted {n} faults of the file system on {label}.",
                drive.errors,
                label=label,
            ),
            tr("Have the drive checked first, or choose another."),
        )
    character = look_at_character(drive)
    if character.backup:
        around.add(
            Code.BACKUP_DRIVE,
            tr(
                "{label} seems to be somebody's backup disk: {backup}. A backup "
                "program may delete or overwrite files there.",
                label=label,
                backup=character.backup,
            ),
            tr("Choose another drive, or continue if it is not a backup disk."),
        )
    if drive.system or character.system:
        why = tr("the system of this machine is on it") if drive.system else character.system
        around.add(
            Code.SYSTEM_DRIVE, tr("{label} is a system disk: {why}.", label=label, why=why), ""
        )


def _target(around: Surroundings, destination: Path, name: str, identity: Identity | None) -> None:
    """Problems of what exists at the destination already."""
    target = destination / name
    if os.path.lexists(target):
        around.add(
            Code.DESTINATION_EXISTS,
            tr("{target} already exists, and is not changed.", target=shown(str(target))),
            tr("Give the library another name there."),
        )
    elif ahead := spoken_for(around.workspace.crossings, target):
        around.add(
            Code.DESTINATION_EXISTS,
            tr(
                "A crossing that has not arrived yet ({crossing}) will put its library at "
                "{target}.",
                crossing=ahead,
                target=shown(str(target)),
            ),
            tr("Continue that one, give it up, or give this library another name there."),
        )
    if identity is None:
        return
    try:
        siblings = [p for p in destination.iterdir() if (p / ".fascis/identity.json").is_file()]
    except OSError as error:
        around.add(
            Code.DESTINATION_NOT_PERMITTED,
            tr(
                "{destination} cannot be opened ({strerror}), so it is not known "
                "whether a copy of this library is there already.",
                destination=shown(str(destination)),
                strerror=error.strerror,
            ),
            tr("Check its permissions, or continue to have a copy there anyway."),
            severity_here=Severity.DECISION,
        )
        return
    for sibling in siblings[:200]:
        try:
            medium = around.workspace.drives.open(sibling)
            try:
                other = read_identity(medium, sibling)
            finally:
                medium.close()
        except (Damaged, EnvironmentTrouble) as error:
            around.add(
                Code.IDENTITY_DAMAGED,
                tr(
                    "{name} could not be identified: {error}", name=shown(sibling.name), error=error
                ),
                severity_here=Severity.NOTE,
            )
            continue
        if other and other.library_id == identity.library_id:
            around.add(
                Code.SAME_LIBRARY_THERE,
                tr("{sibling} is a copy of this same library.", sibling=shown(str(sibling))),
                tr("Continue to have one more copy beside it."),
            )


def _places(found: Survey, rows: set[int]) -> Iterator[bytes]:
    """The places of some rows, folder by folder."""
    for folder in found.folders:
        above = folder.place + b"/" if folder.place else b""
        for row in range(folder.first, folder.end):
            if row in rows:
                yield above + found.name(row)
