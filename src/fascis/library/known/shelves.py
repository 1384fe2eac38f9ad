"""Which library is on which shelf.

Drives with the libraries and copies on them, for drawing and for text.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Mapping
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct, field
from msgspec.structs import replace

from fascis.drives.care.character import Character, look_at_character
from fascis.drives.model import Drive
from fascis.drives.rules import rules_of
from fascis.library.known.places import KnownPlaces, State, known_places, reminder
from fascis.library.known.recognising import Recognised, Recognition
from fascis.library.own import OWN
from fascis.library.references.summary import Summary, parse_summary
from fascis.library.register import Former, KnownCopy, KnownDrive, KnownLibrary, Register
from fascis.words.speech import tr
from fascis.workspace import Workspace

# Seconds for which a drive counts as just reconnected.
JUST_NOW = 60.0


class Aside(Struct, frozen=True):
    """Originals that were set aside: their library, their path, their room, and since when.

    Bytes on their drive; seconds since 1970, or None if not known.
    """

    library: str
    root: Path
    bytes: int
    at: float | None


class OnShelf(Struct, frozen=True):
    """One library, or one copy of it, on a shelf. ``summary`` is None before the first survey.

    Attributes:
        says: the content of its identity file, for a recognised one: an unknown library, or another
            folder with the id of a known one.
        offered: it is unknown here and can be added.
        state: how a copy compares with its home; for a home only whether it is damaged.
        reminder: what should be done about it by now, in a few words.
        bytes: its room, if known for this folder; otherwise 0.
        aside_at: when it was set aside, in seconds since 1970.
    """

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
    says: Recognised | None = None
    offered: bool = False
    state: State | None = None
    reminder: str = ""
    bytes: int = 0
    aside_at: float | None = None

    @property
    def size(self) -> int:
        """Bytes it takes on its drive."""
        return self.bytes or (self.summary.allocated if self.summary else 0)

    @property
    def standing(self) -> str:
        """Its part in the library, for programs."""
        if self.says:
            return "new here" if self.offered else "another folder"  # for programs
        if self.parked:
            return "set aside"  # for programs
        return "home" if self.home else "copy"

    @property
    def standing_words(self) -> str:
        """The same for people."""
        words = {
            "new here": tr("new here"),
            "another folder": tr("another folder"),
            "set aside": tr("set aside"),
            "home": tr("home"),
            "copy": tr("copy"),
        }
        return words[self.standing]

    @property
    def library(self) -> str:
        """The id of its library, whichever of its folders this is."""
        return self.id.split(":")[0]


class Shelf(Struct):
    """A drive with its libraries, biggest first; ``group`` is inside, connected or away.

    Attributes:
        speed: MB/s of writing and reading as last measured, and when; None if never measured.
        former: where it was mounted before, and its earlier names, latest first.
        back: its earlier path and name, if it was just reconnected elsewhere or under another name.
        used: for one that is away, how many of its files known libraries use.
        character: what it seems to be used for.
    """

    drive: Drive
    group: str
    standings: list[OnShelf] = field(default_factory=list)
    seen_at: float | None = None
    speed: tuple[float, float, float] | None = None
    former: list[Former] = field(default_factory=list)
    back: Former | None = None
    used: int = 0
    character: Character = field(default_factory=Character)

    @property
    def other(self) -> int:
        """Bytes used by everything else."""
        return max(0, self.drive.capacity - self.drive.free - sum(s.size for s in self.standings))


def folders_in(folder: Path) -> list[Path]:
    """The folders in a folder that can receive something, by their names.

    Without hidden ones, links, and libraries, which are listed themselves.

    Raises:
        OSError: it cannot be read.
    """
    with os.scandir(folder) as entries:
        found = [
            Path(entry.path)
            for entry in entries
            if not entry.name.startswith(".") and entry.is_dir(follow_symlinks=False)
        ]
    own = os.fsdecode(OWN)
    return sorted((path for path in found if not (path / own).is_dir()), key=lambda p: p.name)


def read_shelves(
    workspace: Workspace,
    parked: Iterable[Aside] = (),
    recognition: Recognition | None = None,
    places: list[KnownPlaces] | None = None,
    copied: Mapping[Path, int] = MappingProxyType({}),
) -> list[Shelf]:
    """Reads drives, register and identities now.

    A drive that does not answer is not accessed.

    Args:
        parked: originals set aside.
        recognition: results of deeper searches; without it, only top folders are searched.
        places: the known paths, if read already.
        copied: bytes copied to each copy, by its folder.
    """
    drives = workspace.drives.connected()
    register = workspace.register
    register.put_drives(drives)
    shelves = _shelves(register, drives)
    libraries = {x.id: x for x in register.libraries()}
    copies = [c for x in libraries.values() for c in register.copies(x.id)]
    aside = list(parked)
    for library in libraries.values():
        _put(shelves, _of_library(library, copies))
    for copy in copies:
        if copy.root != libraries[copy.library].root:
            made = _of_copy(libraries[copy.library], copy, copies)
            _put(shelves, replace(made, bytes=copied.get(copy.root, 0)))
    known = (
        {x.root for x in libraries.values()}
        | {c.root for c in copies}
        | {one.root for one in aside}
    )
    recognition = recognition or Recognition(workspace.drives)
    for drive in drives:
        for found in recognition.on(drive, known):
            _put(shelves, _of_recognised(found, libraries.get(found.identity.library_id)))
    for one in aside:
        if (owner := libraries.get(one.library)) and one.root.is_dir():
            made = _of_parked(owner, one.root, workspace.drives.uuid_at(one.root))
            _put(shelves, replace(made, bytes=one.bytes, aside_at=one.at))
    told = _told(places or known_places(workspace))
    for shelf in shelves.values():
        shelf.standings = [_with(s, told) for s in shelf.standings]
        shelf.standings.sort(key=lambda s: -s.size)
    order = {"inside": 0, "connected": 1, "away": 2}
    return sorted(
        shelves.values(), key=lambda s: (order[s.group], -s.drive.capacity, s.drive.label)
    )


_Told = dict[tuple[str, Path], tuple[State | None, str]]


def _told(places: list[KnownPlaces]) -> _Told:
    """The state of each path, and its reminder."""
    told, now = {}, time.time()
    for one in places:
        for place in one.all:
            is_home = place is one.home
            state = place.state if not is_home or place.seen.damaged else None
            told[one.library.id, place.path] = state, reminder(place, is_home, now)
    return told


def _with(standing: OnShelf, told: _Told) -> OnShelf:
    state, words = told.get((standing.library, standing.root), (None, ""))
    return standing if standing.says else replace(standing, state=state, reminder=words)


def _shelves(register: Register, drives: list[Drive]) -> dict[str, Shelf]:
    """An empty shelf for every drive that is connected or was."""
    former, just = register.former(), time.time() - JUST_NOW
    shelves = {d.uuid: Shelf(d, _group(d), character=look_at_character(d)) for d in drives}
    for known in register.drives():
        shelf = shelves.setdefault(known.uuid, Shelf(_away(known), "away"))
        shelf.seen_at = known.seen_at
        if known.write_mb_s and known.read_mb_s and known.measured_at:
            shelf.speed = known.write_mb_s, known.read_mb_s, known.measured_at
        shelf.former = former.get(known.uuid, [])
        shelf.back = next((f for f in shelf.former if f.until > just), None)
        if shelf.group == "away" and known.mount != Path("/"):
            shelf.used = register.wanted_below(known.mount)
    return shelves


def _put(shelves: dict[str, Shelf], standing: OnShelf) -> None:
    shelf = shelves.get(standing.drive)
    if shelf and (not shelf.drive.connected or standing.root.exists()):
        shelf.standings.append(standing)


def _group(drive: Drive) -> str:
    if not drive.connected and drive.mounted and not drive.silent:
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
        f"{library.id}:{copy.crossing}:{copy.root}",
        library.name,
        library.kind,
        copy.root,
        copy.drive,
        False,
        copy.verified_at,
        parse_summary(library.summary),
        count,
    )


def _of_parked(owner: KnownLibrary, root: Path, drive: str) -> OnShelf:
    return OnShelf(
        f"{owner.id}:aside",
        owner.name,
        owner.kind,
        root,
        drive,
        False,
        None,
        parse_summary(owner.summary),
        0,
        True,
    )


def _of_recognised(found: Recognised, owner: KnownLibrary | None) -> OnShelf:
    """An unknown library, or another folder with the id of a known one.

    It is not a verified copy.
    """
    identity = found.identity
    key = f"{identity.library_id}:{found.drive}:{found.root}"
    kind = owner.kind if owner else identity.kind
    return OnShelf(
        key,
        identity.name,
        kind,
        found.root,
        found.drive,
        False,
        None,
        None,
        0,
        False,
        found,
        owner is None,
    )
