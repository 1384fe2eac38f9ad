"""A landing in an existing folder: where it arrives, and which files exist there."""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.crossing.fit.meeting import Comes, Meeting
from fascis.crossing.fit.names import Apart
from fascis.crossing.fit.obstacles import Surroundings, enclosing_library, is_inside
from fascis.crossing.model.afterwards import Taken
from fascis.crossing.model.landing import IntoExisting
from fascis.crossing.model.problems import Problem
from fascis.crossing.places.places import hold
from fascis.crossing.scope.selection import Selection
from fascis.crossing.scope.surveyed import Surveyed
from fascis.documents.model import Means, NotUnderstood
from fascis.documents.registry import is_companion, kind_of
from fascis.files.codes import Code, Severity
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Damaged, EnvironmentTrouble, Refused
from fascis.files.inventory import read_inventory
from fascis.files.manifest import read_manifest
from fascis.files.names import join, parent, shown
from fascis.library.identity import Identity, read_identity
from fascis.library.open_files import find_open
from fascis.library.own import INVENTORY, MANIFEST, OWN
from fascis.library.references.reading import PathSource
from fascis.library.roles import ROLES, Role
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_MOST = 1000


class Into(Struct, frozen=True):
    """The landing of a plan in an existing folder.

    Attributes:
        landing: the landing.
        meeting: the existing files there.
    """

    landing: IntoExisting
    meeting: Meeting


def find_into(
    workspace: Workspace,
    surveyed: Surveyed,
    selection: Selection,
    place: Path,
    name: str,
    around: Surroundings,
) -> Into | None:
    """Finds where things arrive in the folder ``place``; adds its problems to ``around``.

    Only reads. None if that cannot be decided.

    Args:
        name: the name there of a single part, or of the library.
    """
    drive = around.drives[0]
    if drive is None or not around.usable[0]:
        return None
    real = Path(os.path.realpath(place))
    library = enclosing_library(workspace, place, drive)
    root = library or real
    inner = bytes(real)[len(bytes(root)) :].strip(b"/")
    id = _look_at_library(workspace, around, surveyed, library, place) if library else ""
    if library and id and not selection.part and id == _id_of(workspace, surveyed):
        around.add(
            Code.SAME_LIBRARY_THERE,
            tr(
                "{library} is a copy of this same library. Inside it, everything would "
                "be there twice, and it would no longer be a copy.",
                library=shown(str(library)),
            ),
            tr("Bring that copy up to date instead, or choose a folder outside of it."),
            severity_here=Severity.STOPS,
        )
        return None
    meeting = Meeting(
        root,
        {},
        _folders(surveyed, selection),
        library is not None,
        drive.rules,
        _comes(workspace, surveyed, selection),
        surveyed.compared,
    )
    tops = _outermost(selection.part.tops) if selection.part else {b"": b""}
    if not tops:
        # There is no such part; this is reported with the selection.
        return None
    if len(tops) == 1:
        tops = dict.fromkeys(tops, os.fsencode(name))
    bases = _bases(meeting, inner, tops, around)
    for base in bases.values():
        there = root / os.fsdecode(base)
        if is_inside(there, surveyed.source) or is_inside(surveyed.source, there):
            around.add(
                Code.DESTINATION_INSIDE_LIBRARY,
                tr("The library itself is at {there}.", there=shown(str(there))),
                tr("Choose another folder."),
            )
            return None
    # Files from elsewhere in the library arrive with the first part.
    bases.setdefault(b"", next(iter(bases.values())))
    meeting.bases = bases
    told = next(iter(bases.values())) if len(tops) == 1 else inner
    return Into(IntoExisting(root, told, id), meeting)


def _id_of(workspace: Workspace, surveyed: Surveyed) -> str:
    """The library's id, from its own records or the register; empty if it has none yet."""
    if surveyed.identity:
        return surveyed.identity.library_id
    known = None
    if workspace.register.path.exists():
        known = workspace.register.library_at(surveyed.root)
    return known.id if known else ""


def _outermost(tops: dict[bytes, bytes]) -> dict[bytes, bytes]:
    """Without folders that lie in another one that was named: they go with that."""
    return {
        top: name
        for top, name in tops.items()
        if not any(other != top and _lies_in(top, other) for other in tops)
    }


def _lies_in(folder: bytes, other: bytes) -> bool:
    return not other or (folder + b"/").startswith(other + b"/")


