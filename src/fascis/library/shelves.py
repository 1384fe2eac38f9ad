"""What stands on which shelf: drives with the libraries and copies on them, for drawing and for telling."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from fascis.drives.model import Drive
from fascis.drives.rules import rules_of
from fascis.files.errors import FascisError
from fascis.library.identity import read_identity
from fascis.library.register import KnownCopy, KnownDrive, KnownLibrary
from fascis.library.summary import Summary, parse_summary
from fascis.workspace import Workspace


@dataclass(frozen=True, slots=True)
class OnShelf:
    """One library, or one copy of it, on a shelf. ``summary`` is None before the first survey."""

    id: str
    name: str
    kind: str
    root: Path
    drive: str
    home: bool
    surveyed_at: float | None
    summary: Summary | None
    copies: int
    parked: bool = False

    @property
    def size(self) -> int:
        """Bytes it takes on its drive."""
        return self.summary.allocated if self.summary else 0


@dataclass(slots=True)
class Shelf:
    """A drive with what stands on it, biggest first; ``group`` is inside, connected or away."""

    drive: Drive
    group: str
    standings: list[OnShelf] = field(default_factory=list)
    seen_at: float | None = None

    @property
    def other(self) -> int:
        """Bytes taken by everything else."""
        return max(0, self.drive.capacity - self.drive.free - sum(s.size for s in self.standings))


def read_shelves(workspace: Workspace, parked: Iterable[tuple[str, Path]] = ()) -> list[Shelf]:
    """Looks at drives, register and identities now. ``parked``: ``(library id, folder)`` of originals set aside."""
    drives = workspace.drives.connected()
    register = workspace.register
    register.put_drives(drives)
    libraries = register.libraries()
    shelves = {d.uuid: Shelf(d, _group(d)) for d in drives}
    for known in register.drives():
        if known.uuid not in shelves:
            shelves[known.uuid] = Shelf(_away(known), "away", seen_at=known.seen_at)
        else:
            shelves[known.uuid].seen_at = known.seen_at
    by_id = {x.id: x for x in libraries}
    copies = [c for x in libraries for c in register.copies(x.id)]
    for found in _recognised(workspace, drives, {x.root for x in libraries} | {c.root for c in copies}):
        if found.id not in by_id:
            register.put_library(found.root, found.drive, found.name, found.kind, found.id)
            by_id[found.id] = found
            libraries.append(found)
    for library in libraries:
        _put(shelves, _of_library(library, copies))
    for copy in copies:
        if (owner := by_id.get(copy.library)) and copy.root != owner.root:
            _put(shelves, _of_copy(owner, copy, copies))
    for id, root in parked:
        if (owner := by_id.get(id)) and root.is_dir():
            drive = workspace.drives.at(root).uuid
            _put(
                shelves,
                OnShelf(
                    f"{id}:aside",
                    owner.name,
                    owner.kind,
                    root,
                    drive,
                    False,
                    None,
                    parse_summary(owner.summary),
                    0,
                    True,
                ),
            )
    for shelf in shelves.values():
        shelf.standings.sort(key=lambda s: -s.size)
    order = {"inside": 0, "connected": 1, "away": 2}
    return sorted(shelves.values(), key=lambda s: (order[s.group], -s.drive.capacity, s.drive.label))


def _put(shelves: dict[str, Shelf], standing: OnShelf) -> None:
    shelf = shelves.get(standing.drive)
    if shelf and (shelf.group == "away" or standing.root.exists()):
        shelf.standings.append(standing)


def _group(drive: Drive) -> str:
    if not drive.connected:
        return "away"
    return "connected" if drive.removable or drive.transport in ("usb", "network") else "inside"


def _away(known: KnownDrive) -> Drive:
    return Drive(
        known.uuid,
        known.label,
        known.filesystem,
        rules_of(known.filesystem),
        known.mount,
        known.capacity,
        0,
        4096,
        known.transport,
        False,
        False,
        True,
        False,
    )


def _of_library(library: KnownLibrary, copies: list[KnownCopy]) -> OnShelf:
    count = sum(c.library == library.id and c.root != library.root for c in copies)
    return OnShelf(
        library.id,
        library.name,
        library.kind,
        library.root,
        library.drive,
        True,
        library.surveyed_at,
        parse_summary(library.summary),
        count,
    )


def _of_copy(library: KnownLibrary, copy: KnownCopy, copies: list[KnownCopy]) -> OnShelf:
    count = sum(c.library == library.id for c in copies)
    return OnShelf(
        f"{library.id}:{copy.crossing}",
        library.name,
        library.kind,
        copy.root,
        copy.drive,
        False,
        copy.verified_at,
        parse_summary(library.summary),
        count,
    )


def _recognised(workspace: Workspace, drives: list[Drive], known: set[Path]) -> list[KnownLibrary]:
    """Libraries with an identity that stand in the top folder of a connected drive and are not known yet."""
    found = []
    for drive in drives:
        if not drive.connected or drive.mount == Path("/"):
            continue
        try:
            roots = [p for p in drive.mount.iterdir() if p not in known and (p / ".fascis/identity.json").is_file()]
        except OSError:
            continue
        for root in roots[:200]:
            try:
                medium = workspace.drives.open(root)
                try:
                    identity = read_identity(medium, root)
                finally:
                    medium.close()
            except FascisError:
                continue
            if identity:
                found.append(
                    KnownLibrary(identity.library_id, identity.name, identity.kind, root, drive.uuid, None, {})
                )
    return found
