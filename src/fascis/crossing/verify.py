"""Verifying a library again, a year later say: everything is read and compared with its manifest."""

from __future__ import annotations

import io
import stat
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from fascis.crossing.copying import Buffers, read_back
from fascis.crossing.events import Control
from fascis.files.errors import Damaged, EnvironmentTrouble, told
from fascis.files.inventory import Entry, read_inventory
from fascis.files.manifest import read_manifest
from fascis.files.medium import Medium, read_small
from fascis.files.names import join
from fascis.library.identity import INVENTORY, MANIFEST, OWN

Place = bytes
_LIMIT = 1 << 30


@dataclass(slots=True)
class Verification:
    """What was found. *Edited*: size or time differs; *damaged*: same size and time, other content."""

    files: int = 0
    bytes: int = 0
    matching: int = 0
    edited: list[Place] = field(default_factory=list)
    damaged: list[Place] = field(default_factory=list)
    missing: list[Place] = field(default_factory=list)
    unlisted: list[Place] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """True when nothing is damaged or missing."""
        return not self.damaged and not self.missing


def _recorded(medium: Medium, root: Path) -> dict[bytes, tuple[bytes, Entry | None]]:
    """``place -> (digest, inventory entry)``; the manifest decides, the inventory adds sizes, times and odd names."""
    if not medium.exists(MANIFEST):
        raise Damaged(
            root,
            "there is no manifest",
            "Only a library that arrived by a crossing can be verified. Nothing was changed.",
        )
    found: dict[bytes, tuple[bytes, Entry | None]] = {}
    for digest, place in read_manifest(io.BytesIO(read_small(medium, MANIFEST, _LIMIT)), root / ".fascis/manifest.b3"):
        found[place] = (digest, None)
    if medium.exists(INVENTORY):
        text = io.TextIOWrapper(
            io.BytesIO(read_small(medium, INVENTORY, _LIMIT)), "utf-8", newline="", errors="surrogateescape"
        )
        for entry in read_inventory(text, root / ".fascis/inventory.csv"):
            digest = found[entry.place][0] if entry.place in found else entry.digest
            found[entry.place] = (digest, entry)
    return found


def verify(
    medium: Medium, root: Path, control: Control | None = None, beat: Callable[[int, int], None] = lambda _f, _b: None
) -> Verification:
    """Reads everything again. Writes nothing.

    Raises:
        Damaged: there is no manifest, or it cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    control = control or Control()
    recorded = _recorded(medium, root)
    out = Verification()
    with Buffers() as buffers:
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for name, status in zip(folder.names, folder.stats, strict=True):
                if not stat.S_ISREG(status.st_mode):
                    continue
                control.checkpoint()
                place = join(folder.place, name)
                known = recorded.pop(place, None)
                if known is None:
                    out.unlisted.append(place)
                else:
                    _one(medium, place, known, out, buffers, control)
                    beat(out.files, out.bytes)
    out.missing = sorted(recorded)
    return out


def _one(
    medium: Medium,
    place: bytes,
    known: tuple[bytes, Entry | None],
    out: Verification,
    buffers: Buffers,
    control: Control,
) -> None:
    digest, entry = known
    out.files += 1
    try:
        status = medium.status(place)
    except OSError as error:
        raise told(error, "look at", place) from error
    out.bytes += status.st_size
    try:
        equal = read_back(medium, place, buffers, control).digest == digest
    except EnvironmentTrouble:
        equal = False
    if equal:
        out.matching += 1
    elif entry and (status.st_size, status.st_mtime_ns) != (entry.size, entry.mtime_ns):
        out.edited.append(place)
    else:
        out.damaged.append(place)