def _bases(
    meeting: Meeting, inner: bytes, tops: dict[bytes, bytes], around: Surroundings
) -> dict[bytes, bytes]:
    """Where each part arrives; existing files with a part's name are added to ``around``.

    What stands there under its name and is no folder is told ``around``.
    """
    bases: dict[bytes, bytes] = {}
    standing = meeting.standing(inner)
    for top, name in tops.items():
        number, called = 1, name
        while True:
            other = standing.get(meeting.key(called))
            place = join(inner, other.name if other else called)
            if (other is None or other.mergeable) and place not in bases.values():
                break
            if other and not other.mergeable:
                around.in_the_way.append(meeting.root / os.fsdecode(join(inner, other.name)))
            number += 1
            called = name + b" (%d)" % number
        bases[top] = place
    return bases


def _folders(surveyed: Surveyed, selection: Selection) -> frozenset[bytes]:
    survey = surveyed.survey
    return frozenset(
        f.place
        for f in survey.folders
        if f.place not in selection.folders_out and not survey.is_own(f)
    )


# -- what comes ------------------------------------------------------------------------------------


def _comes(
    workspace: Workspace, surveyed: Surveyed, selection: Selection
) -> Callable[[bytes], Comes | None]:
    """Returns arriving files by their place in the library; found when first needed."""
    survey, uses, top = surveyed.survey, surveyed.uses, surveyed.below
    rows: dict[bytes, int] = {}
    documents = {d.place for d in uses.documents if d.place and d.kind.works}
    # A document that knows its files by number and folder cannot use one elsewhere.
    databases = {n for n, d in enumerate(uses.documents) if d.kind.journals}
    along = selection.part.documents if selection.part else set(range(len(uses.documents)))
    media = {ROLES.index(r) for r in Role if r is Role.ORIGINAL or r.remakeable}

    def comes(place: bytes) -> Comes | None:
        if not rows:
            rows.update({p: row for row, p in survey.files()})
        row = rows.get(place)
        if row is None:
            return None
        users = set(uses.used_by.get(row, ()))
        kept = (
            survey.role[row] not in media
            or not users
            or bool(users & databases & along)
            or is_companion(place)
        )
        return Comes(
            top + place,
            survey.size[row],
            survey.mtime_ns[row],
            kept,
            place in documents and _says_otherwise(workspace, top + place, selection),
        )

    return comes


def _says_otherwise(workspace: Workspace, path: bytes, selection: Selection) -> bool:
    """True for a document that would be rewritten there: one that names a file by its full path.

    Relative paths that stay below its own folder lead to the same files here and there.
    """
    try:
        with PathSource(path, workspace.private) as source:
            kind = kind_of(path, source.head())
            if kind is None:
                return False
            with kind.open(source) as document:
                for reference in document.references():
                    if reference.means is not Means.PATH:
                        if reference.means in (Means.FOLDER, Means.BELOW):
                            return True
                        continue
                    for way in kind.readings(reference.as_written):
                        if way.absolute or way.foreign or way.path.startswith(".."):
                            return True
    except (NotUnderstood, EnvironmentTrouble, OSError):
        return False
    return False


# -- the library that it goes into -----------------------------------------------------------------


def _look_at_library(
    workspace: Workspace, around: Surroundings, surveyed: Surveyed, library: Path, place: Path
) -> str:
    """The id of the library, if it has records; its problems are reported."""
    where = shown(str(library))
    if is_inside(surveyed.source, library):
        around.add(
            Code.LIBRARY_INSIDE_DESTINATION,
            tr("The library is inside {where}, which is its destination.", where=where),
            tr("Choose a folder outside of that."),
        )
        return ""
    try:
        with closing(workspace.drives.open(library)) as medium:
            identity = read_identity(medium, library)
            if identity:
                check_lists(medium, library)
            hold(medium, library)
            _look_for_writers(around, medium, library)
    except Refused as error:
        around.add(error.code, str(error), tr("Let that one end first."))
        return ""
    except (Damaged, EnvironmentTrouble, OSError) as error:
        around.add(
            Code.IDENTITY_DAMAGED,
            tr("Nothing can be added to the records of {where}: {error}", where=where, error=error),
            tr("Choose a folder outside of that library."),
        )
        return ""
    around.add(
        Code.DESTINATION_IN_A_LIBRARY,
        _becomes_part(identity, library, place),
        severity_here=Severity.NOTE,
    )
    return identity.library_id if identity else ""


def _look_for_writers(around: Surroundings, medium: Medium, library: Path) -> None:
    """Nothing is added to a library while a program works in it."""
    files = {(s.st_dev, s.st_ino) for folder in medium.walk() for s in folder.stats}
    found = find_open(files, {device for device, _ in files})
    if programs := sorted({shown(f.program) for f in found.files if f.writing}):
        names = ", ".join(programs)
        around.add(
            Code.LIBRARY_OPEN,
            tr(
                "{names} has files of {library} open for writing.",
                names=names,
                library=shown(str(library)),
            ),
            tr("Close {names}, then look again.", names=names),
        )


