"""Gathered media returns to its loose path when its library is brought back.

An equal file that is still there is enough. A missing file is written there from the library and
verified before the crossing starts. Nothing there is replaced. Documents of the library lead there
again, and the gathered files stay behind. A folder of gathered media returns as a whole or not at
all, so that sequences and sidecars stay together.
"""

from __future__ import annotations

import os
import stat
from contextlib import ExitStack, closing
from pathlib import Path

from msgspec import Struct, field

from fascis.copies.comparing import CopyTree, Place
from fascis.copies.repairing import copy_one
from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.places.putting import make_parents
from fascis.crossing.plan.plan import Plan
from fascis.crossing.scope.surveyed import Surveyed
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.digest import digest_at, digest_of
from fascis.files.disk.medium import Medium, PosixMedium, move, remove_own
from fascis.files.errors import Damaged, EnvironmentTrouble, Refused, told
from fascis.files.names import join, parent, shown
from fascis.words.figures import size
from fascis.words.speech import tr, trn

# The name of a copy on its way to its loose path, until it is whole.
_BEGUN = b".fascis-put-back"
_GATHERED = Which.GATHERED_VERIFIED
# Documents whose references are full paths: media that other kinds use stays gathered.
_BY_PATHS = frozenset(("otio", "xspf", "m3u8"))


class Ungathered(Struct):
    """What returns to its loose path.

    Attributes:
        paths: place in the library → its loose path.
        missing: those of them that must be written there first.
        digests: the digest that each must have.
        stays: loose folders whose media stays gathered → why.
    """

    paths: dict[Place, bytes] = field(default_factory=dict)
    missing: list[Place] = field(default_factory=list)
    digests: dict[Place, bytes] = field(default_factory=dict)
    stays: dict[bytes, str] = field(default_factory=dict)
    bytes_missing: int = 0


def find_ungathered(
    crossing: Crossing, surveyed: Surveyed, plan: Plan, control: Control = UNSTOPPED
) -> Ungathered:
    """Finds media that a crossing gathered and that can return. Writes nothing.

    Args:
        crossing: the one that brought the library to its present path.
        plan: that of bringing it back.
    """
    found = Ungathered()
    gathered = {
        item.there: item.outside for item in crossing.copies.items(_GATHERED) if item.outside
    }
    folders: dict[bytes, list[Place]] = {}
    for place in gathered:
        folders.setdefault(parent(place), []).append(place)
    with ExitStack() as stack:
        now = stack.enter_context(closing(PosixMedium.at(surveyed.source)))
        try:
            tree = CopyTree(now, surveyed.source)
        except (Damaged, EnvironmentTrouble):
            return found
        rows = {place: row for row, place in surveyed.survey.files()}
        mounts = crossing.places.header.mounts
        connected = crossing.workspace.drives.connected()
        there = {d.uuid: str(d.mount) for d in connected if d.connected}
        for folder, places in sorted(folders.items()):
            control.checkpoint()
            loose = parent(gathered[places[0]])
            why = _why_it_stays(folder, places, gathered, tree, rows, surveyed, plan)
            why = why or _why_not_there(loose, mounts, there)
            one = Ungathered()
            for place in places if not why else ():
                control.checkpoint()
                why = why or _look_at(place, gathered[place], tree, one)
            if why:
                found.stays[loose] = why
                continue
            found.paths |= one.paths
            found.missing += one.missing
            found.digests |= one.digests
            found.bytes_missing += one.bytes_missing
    return found


def _why_it_stays(
    folder: Place,
    places: list[Place],
    gathered: dict[Place, bytes],
    tree: CopyTree,
    rows: dict[Place, int],
    surveyed: Surveyed,
    plan: Plan,
) -> str:
    """Why a folder of gathered media stays as it is; empty if it can return."""
    inside = {place for place in rows if parent(place) == folder}
    if inside != set(places):
        return tr("something was put beside it, or taken away")
    if len({parent(gathered[place]) for place in places}) > 1:
        return tr("it comes from several folders")
    for place in places:
        if place.rpartition(b"/")[2] != (gathered[place]).rpartition(b"/")[2]:
            return tr("it has other names here")
        if place not in tree.recorded or not tree.is_as_recorded(place):
            return tr("it was changed since")
        row = rows[place]
        if plan.fates[row] != Fate.COPY:
            return tr("it is not copied")
        for number in surveyed.uses.used_by.get(row, ()):
            if surveyed.uses.documents[number].kind.name not in _BY_PATHS:
                return tr("a catalog or an edit list uses it")
    return ""


