"""Verifying a library again, a year later say.

Everything is read and compared with its manifest.
"""

from __future__ import annotations

import io
import stat
from collections.abc import Callable
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass, field
from pathlib import Path

from fascis.crossing.copying.file import Buffers, ReadBack, read_back
from fascis.crossing.copying.proof import INLINE, Proof
from fascis.crossing.model.events import Control
from fascis.drives.model import Drive
from fascis.files.errors import Damaged, EnvironmentTrouble, told
from fascis.files.inventory import Entry, read_inventory
from fascis.files.manifest import read_manifest
from fascis.files.medium import Medium, read_small
from fascis.files.names import join
from fascis.files.times import mtime_of
from fascis.library.identity import INVENTORY, MANIFEST, OWN

Place = bytes
_LIMIT = 1 << 30
BATCH_FILES, BATCH_BYTES = 256, 256 << 20  # read between two looks at the drive's counter


@dataclass(slots=True)
class Verification:
    """What was found. *Edited*: size or time differs; *damaged*: same size and time, other content.

    ``proven``: all of it was read from the drive itself, not perhaps from memory.
    """

    files: int = 0
    bytes: int = 0
    matching: int = 0
    edited: list[Place] = field(default_factory=list)
    damaged: list[Place] = field(default_factory=list)
    missing: list[Place] = field(default_factory=list)
    unlisted: list[Place] = field(default_factory=list)
    proven: bool = True

    @property
    def sound(self) -> bool:
        """True when nothing is damaged or missing."""
        return not self.damaged and not self.missing


def _recorded(medium: Medium, root: Path) -> dict[bytes, tuple[bytes, Entry | None]]:
    """``place -> (digest, inventory entry)``.

    The manifest decides, the inventory adds sizes, times and odd names.
    """
    if not medium.exists(MANIFEST):
        raise Damaged(
            root,
            "there is no manifest",
            "Only a library that arrived by a crossing can be verified. Nothing was changed.",
        )
    found: dict[bytes, tuple[bytes, Entry | None]] = {}
    for digest, place in read_manifest(
        io.BytesIO(read_small(medium, MANIFEST, _LIMIT)), root / ".fascis/manifest.b3"
    ):
        found[place] = (digest, None)
    if medium.exists(INVENTORY):
        text = io.TextIOWrapper(
            io.BytesIO(read_small(medium, INVENTORY, _LIMIT)),
            "utf-8",
            newline="",
            errors="surrogateescape",
        )
        for entry in read_inventory(text, root / ".fascis/inventory.csv"):
            digest = found[entry.place][0] if entry.place in found else entry.digest
            found[entry.place] = (digest, entry)
    return found


def verify(
    medium: Medium,
    root: Path,
    control: Control | None = None,
    beat: Callable[[int, int], None] = lambda _f, _b: None,
    drive: Drive | None = None,
) -> Verification:
    """Reads everything again, proven as in a crossing. Writes nothing.

    Args:
        drive: the one it is on; without it, whether it was read from the drive itself is not known.

    Raises:
        Damaged: there is no manifest, or it cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    control = control or Control()
    recorded = _recorded(medium, root)
    out = Verification()
    batch: list[tuple[Place, tuple[bytes, Entry | None]]] = []
    size = 0
    with ExitStack() as held:
        buffers = held.enter_context(Buffers())
        proof = held.enter_context(closing(Proof(drive))) if drive else None
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for name, status in zip(folder.names, folder.stats, strict=True):
                if not stat.S_ISREG(status.st_mode):
                    continue
                place = join(folder.place, name)
                known = recorded.pop(place, None)
                if known is None:
                    out.unlisted.append(place)
                    continue
                batch.append((place, known))
                size += status.st_size
                if len(batch) >= BATCH_FILES or size >= BATCH_BYTES:
                    _some(medium, batch, out, buffers, proof, control)
                    beat(out.files, out.bytes)
                    batch, size = [], 0
        if batch:
            _some(medium, batch, out, buffers, proof, control)
            beat(out.files, out.bytes)
    out.missing = sorted(recorded)
    return out


def _some(
    medium: Medium,
    batch: list[tuple[Place, tuple[bytes, Entry | None]]],
    out: Verification,
    buffers: Buffers,
    proof: Proof | None,
    control: Control,
) -> None:
    """Reads some files, and tells whether they were read from the drive itself."""
    if proof:
        try:
            proof.begin()
        except OSError as error:
            raise told(error, "flush the drive") from error
    stored, gone = 0, True
    for place, known in batch:
        control.checkpoint()
        read = _one(medium, place, known, out, buffers, control)
        if read:
            stored += read.stored if read.stored > INLINE else 0
            gone = gone and (proof is None or proof.proves(read.pages_gone))
    out.proven = out.proven and proof is not None and gone and proof.holds(stored)


def _one(
    medium: Medium,
    place: bytes,
    known: tuple[bytes, Entry | None],
    out: Verification,
    buffers: Buffers,
    control: Control,
) -> ReadBack | None:
    digest, entry = known
    out.files += 1
    try:
        status = medium.status(place)
    except OSError as error:
        raise told(error, "look at", place) from error
    out.bytes += status.st_size
    read: ReadBack | None = None
    with suppress(EnvironmentTrouble):
        read = read_back(medium, place, buffers, control)
    if read and read.digest == digest:
        out.matching += 1
    elif entry and (status.st_size, mtime_of(status)) != (entry.size, entry.mtime_ns):
        out.edited.append(place)
    else:
        out.damaged.append(place)
    return read
