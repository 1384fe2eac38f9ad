"""Recognising libraries on a drive.

Identity files are searched for within limits, and read as untrusted input. An identity can come
from anybody's drive. Its content is shown, and decides nothing: nothing is written or deleted
because of it.
"""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Collection, Iterator
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.drives.connected import Drives
from fascis.drives.model import Drive
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import FascisError
from fascis.library.identity import Identity, read_identity

# Folders below the drive's own top folder.
DEPTH = 4
MOST_FOLDERS = 20_000
MOST_FOUND = 200
SECONDS = 5.0
_FILE = ".fascis/identity.json"


class Recognised(Struct, frozen=True):
    """A library on a drive, by its identity file.

    ``at_home``: it is at the path that the file names as home.
    """

    root: Path
    drive: str
    identity: Identity
    at_home: bool


class Recognition:
    """Identities on drives, searched for once while a drive stays mounted in the same way.

    Its top folder at once, deeper on request.
    """

    def __init__(self, drives: Drives, clock: Callable[[], float] = time.monotonic) -> None:
        self._drives, self._clock = drives, clock
        self._found: dict[tuple[str, Path, str], list[Path]] = {}

    def unsearched(self, drives: Collection[Drive]) -> list[Drive]:
        """Drives that were not searched deeper than their top folder, as they are mounted now."""
        return [d for d in drives if _searchable(d) and _key(d) not in self._found]

    def search(self, drive: Drive, control: Control = UNSTOPPED) -> None:
        """Searches deeper in a drive for identities.

        The result is kept until it is mounted in another way.
        """
        self._found[_key(drive)] = list(self._deep(drive.mount, control))

    def on(self, drive: Drive, but: Collection[Path] = ()) -> list[Recognised]:
        """The libraries on a drive, by earlier searches and by its top folder now.

        ``but`` leaves out those at given paths.
        """
        if not _searchable(drive):
            return []
        roots = dict.fromkeys((*_top(drive.mount), *self._found.get(_key(drive), ())))
        found = []
        for root in list(roots)[:MOST_FOUND]:
            if root not in but and (identity := self._identity(root)) is not None:
                place = os.fsdecode(bytes(root.relative_to(drive.mount)))
                home = identity.home.drive == drive.uuid and identity.home.path == place
                found.append(Recognised(root, drive.uuid, identity, home))
        return found

    def _identity(self, root: Path) -> Identity | None:
        if not (root / _FILE).is_file():
            return None
        try:
            with closing(self._drives.open(root)) as medium:
                return read_identity(medium, root)
        except FascisError:
            # Damaged, or of a newer version: reported when somebody opens it.
            return None

    def _deep(self, top: Path, control: Control) -> Iterator[Path]:
        """Folders with an identity file, nearest first.

        Never through a link, into another mount or into a library.
        """
        until, looked = self._clock() + SECONDS, 0
        waiting = deque([(top, 0)])
        try:
            device = os.lstat(top).st_dev
        except OSError:
            return
        while waiting and looked < MOST_FOLDERS and self._clock() < until and not control.stopped:
            folder, depth = waiting.popleft()
            looked += 1
            for inner in _folders(folder, device):
                if (inner / _FILE).is_file():
                    yield inner
                elif depth + 1 < DEPTH:
                    waiting.append((inner, depth + 1))


def _searchable(drive: Drive) -> bool:
    return drive.connected and drive.mount != Path("/")


def _key(drive: Drive) -> tuple[str, Path, str]:
    return drive.uuid, drive.mount, drive.hardware


def _top(mount: Path) -> list[Path]:
    try:
        device = os.lstat(mount).st_dev
    except OSError:
        return []
    return [p for p in _folders(mount, device) if (p / _FILE).is_file()]


def _folders(folder: Path, device: int) -> list[Path]:
    found = []
    try:
        with os.scandir(folder) as entries:
            for e in entries:
                if (
                    e.is_dir(follow_symlinks=False)
                    and not e.name.startswith(".")
                    and e.stat(follow_symlinks=False).st_dev == device
                ):
                    found.append(folder / e.name)
    except OSError:
        return []
    return sorted(found)