def _why_not_there(loose: bytes, mounts: dict[str, str], now: dict[str, str]) -> str:
    """Why nothing can be written into a loose folder: its drive is not connected.

    Args:
        mounts: where each drive was mounted when it was gathered, by UUID; ``now`` where it is.
    """
    below = [
        uuid
        for uuid, mount in mounts.items()
        if (loose + b"/").startswith(os.fsencode(mount).rstrip(b"/") + b"/")
    ]
    uuid = max(below, key=lambda u: len(mounts[u]), default="")
    return tr("its drive is away") if uuid and now.get(uuid) != mounts[uuid] else ""


def _look_at(place: Place, path: bytes, tree: CopyTree, found: Ungathered) -> str:
    """Checks one loose path; returns why its folder stays gathered, if it does."""
    entry = tree.recorded[place]
    try:
        status = os.lstat(path)
    except OSError:
        found.missing.append(place)
        found.bytes_missing += entry.size
    else:
        if not stat.S_ISREG(status.st_mode) or status.st_size != entry.size:
            return tr("something else lies there")
        if digest_at(path) != entry.digest:
            return tr("something else lies there")
    found.paths[place], found.digests[place] = path, entry.digest
    return ""


# -- putting it there ------------------------------------------------------------------------------


def put_back(root: Path, found: Ungathered, control: Control = UNSTOPPED) -> int:
    """Writes missing media to its loose paths and reads it back; returns how many files.

    Nothing there is replaced. After an interruption it can be called again.

    Args:
        root: the library that has it.

    Raises:
        Refused: a gathered file is not what it was, or something else came to lie at its place.
        EnvironmentTrouble: a drive failed.
    """
    with closing(PosixMedium.at(root)) as library:
        for place in found.missing:
            control.checkpoint()
            path = found.paths[place]
            above = _nearest(parent(path))
            try:
                with closing(PosixMedium.at(Path(os.fsdecode(above)))) as there:
                    inner = path[len(above.rstrip(b"/")) + 1 :]
                    _put_one(library, place, there, inner, found.digests[place])
            except OSError as error:
                raise told(error, tr("put back"), path) from error
    return len(found.missing)


def _nearest(folder: bytes) -> bytes:
    """The nearest existing folder: this one, or one above it."""
    while folder and not Path(os.fsdecode(folder)).is_dir():
        folder = parent(folder)
    return folder or b"/"


def _put_one(library: Medium, place: Place, there: Medium, inner: Place, digest: bytes) -> None:
    if there.exists(inner):
        with closing(there.open(inner)) as file:
            if digest_of(file) == digest:
                return
        raise Refused(
            Code.NAME_TAKEN,
            tr(
                "{inner} now exists at its loose place, and was not changed. The "
                "library was not brought back.",
                inner=shown(inner),
            ),
        )
    make_parents(there, b"", inner)
    begun = join(parent(inner), inner.rpartition(b"/")[2] + _BEGUN)
    if there.exists(begun):
        # Interrupted while writing.
        remove_own(there, begun)
    copy_one(library, place, there, begun, library.status(place).st_mtime_ns)
    with closing(there.open(begun)) as file:
        file.drop_cached()
        right = digest_of(file) == digest
    if not right:
        remove_own(there, begun)
        raise Refused(
            Code.MISMATCH,
            tr(
                "{place} did not read back equal at its loose place. Nothing else was "
                "changed, and the library was not brought back.",
                place=shown(place),
            ),
        )
    move(there, begun, inner)
    there.sync()


def told_of(found: Ungathered) -> list[str]:
    """What a person should know about it, in sentences."""
    said = []
    if found.paths:
        sentence = trn(
            "{n} gathered file goes back to where it was loose.",
            "{n} gathered files go back to where they were loose.",
            len(found.paths),
        )
        said.append(sentence)
        if found.missing:
            said.append(
                trn(
                    "{n} of them is put there again ({size}).",
                    "{n} of them are put there again ({size}).",
                    len(found.missing),
                    size=size(found.bytes_missing),
                )
            )
    said += [
        tr("{f}: stays gathered; {why}.", f=shown(f), why=why)
        for f, why in sorted(found.stays.items())
    ]
    return said