def _becomes_part(identity: Identity | None, library: Path, place: Path) -> str:
    name = shown(identity.name if identity else library.name)
    if os.path.realpath(place) == str(library):
        return tr(
            "{place} is the library {name}: what arrives becomes part of it.",
            place=shown(str(place)),
            name=name,
        )
    return tr(
        "{place} lies in the library {name}: what arrives becomes part of it.",
        place=shown(str(place)),
        name=name,
    )


def check_lists(medium: Medium, library: Path) -> None:
    """Reads the lists of a library to their end.

    Raises:
        Damaged: one is.
        OSError: one cannot be read.
    """
    for place in (MANIFEST, INVENTORY):
        if not medium.exists(place):
            continue
        path = library / os.fsdecode(place)
        with closing(medium.open(place)) as file:
            stream = as_stream(file)
            if place == MANIFEST:
                for _ in read_manifest(stream, path):
                    pass
            else:
                text = io.TextIOWrapper(stream, "utf-8", newline="", errors="surrogateescape")
                for _ in read_inventory(text, path):
                    pass


# -- problems --------------------------------------------------------------------------------------


def taken_problems(
    apart: Apart, taken: Taken | None, left: int, in_the_way: list[Path]
) -> Iterator[Problem]:
    """Names that are taken there: a decision with two solutions.

    Args:
        left: how many files stay at the old place because of that.
        in_the_way: files with the name of a part's folder.
    """
    if in_the_way:
        yield Problem(
            Code.NAME_TAKEN,
            tr(
                "{in_the_way} is not a folder, so the arriving folder gets another "
                "name beside it. Existing files are not changed.",
                in_the_way=shown(str(in_the_way[0])),
            ),
            tr("Choose another name (--name), or go on (--rename-taken)."),
            severity_here=None if taken is None else Severity.NOTE,
        )
    if left:
        yield Problem(
            Code.NAME_TAKEN,
            trn(
                "{n} file stays at the old place, because something else has that name "
                "at the new one.",
                "{n} files stay at the old place, because something else has that name "
                "at the new one.",
                left,
            ),
            severity_here=Severity.NOTE,
        )
    if apart.taken:
        first = apart.taken[0]
        yield Problem(
            Code.NAME_TAKEN,
            trn(
                "{n} name is already used there: {first} would be called {rpartition}. "
                "Existing files are not changed.",
                "{n} names are already used there: {first} would be called "
                "{rpartition}. Existing files are not changed.",
                len(apart.taken),
                first=shown(first),
                rpartition=shown(apart.there(first).rpartition(b"/")[2]),
            ),
            tr(
                "Rename the arriving files and update the documents (--rename-taken), "
                "or leave them where they are (--leave-out taken)."
            ),
            tuple(apart.taken[:_MOST]),
            severity_here=Severity.NOTE if taken is Taken.RENAMED else None,
        )


def writable_problems(
    into: Into, apart: Apart, arriving: Callable[[bytes], bool]
) -> Iterator[Problem]:
    """Existing folders that need write permission for new files, and do not have it.

    Args:
        arriving: whether something new arrives directly in a folder of the library.
    """
    wrong = []
    for folder in sorted(apart.arriving):
        there = into.landing.folder / os.fsdecode(apart.folder(folder))
        if there.is_dir() and arriving(folder) and not os.access(there, os.W_OK | os.X_OK):
            wrong.append(there)
    if wrong:
        yield Problem(
            Code.DESTINATION_NOT_PERMITTED,
            tr("You do not have permission to write to {wrong}.", wrong=shown(str(wrong[0]))),
            tr("Check its permissions, or choose another folder."),
        )
    above = into.landing.folder
    if not os.access(above, os.W_OK | os.X_OK) or (
        into.landing.library and not os.access(above / os.fsdecode(OWN), os.W_OK | os.X_OK)
    ):
        yield Problem(
            Code.DESTINATION_NOT_PERMITTED,
            tr("You do not have permission to write to {above}.", above=shown(str(above))),
            tr("Check its permissions."),
        )


def new_in(apart: Apart, places: Iterator[bytes]) -> Callable[[bytes], bool]:
    """Whether something new arrives directly in a folder of the library."""
    folders = {parent(place) for place in places if place not in apart.stands}
    folders |= {parent(folder) for folder in apart.arriving if folder}
    return folders.__contains__
