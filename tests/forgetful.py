"""A drive that forgets everything that was not flushed, renames included, when the power goes.

A folder's names are kept one folder at a time: a moved file may be found at both places, as on a
file system without a log.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path


def mirror(there, copy):
    """Makes ``copy`` the same tree as ``there``."""
    shutil.rmtree(copy, ignore_errors=True)
    shutil.copytree(there, copy, symlinks=True)


class ForgetfulDrive:
    """The folder that is the drive, and beside it what its medium holds for certain.

    A folder's names are kept one folder at a time: what was moved may be found at both places, as
    on a file system
    without a log.
    """

    def __init__(self, root: Path, safe: Path) -> None:
        self.root, self.safe = root, safe
        self.flushed = set()
        self.sync()

    def sync(self):
        """Everything is on the medium now."""
        mirror(self.root, self.safe)
        self.flushed = {
            os.lstat(os.path.join(d, f)).st_ino for d, _, files in os.walk(self.root) for f in files
        }

    def sync_names(self, folder: Path):
        """The names in one folder are on the medium; of files, only content that was flushed."""
        safe = self.safe / folder.relative_to(self.root)
        if not safe.parent.exists():
            return
        safe.mkdir(exist_ok=True)
        here = {p.name for p in folder.iterdir()}
        for gone in [p for p in safe.iterdir() if p.name not in here]:
            shutil.rmtree(gone) if gone.is_dir() and not gone.is_symlink() else gone.unlink()
        for new in [p for p in folder.iterdir() if not os.path.lexists(safe / p.name)]:
            self._take(new, safe / new.name)

    def _take(self, new, safe):
        if new.is_dir() and not new.is_symlink():
            safe.mkdir()
            for inner in new.iterdir():
                self._take(inner, safe / inner.name)
            shutil.copystat(new, safe)
        elif new.is_symlink() or new.stat().st_ino in self.flushed:
            shutil.copy2(new, safe, follow_symlinks=False)
        else:
            safe.write_bytes(b"")

    def lose_power(self):
        """What was not on the medium is gone.

        The folder itself stays, since media are open on it.
        """
        for p in self.root.iterdir():
            shutil.rmtree(p) if p.is_dir() and not p.is_symlink() else p.unlink()
        shutil.copytree(self.safe, self.root, symlinks=True, dirs_exist_ok=True)
        self.flushed.clear()


class ForgetfulFile:
    """A file whose content is safe once it is flushed."""

    def __init__(self, inner, drive):
        self._inner, self._drive = inner, drive

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def flush(self):
        self._inner.flush()
        self._drive.flushed.add(self._inner.status().st_ino)


class ForgetfulMedium:
    """A medium on a folder of such a drive."""

    def __init__(self, inner, drive, folder):
        self._inner, self._drive, self._folder = inner, drive, Path(folder)

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def create(self, place, mode=0o600):
        return ForgetfulFile(self._inner.create(place, mode), self._drive)

    def sync(self):
        self._inner.sync()
        self._drive.sync()

    def sync_folder(self, place):
        self._inner.sync_folder(place)
        self._drive.sync_names(self._folder / os.fsdecode(place))


class ForgetfulDrives:
    """Drives of which one forgets."""

    def __init__(self, inner, drive):
        self._inner, self._drive = inner, drive

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def open(self, path):
        medium = self._inner.open(path)
        below = Path(path) == self._drive.root or self._drive.root in Path(path).parents
        return ForgetfulMedium(medium, self._drive, path) if below else medium
