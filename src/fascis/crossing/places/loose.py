"""Where loose media is read.

Folders outside the library, on any drive, each opened once.
"""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from pathlib import Path

from msgspec import Struct

from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble
from fascis.workspace import Workspace

_MOST_OPEN = 64


class LooseMedia:
    """Opens the folders of loose media. Safe to use from several threads."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._open: OrderedDict[bytes, Medium] = OrderedDict()
        self._let_go: list[Medium] = []
        self._lock = threading.Lock()

    def of(self, path: bytes) -> tuple[Medium, bytes]:
        """The opened folder of a path, and the name there.

        Raises:
            OSError: the folder is not there, or its drive is away.
        """
        folder, _, name = path.rpartition(b"/")
        with self._lock:
            medium = self._open.get(folder)
            if medium is None:
                try:
                    medium = self._workspace.drives.open(Path(os.fsdecode(folder or b"/")))
                except EnvironmentTrouble as error:
                    raise OSError(error.errno or 5, str(error)) from error
                self._open[folder] = medium
                # Another thread may be about to read from it.
                if len(self._open) > _MOST_OPEN:
                    self._let_go.append(self._open.popitem(last=False)[1])
                    if len(self._let_go) > _MOST_OPEN:
                        self._let_go.pop(0).close()
            else:
                self._open.move_to_end(folder)
        return medium, name

    def close(self) -> None:
        """Closes all."""
        for medium in (*self._open.values(), *self._let_go):
            medium.close()
        self._open.clear()
        self._let_go.clear()


class Sources(Struct, frozen=True):
    """The sources of a crossing: the library's folder, opened and proven, and loose media."""

    library: Medium
    loose: LooseMedia
