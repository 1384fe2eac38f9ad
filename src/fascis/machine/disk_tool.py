"""The desktop's own disk tool, found by its desktop entry, if there is one.

freedesktop.org, Desktop Entry Specification. It is recognised by its categories, keywords and file
types, never by its name.
"""

from __future__ import annotations

import configparser
import os
import shlex
import shutil
import subprocess
import threading
from collections.abc import Iterable, Mapping
from pathlib import Path

from msgspec import Struct

_WORDS = frozenset(("disk", "drive", "volume", "partition", "partitioning", "format", "harddisk"))
_IMAGES = "application/x-raw-disk-image"  # shared-mime-info
_LEAST = 3


class DiskTool(Struct, frozen=True):
    """A disk tool: its name, and the command that opens it."""

    name: str
    command: tuple[str, ...]

    def open(self) -> None:
        """Starts it as an independent program. Raises ``OSError`` if it does not start."""
        nothing = subprocess.DEVNULL
        process = subprocess.Popen(
            self.command, start_new_session=True, stdin=nothing, stdout=nothing, stderr=nothing
        )
        # So that no zombie is left.
        threading.Thread(target=process.wait, name="disk-tool", daemon=True).start()


def data_folders(environment: Mapping[str, str]) -> list[Path]:
    """Where desktop entries lie (XDG Base Directory Specification)."""
    home = environment.get("XDG_DATA_HOME") or os.path.join(
        environment.get("HOME", "/"), ".local/share"
    )
    return [
        Path(home),
        *map(Path, (environment.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share").split(":")),
    ]


def find_disk_tool(folders: Iterable[Path]) -> DiskTool | None:
    """The most suitable disk tool of this desktop, or None."""
    best: tuple[int, DiskTool] | None = None
    for folder in folders:
        for path in sorted(folder.glob("applications/*.desktop")):
            points, tool = _weigh(path)
            if tool is not None and points >= _LEAST and (best is None or points > best[0]):
                best = points, tool
    return best[1] if best else None


def _weigh(path: Path) -> tuple[int, DiskTool | None]:
    entries = configparser.RawConfigParser(strict=False, delimiters=("=",))
    entries.optionxform = str  # type: ignore[assignment,method-assign]
    try:
        entries.read_string(path.read_text(errors="replace")[: 1 << 16])
        entry = entries["Desktop Entry"]
    except (OSError, configparser.Error, KeyError):
        return 0, None
    if (
        entry.get("Type") != "Application"
        or entry.get("NoDisplay") == "true"
        or entry.get("Hidden") == "true"
    ):
        return 0, None
    try:
        command = [w for w in shlex.split(entry.get("Exec", "")) if not w.startswith("%")]
    except ValueError:
        return 0, None
    if not command or shutil.which(command[0]) is None:
        return 0, None
    words = {w.strip().lower() for w in entry.get("Keywords", "").split(";")}
    points = len(words & _WORDS) + 2 * (_IMAGES in entry.get("MimeType", "").split(";"))
    points += 3 * ("Filesystem" in entry.get("Categories", "").split(";"))
    return points, DiskTool(entry.get("Name", command[0]), tuple(command))
