"""Controls for stand-in drives.

Connects and disconnects them, also on another path, and renames, fills, slows and clones them. It
does to a stand-in what a person does to a real drive, by changing its description and its folder;
its files stay.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.drives.care.removal import describe
from fascis.drives.connected import Drives
from fascis.drives.stand_in import DESCRIPTION, Description, StandIn, read_description
from fascis.files.disk.medium import PosixMedium, remove_own
from fascis.files.errors import EnvironmentTrouble, told

FILLER = "filler.bin"
ELSEWHERE = " (elsewhere)"
OTHER_NAME = " (renamed)"
SLOW = 0.2


class Lever(Struct, frozen=True):
    """One thing that can be done to a stand-in now: its label, and the function."""

    words: str
    pull: Callable[[], object]


def levers(drives: Drives, folder: Path) -> list[Lever]:
    """What can be done now to the stand-in in a folder."""
    d = read_description(folder)
    if d is None:
        return []
    if not d.connected:
        return [
            Lever("Plug in", lambda: describe(folder, connected=True)),
            Lever("Plug in elsewhere", lambda: plug_in_elsewhere(folder)),
            Lever("Rename", lambda: rename(folder, d)),
        ]
    stand_in = next(s for s in drives.stand_ins() if s.folder == folder)
    room = Lever("Fill", lambda: fill(stand_in))
    if (folder / FILLER).exists():
        room = Lever("Empty", lambda: empty(folder))
    pace = Lever("Slow", lambda: slow(folder, d))
    if 0 < d.write_mb_s < 1:
        pace = Lever("Quicken", lambda: quicken(folder, d))
    return [
        Lever("Unplug", lambda: describe(folder, connected=False)),
        room,
        pace,
        Lever("Rename", lambda: rename(folder, d)),
        Lever("Clone", lambda: clone(folder, d)),
    ]


def plug_in_elsewhere(folder: Path) -> Path:
    """Connects it on another path, as another computer or desktop would.

    Returns its folder then.
    """
    if folder.name.endswith(ELSEWHERE):
        name = folder.name.removesuffix(ELSEWHERE)
    else:
        name = folder.name + ELSEWHERE
    with closing(PosixMedium.at(folder.parent)) as medium:
        try:
            medium.rename_new(os.fsencode(folder.name), os.fsencode(name))
        except OSError as error:
            raise told(error, "plug it in elsewhere", os.fsencode(name)) from error
    there = folder.with_name(name)
    describe(there, connected=True)
    return there


def rename(folder: Path, d: Description) -> None:
    """Gives it another label, or the earlier one."""
    renamed = d.label.endswith(OTHER_NAME)
    describe(folder, label=d.label.removesuffix(OTHER_NAME) if renamed else d.label + OTHER_NAME)


def fill(stand_in: StandIn, leave: int = 2 << 20) -> None:
    """Fills it, except for two megabytes."""
    wanted = stand_in.free() - leave
    if wanted <= 0:
        return
    fd = os.open(
        stand_in.folder / FILLER, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644
    )
    try:
        os.posix_fallocate(fd, 0, wanted)
    except OSError as error:
        raise told(error, "fill the stand-in drive") from error
    finally:
        os.close(fd)


def empty(folder: Path) -> None:
    """Removes the filling."""
    with closing(PosixMedium.at(folder)) as medium:
        remove_own(medium, os.fsencode(FILLER))


def slow(folder: Path, d: Description) -> None:
    """Slows it down to a crawl."""
    describe(folder, write_mb_s=d.write_mb_s * SLOW / max(d.write_mb_s, SLOW), read_mb_s=SLOW)


def quicken(folder: Path, d: Description) -> None:
    """Restores its full speed."""
    describe(folder, write_mb_s=60, read_mb_s=90)


def clone(folder: Path, d: Description) -> Path:
    """Makes a stand-in with the same UUID, like a cloned disk.

    The clone has none of the files.
    """
    there = folder.with_name(f"{folder.name} (clone)")
    try:
        there.mkdir()
        (there / DESCRIPTION).write_text(
            d.model_copy(update={"faults": []}).model_dump_json(indent=1)
        )
    except OSError as error:
        raise EnvironmentTrouble(
            f"It could not be cloned: {error.strerror}. Nothing was changed."
        ) from error
    return there
