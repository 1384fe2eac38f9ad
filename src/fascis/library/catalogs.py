"""Catalogs in a person's own folder: making one, or adding photos to one.

The earlier one is kept. A catalog is never changed where it lies: a private copy is changed,
written beside the old one, read back, and swapped in; the old one stays beside it under its own
name.
"""

from __future__ import annotations

import os
import secrets
import tempfile
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.documents.catalog import copy_of
from fascis.documents.making import Added, add_folder, new_catalog
from fascis.documents.model import Place
from fascis.drives.connected import Drives
from fascis.drives.model import Drive
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import PosixMedium, remove_own
from fascis.files.errors import Refused, told
from fascis.files.names import fsname, shown
from fascis.files.own.private import make_private
from fascis.library.replacing import kept_name, looks, move_or_clear, not_in_use, swap, write_beside
from fascis.words.speech import tr


class Cataloged(Struct, frozen=True):
    """The result for a catalog.

    What was added, and where the earlier one is kept, or None for a new one.
    """

    path: Path
    added: Added
    before: Path | None


def catalog_folders(
    drives: Drives,
    catalog: Path,
    folders: Sequence[Path],
    cache: Path,
    control: Control = UNSTOPPED,
) -> Cataloged:
    """Adds folders of photos to a catalog, which is created if needed.

    Raises:
        Refused: a program has the catalog open, or a journal lies beside it; nothing was changed.
        NotUnderstood: it is no catalog; nothing was changed.
        EnvironmentTrouble: a place cannot be read or written.
        Cancelled: when ``control`` was stopped; nothing was changed.
    """
    make_private(cache)
    exists = os.path.lexists(catalog)
    if exists:
        not_in_use(catalog)
    with tempfile.TemporaryDirectory(dir=cache) as private:
        if exists:
            seen = os.lstat(catalog)
            copy = copy_of(catalog, Path(private))
        else:
            copy = Path(private) / "catalog"
            new_catalog(copy, catalog.stem)
        total = Added()
        for folder in folders:
            drive = drives.at(folder, measured=False)
            added = add_folder(
                copy, folder, drive.uuid if drive.has_uuid else None, drive.mount, control
            )
            total.photos += added.photos
            total.known += added.known
            total.unwritable += added.unwritable
        before = _put_in_place(catalog, copy, seen if exists else None)
    return Cataloged(catalog, total, before)


def placed(drive: Drive, folder: bytes, path: str, top: bytes) -> tuple[Place, str]:
    """A folder as a catalog's top folder and a path below it, with the same path if possible.

    Args:
        drive: the folder's drive.
        folder: its absolute path.
        path: its present path below the catalog's top folder.
        top: the new top folder if the path must change.
    """
    mount = bytes(drive.mount).rstrip(b"/")
    tail = b"/" + os.fsencode(path).strip(b"/")
    kept = not path or folder.endswith(tail)
    if kept and path:
        above = folder[: len(folder) - len(tail)]
    elif kept:
        above = folder
    else:
        above = top
    inner = path if kept else os.fsdecode(folder[len(above.rstrip(b"/")) + 1 :])
    if not drive.has_uuid:
        return Place(None, os.fsdecode(above)), inner
    return Place(drive.uuid, os.fsdecode(above[len(mount) :].strip(b"/"))), inner


def _put_in_place(catalog: Path, copy: Path, seen: os.stat_result | None) -> Path | None:
    """Writes the new catalog beside the old one, reads it back, and exchanges their names.

    The old one stays in every case.
    """
    name = fsname(catalog.name)
    kept = kept_name(name, secrets.token_hex(4))
    try:
        with closing(PosixMedium.at(catalog.parent)) as medium:
            write_beside(medium, kept, copy, seen)
            if seen is None:
                move_or_clear(medium, kept, name)
                medium.sync_folder(b"")
                return None
            if looks(os.lstat(catalog)) != looks(seen):
                # The new one, which nobody has seen.
                remove_own(medium, kept)
                raise Refused(
                    Code.LIBRARY_OPEN,
                    tr(
                        "{name} changed meanwhile and was left as it is; look again.",
                        name=shown(catalog.name),
                    ),
                )
            swap(medium, name, kept)
            medium.sync_folder(b"")
    except OSError as error:
        raise told(error, tr("write the catalog"), os.fsencode(catalog)) from error
    return catalog.with_name(os.fsdecode(kept))
