"""Setting aside a part of a library: its files move to a folder beside, and back.

These are the files that would be deleted. A folder that is moved as a whole is renamed as a whole,
everything else file by file, with its folders. The library itself, and files that others need,
stay. Each rename replaces nothing, and all are recorded before the first.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Collection, Iterator, Sequence
from contextlib import closing

from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.journal import ASIDE, Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.places.changes import differs
from fascis.crossing.places.places import Places
from fascis.crossing.places.putting import make_parents
from fascis.crossing.release.originals import why_stays
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium
from fascis.files.errors import Refused, told
from fascis.files.names import join, parent, shown
from fascis.files.times import ctime_of
from fascis.library.survey import Kind
from fascis.words.speech import tr
from fascis.workspace import Workspace

_IN_THE_WAY = (errno.ENOTEMPTY, errno.EEXIST, errno.ENOENT, errno.ENOTDIR)


def what_goes(copies: list[Copies], stays: Collection[bytes]) -> Iterator[Item]:
    """The files of a part that are set aside: exactly those that a release would delete.

    Args:
        copies: those of every demanded destination.
        stays: places that stay: needed by others, changed, or with a copy that is not as verified.
    """
    kept = frozenset(stays)
    for which in (Which.MAY_GO, Which.MAY_GO_UNCOPIED):
        for item in copies[0].items(which):
            if item.place not in kept and not why_stays(item, kept, copies[1:]):
                yield item


def moves(source: Medium, copies: Copies, goes: dict[bytes, Item]) -> list[bytes]:
    """The renames: whole folders if everything in them is moved.

    Changed files stay, and so does a folder that contains anything else.

    Raises:
        EnvironmentTrouble: the folder cannot be read.
    """
    crossing = {place for place, _ in copies.journal.folders_that_cross()}
    stable = bool(copies.journal.header.stable_inodes)
    whole: dict[bytes, bool] = {}
    files: dict[bytes, list[bytes]] = {}
    folders = []
    for folder in source.walk():
        mine = []
        for name, status in zip(folder.names, folder.stats, strict=True):
            item = goes.get(join(folder.place, name))
            if item is not None and not differs(item, status, stable):
                mine.append(join(folder.place, name))
        files[folder.place] = mine
        strange = folder.mounts or len(mine) < len(folder.names)
        whole[folder.place] = bool(folder.place) and folder.place in crossing and not strange
        folders.append(folder.place)
    for place in reversed(folders):
        if place and not whole[place]:
            whole[parent(place)] = False
    found = []
    for place in folders:
        if place and whole[parent(place)] and parent(place):
            continue
        found += [place] if whole[place] else files[place]
    return found


def park_part(workspace: Workspace, journal: Journal, places: Places, what: list[bytes]) -> None:
    """Renames places of the library into the folder beside it. Can be called again.

    Raises:
        Refused: a rename is not possible there; what was renamed is written down.
        EnvironmentTrouble: the drive failed.
    """
    aside, library = _names(places)
    if not journal.aside():
        journal.put(ASIDE, [(place.hex(), 0) for place in what])
    subject = tr(
        "{what} of {name} → {name_2}",
        what=len(what),
        name=shown(places.source.name),
        name_2=shown(places.parked_path.name),
    )
    act = journal.open_act("park") or journal.intend("park", subject, workspace.clock())
    changed: dict[bytes, int] = {}
    with closing(workspace.drives.open(places.source.parent)) as medium:
        try:
            if not medium.exists(aside):
                medium.make_folder(aside)
                medium.set_folder_status(aside, medium.status(library), False)
            for place in what:
                workspace.step("before a part is set aside")
                make_parents(medium, aside, join(aside, place))
                if _rename(medium, join(library, place), join(aside, place)):
                    changed[place] = ctime_of(medium.status(join(aside, place)))
            medium.sync()
        except OSError as error:
            raise _cannot(error, places) from error
    journal.put(ASIDE, [(place.hex(), changed.get(place, 0)) for place in what])
    journal.conclude(act, "done", workspace.clock())


def unpark_part(workspace: Workspace, places: Places, copies: Sequence[Copies]) -> None:
    """Renames everything back. Can be called again.

    Args:
        copies: those of every demanded destination.

    Raises:
        Refused: something else has an old name by now; the rest is back, or goes on.
        EnvironmentTrouble: the drive failed.
    """
    aside, library = _names(places)
    journal = copies[0].journal
    what = journal.aside()
    act = journal.open_act("unpark") or journal.intend(
        "unpark",
        f"{shown(places.parked_path.name)} → {shown(places.source.name)}",
        workspace.clock(),
    )
    with closing(workspace.drives.open(places.source.parent)) as medium:
        try:
            for place, ctime in what.items():
                workspace.step("before a part is put back")
                make_parents(medium, library, join(library, place))
                as_it_was = _unchanged(medium, join(aside, place), ctime)
                _rename(medium, join(aside, place), join(library, place))
                _remember(medium, copies, place, join(library, place), as_it_was)
            _remove_emptied(medium, aside, list(what))
            medium.sync()
        except FileExistsError as error:
            raise Refused(
                Code.DESTINATION_EXISTS,
                tr(
                    "Another file has the old name of what was set aside in "
                    "{parked_path}. Nothing was changed. Rename it first.",
                    parked_path=shown(str(places.parked_path)),
                ),
            ) from error
        except OSError as error:
            raise told(error, tr("put back"), aside) from error
    journal.put(ASIDE, None)
    if (begun := journal.open_act("park")) is not None:
        journal.conclude(begun, "put back", workspace.clock())  # for programs
    journal.conclude(act, "done", workspace.clock())


def _unchanged(medium: Medium, place: bytes, ctime: int) -> bool:
    """True if a file that was set aside was not touched since, by its change time."""
    try:
        return bool(ctime) and ctime_of(medium.status(place)) == ctime
    except FileNotFoundError:
        return False


def _remember(
    medium: Medium, copies: Sequence[Copies], place: bytes, there: bytes, as_it_was: bool
) -> None:
    """A rename changes a file's change time: records the new one for unchanged files.

    If it is not certain that nobody touched a file meanwhile, its content is read.
    """
    item = copies[0].at(place)
    if item is None or item.kind is not Kind.FILE or not medium.exists(there):
        return
    status = medium.status(there)
    if differs(item, status, stable=False) or not stat.S_ISREG(status.st_mode):
        return
    if not as_it_was:
        with closing(medium.open(there)) as file:
            if digest_of(file) != item.digest:
                return
    for each in copies:
        each.record_moved([(item.id, ctime_of(status))])


def _names(places: Places) -> tuple[bytes, bytes]:
    """The folder of the files set aside, and the library, as names beside each other."""
    return os.fsencode(places.parked_path.name), os.fsencode(places.source.name)


def _rename(medium: Medium, old: bytes, new: bytes) -> bool:
    """Renames without replacing; False if that was done before, or the file is gone."""
    if not medium.exists(old):
        return False
    medium.rename_new(old, new)
    return True


def _remove_emptied(medium: Medium, aside: bytes, what: list[bytes]) -> None:
    """Removes the folders that were made for it if nothing else is in them."""
    folders = {aside}
    for place in what:
        while place := parent(place):
            folders.add(join(aside, place))
    for folder in sorted(folders, key=lambda f: -f.count(b"/")):
        try:
            if stat.S_ISDIR(medium.status(folder).st_mode):
                medium.remove_folder(folder)
        except OSError as error:
            if error.errno not in _IN_THE_WAY:
                raise


def _cannot(error: OSError, places: Places) -> Exception:
    if isinstance(error, FileExistsError):
        return Refused(
            Code.DESTINATION_EXISTS,
            tr(
                "{parked_path} already contains one of these names, and was not changed.",
                parked_path=shown(str(places.parked_path)),
            ),
        )
    if error.errno in (errno.EXDEV, errno.EINVAL, errno.EBUSY, errno.EACCES, errno.EPERM):
        return Refused(
            Code.CANNOT_SET_ASIDE,
            tr(
                "Not all of it can be renamed in one step ({strerror}). What was set "
                "aside is in {parked_path}; undo puts it back.",
                strerror=error.strerror,
                parked_path=shown(str(places.parked_path)),
            ),
        )
    return told(error, tr("set aside"), os.fsencode(places.parked_path.name))
