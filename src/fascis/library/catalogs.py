"""Catalogs in a person's own folder: a new one, or one to which photos are added. The one before is kept.

A catalog is never changed where it lies: a private copy is, then it is written beside the old one, read back, and swapped
in; the old one stays beside it under a name of its own.
"""

from __future__ import annotations

import errno
import os
import secrets
import tempfile
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from fascis.documents.catalog import copy_of
from fascis.documents.making import Added, add_folder, new_catalog
from fascis.drives.connected import Drives
from fascis.files import kernel
from fascis.files.digest import digest_of
from fascis.files.errors import EnvironmentTrouble, Refused, told
from fascis.files.medium import PosixMedium, move
from fascis.files.names import fsname, shown
from fascis.library.open_files import find_open

_CHUNK = 1 << 22


@dataclass(frozen=True, slots=True)
class Cataloged:
    """What became of a catalog: what was added, and where the one before is kept, or None for a new one."""

    path: Path
    added: Added
    before: Path | None


def catalog_folders(
    drives: Drives, catalog: Path, folders: Sequence[Path], cache: Path, cancelled: Callable[[], bool] = lambda: False
) -> Cataloged:
    """Adds folders of photos to a catalog, which is made where there is none.

    Raises:
        Refused: a program has the catalog open, or a journal lies beside it; nothing was changed.
        NotUnderstood: it is no catalog; nothing was changed.
        EnvironmentTrouble: a place cannot be read or written.
        Cancelled: when ``cancelled`` said so; nothing was changed.
    """
    cache.mkdir(parents=True, exist_ok=True, mode=0o700)
    exists = os.path.lexists(catalog)
    if exists:
        _not_in_use(catalog)
    with tempfile.TemporaryDirectory(dir=cache) as private:
        if exists:
            seen = os.lstat(catalog)
            copy = copy_of(catalog, Path(private))
        else:
            copy = Path(private) / "catalog"
            new_catalog(copy, catalog.stem)
        total = Added()
        for folder in folders:
            drive = drives.at(folder)
            added = add_folder(copy, folder, drive.uuid if drive.has_uuid else None, drive.mount, cancelled)
            total.photos += added.photos
            total.known += added.known
            total.unwritable += added.unwritable
        before = _put_in_place(catalog, copy, seen if exists else None)
    return Cataloged(catalog, total, before)


def _not_in_use(catalog: Path) -> None:
    for end in ("-wal", "-journal"):
        if os.path.lexists(f"{catalog}{end}"):
            raise Refused(
                "library-open",
                f"{shown(catalog.name + end)} lies beside the catalog: a program has it open, or was cut off. Close it there"
                " first; nothing was changed.",
            )
    status = os.stat(catalog)
    openers = find_open({(status.st_dev, status.st_ino)}, {status.st_dev}).files
    if openers:
        raise Refused(
            "library-open", f"{shown(openers[0].program)} has the catalog open. Close it; nothing was changed."
        )


def _put_in_place(catalog: Path, copy: Path, seen: os.stat_result | None) -> Path | None:
    """Writes the new catalog beside the old one, reads it back, and lets them change names; the old one stays, in every case."""
    beside = catalog.with_name(f"{catalog.stem} before {secrets.token_hex(4)}{catalog.suffix}")
    name, other = fsname(catalog.name), fsname(beside.name)
    try:
        with closing(PosixMedium.at(catalog.parent)) as medium:
            _write(medium, other, copy)
            if seen is None:
                _move_or_clear(medium, other, name)
                medium.sync_folder(b"")
                return None
            if _changed(catalog, seen):
                medium.unlink(other)  # the new one, which nobody has seen
                raise Refused(
                    "library-open", f"{shown(catalog.name)} changed meanwhile and was left as it is; look again."
                )
            _swap(medium, name, other)
            medium.sync_folder(b"")
    except OSError as error:
        raise told(error, "write the catalog", os.fsencode(catalog)) from error
    return beside


def _write(medium: PosixMedium, name: bytes, copy: Path) -> None:
    hasher = blake3()
    with closing(medium.create(name, 0o644)) as out, open(copy, "rb") as file:
        while part := file.read(_CHUNK):
            hasher.update(part)
            out.write(memoryview(part))
        out.flush()
    with closing(medium.open(name)) as written:
        written.drop_cached()
        if digest_of(written) != hasher.digest():
            medium.unlink(name)
            raise EnvironmentTrouble(
                f"{shown(name)} read back wrong; this drive is not to be trusted. Nothing was changed."
            )


def _swap(medium: PosixMedium, name: bytes, other: bytes) -> None:
    try:
        kernel.rename_exchange(medium.handle, name, other)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOSYS):
            medium.unlink(other)  # the new one; the old one is where it was
            raise
        spare = other + b".old"  # this drive cannot do it in one step: the old one waits under a name of its own
        move(medium, name, spare)
        move(medium, other, name)
        move(medium, spare, other)


def _move_or_clear(medium: PosixMedium, other: bytes, name: bytes) -> None:
    """Gives the new catalog its name; where that was taken meanwhile, nothing of it is left."""
    try:
        move(medium, other, name)
    except OSError:
        medium.unlink(other)
        raise


def _changed(catalog: Path, seen: os.stat_result) -> bool:
    now = os.lstat(catalog)
    return (now.st_size, now.st_mtime_ns, now.st_ino) != (seen.st_size, seen.st_mtime_ns, seen.st_ino)
