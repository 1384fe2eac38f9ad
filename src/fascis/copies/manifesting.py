"""Identity and manifest for a library that never crossed, so that it can be verified and compared.

Every file is read, and proven to be read from the drive where possible. Then the lists and the
identity are written into ``.fascis``, the identity last. Nothing else is changed.
"""

from __future__ import annotations

import io
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing
from itertools import islice
from pathlib import Path

from msgspec import Struct, field

from fascis.crossing.copying.reading_back import Buffers, read_back
from fascis.crossing.places.places import hold
from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.digests import Algorithm
from fascis.files.disk.beneath import open_folder
from fascis.files.disk.medium import Medium
from fascis.files.disk.writer import AtomicWriter, write_whole
from fascis.files.errors import EnvironmentTrouble, Refused, told
from fascis.files.inventory import Entry, InventoryWriter
from fascis.files.manifest import format_line, write_manifest
from fascis.files.names import shown
from fascis.files.times import mtime_of
from fascis.library.identity import Home, Identity, format_identity, read_identity
from fascis.library.own import IDENTITY, INVENTORY, MANIFEST, OWN
from fascis.library.roles import ROLES
from fascis.words.speech import tr
from fascis.workspace import Workspace

_AT_ONCE = 4096
Place = bytes


class Listed(Struct):
    """What was written.

    Attributes:
        changing: files that changed while they were read; they are not listed.
    """

    library_id: str
    name: str
    files: int = 0
    bytes: int = 0
    changing: list[Place] = field(default_factory=list)


def write_lists_of(
    workspace: Workspace,
    root: Path,
    control: Control,
    beat: Callable[[int, int, int], None] = lambda _f, _b, _of: None,
) -> Listed:
    """Gives a library its identity and its manifest.

    Raises:
        Refused: it has a manifest already, is no folder, or a crossing of it runs.
        EnvironmentTrouble: it cannot be read, or written.
        Cancelled: by the control; nothing was written.
    """
    surveyed = survey_library(workspace, root, None, control)
    if surveyed.document or not surveyed.survey.folders:
        raise Refused(
            Code.LIBRARY_NOT_A_FOLDER,
            tr("{root} is no folder of a library. Nothing was written.", root=shown(str(root))),
        )
    with closing(workspace.drives.open(root)) as medium:
        if medium.exists(MANIFEST):
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "{name} has a manifest already. fascis verify compares it; nothing was "
                    "written.",
                    name=shown(root.name),
                ),
            )
        hold(medium, root)
        identity = read_identity(medium, root)
        known = remember(workspace, surveyed)
        listed = Listed(identity.library_id if identity else known, shown(surveyed.name))
        entries = _read(medium, surveyed, listed, control, beat)
        try:
            _write(workspace, medium, surveyed, entries, listed, identity)
        except OSError as error:
            raise told(error, tr("write the lists"), OWN) from error
    return listed


def _read(
    medium: Medium,
    surveyed: Surveyed,
    listed: Listed,
    control: Control,
    beat: Callable[[int, int, int], None],
) -> list[Entry]:
    survey, entries = surveyed.survey, []
    of = sum(survey.size[row] for row, _ in survey.files())
    with Buffers() as buffers:
        for row, place in survey.files():
            before = _looks(medium, place)
            try:
                digest = read_back(medium, place, buffers, control).digest
            except EnvironmentTrouble:
                listed.changing.append(place)
                continue
            if before is None or before != _looks(medium, place):
                listed.changing.append(place)
                continue
            size, mtime = before
            entries.append(Entry(place, size, mtime, digest, ROLES[survey.role[row]].value))
            listed.files += 1
            listed.bytes += size
            beat(listed.files, listed.bytes, of)
    return entries


def _looks(medium: Medium, place: bytes) -> tuple[int, int] | None:
    try:
        status = medium.status(place)
    except OSError:
        return None
    return (status.st_size, mtime_of(status)) if stat.S_ISREG(status.st_mode) else None


def _write(
    workspace: Workspace,
    medium: Medium,
    surveyed: Surveyed,
    entries: list[Entry],
    listed: Listed,
    identity: Identity | None,
) -> None:
    if not medium.exists(OWN):
        medium.make_folder(OWN)
    own = open_folder(medium.handle, OWN)
    with ExitStack() as stack:
        stack.callback(os.close, own)
        names = (place.rpartition(b"/")[2] for place in (INVENTORY, MANIFEST))
        inventory, manifest = (stack.enter_context(AtomicWriter(own, name)) for name in names)
        text = io.TextIOWrapper(inventory.file, "utf-8", newline="")
        lists, rest = InventoryWriter(text), iter(entries)
        while some := list(islice(rest, _AT_ONCE)):
            lists.write(some)
            write_manifest(manifest.file, ((entry.digest, entry.place) for entry in some))
        text.detach()
        inventory.commit()
        manifest.commit()
        if identity is None:
            home = _home(workspace, surveyed.source)
            new = Identity(
                library_id=listed.library_id, name=listed.name, kind=surveyed.kind, home=home
            )
            write_whole(own, IDENTITY.rpartition(b"/")[2], format_identity(new))
        medium.sync()


def _home(workspace: Workspace, root: Path) -> Home:
    drive = workspace.drives.at(root, measured=False)
    real = Path(os.path.realpath(root))
    path = real.relative_to(drive.mount) if real.is_relative_to(drive.mount) else real
    return Home(drive=drive.uuid, path=shown(str(path)))


def lines_of(
    workspace: Workspace, root: Path, algorithm: Algorithm, control: Control
) -> Iterator[bytes]:
    """The lines of a hash list of a library, for other programs: digest, two spaces, path.

    Names are written as their bytes; those with a newline or a backslash are escaped.

    Raises:
        EnvironmentTrouble: a file cannot be read.
    """
    survey = survey_library(workspace, root, None, control).survey
    with closing(workspace.drives.open(root)) as medium, Buffers({algorithm}) as buffers:
        for _, place in survey.files():
            read = read_back(medium, place, buffers, control)
            yield format_line(read.others.get(algorithm, read.digest), place)
