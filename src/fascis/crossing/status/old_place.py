"""The old place after a switch.

A program may create an empty library there, which is easily mistaken for the real one.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from msgspec import Struct

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.files.errors import DriveGone
from fascis.files.names import shown
from fascis.library.known.shelves import Aside
from fascis.words.speech import tr, trn

MOST = 1000  # Files that are counted.


class Begun(Struct, frozen=True):
    """A library that exists again where one was before it moved.

    Its path, the library's id and its present home. ``since`` is the time of its oldest file in
    seconds since 1970; ``files`` are counted up to a thousand.
    """

    path: Path
    library: str
    name: str
    home: Path
    home_drive: str
    files: int
    since: float

    @property
    def sentence(self) -> str:
        """What it means, and what to do."""
        if self.files:
            what = trn("{n} file", "{n} files", self.files)
            if self.files >= MOST:
                what = tr("{files} and more", files=what)
        else:
            what = tr("nothing in it")
        return tr(
            "There is something new at the old place of {name}, {path}, with "
            "{what}. The library's home is {home_drive}; open it from there. "
            "Nothing here was changed.",
            name=shown(self.name),
            path=shown(str(self.path)),
            what=what,
            home_drive=shown(self.home_drive),
        )


def set_aside(crossings: Iterable[Crossing]) -> list[Aside]:
    """Originals that were set aside.

    A drive that does not answer is not accessed.
    """
    there = [c for c in crossings if c.state is State.PARKED and _answers(c)]
    return [
        Aside(
            c.places.header.library_id,
            _aside(c),
            c.places.header.frees or c.journal.planned()[1],
            c.journal.value("parked_on"),
        )
        for c in there
    ]


def copied_bytes(crossings: Iterable[Crossing]) -> dict[Path, int]:
    """The total length of each copy, in bytes, by the crossing that made it.

    Without copies that were updated since: these are as large as their home.
    """
    found: dict[Path, int] = {}
    for crossing in crossings:
        for destination in crossing.demanded:
            places = destination.places
            if destination.state is State.SETTLED and places.told not in found:
                updated = places.goal.updates
                found[places.told] = 0 if updated else crossing.journal.planned()[1]
    return {root: count for root, count in found.items() if count}


def _aside(crossing: Crossing) -> Path:
    """The folder of originals that were set aside: a part has another one than its library."""
    return crossing.places.parked_path if crossing.part else crossing.places.origin()


def _answers(crossing: Crossing) -> bool:
    try:
        crossing.workspace.drives.check_answers(crossing.places.source)
    except DriveGone:
        return False
    return True


def begun_again(crossings: Sequence[Crossing]) -> list[Begun]:
    """Libraries that exist again at old places whose originals were set aside or deleted.

    Only reads, and only names on local drives.
    """
    found: dict[Path, Begun] = {}
    for crossing in crossings:
        if crossing.state not in (State.PARKED, State.RELEASED) or crossing.places.header.document:
            continue
        if crossing.part:
            # The rest of its library is there.
            continue
        if not _answers(crossing):
            continue
        crossing.places.follow_source(crossing.workspace)
        old = crossing.places.source
        left = (crossing.journal.value("release") or {}).get("left_behind")
        # Otherwise nothing of the old folder is there.
        stays = crossing.state is State.PARKED or bool(left)
        if (
            old in found
            or not old.is_dir()
            or old.is_symlink()
            or (stays and crossing.places.is_original(old))
        ):
            continue
        if any(
            c.places.target == old for c in crossings if c.state in (State.SETTLED, State.SWITCHED)
        ):
            continue  # It was brought back there.
        if (old / ".fascis/identity.json").is_file():
            # A library of its own, which is recognised as one.
            continue
        if left and not crossing.places.header.stable_inodes:
            # Files that stayed, in a folder that cannot be recognised.
            continue
        files, since = _count(old)
        places = crossing.places
        found[old] = Begun(
            old,
            places.header.library_id,
            places.header.name,
            places.target,
            places.label,
            files,
            since,
        )
    return list(found.values())


def _count(folder: Path) -> tuple[int, float]:
    files, since = 0, 0.0
    for above, _, names in os.walk(folder):
        for name in names:
            try:
                changed = os.lstat(os.path.join(above, name)).st_mtime
            except OSError:
                continue
            since = min(since or changed, changed)
            files += 1
            if files >= MOST:
                return files, since
    return files, since
