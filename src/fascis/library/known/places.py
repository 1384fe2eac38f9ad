"""Every path of every known library: its home, its copies, originals set aside. From the register.

How a copy compares with its home is as last seen; only connected drives and existing folders are
checked here.
"""

from __future__ import annotations

import time
from enum import StrEnum
from pathlib import Path

from msgspec import Struct, field

from fascis.library.register import KnownLibrary, Looked, Register
from fascis.words.figures import day
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace


class State(StrEnum):
    """How a copy compares with its home.

    *Behind*: home has something that it does not have. *Ahead*: the other way round. *Differs*:
        both.
    """

    EQUAL = "equal"
    BEHIND = "behind"
    AHEAD = "ahead"
    DIFFERS = "differs"
    DAMAGED = "damaged"
    UNKNOWN = "unknown"
    AWAY = "away"

    @property
    def words(self) -> str:
        """The text for people."""
        return _STATES[self]


_STATES = {
    State.EQUAL: tr("equal"),
    State.BEHIND: tr("behind"),
    State.AHEAD: tr("ahead"),
    State.DIFFERS: tr("differs"),
    State.DAMAGED: tr("damaged"),
    State.UNKNOWN: tr("not compared yet"),
    State.AWAY: tr("away"),
}


class Place(Struct, frozen=True):
    """One path of a library.

    Attributes:
        drive: the drive's UUID; ``label`` its name.
        connected: the drive is connected.
        there: the folder exists, as far as known.
        seen: its state as last seen.
        listed: it has a manifest to compare its content with.
    """

    path: Path
    drive: str
    label: str
    connected: bool
    there: bool
    seen: Looked
    listed: bool = False

    @property
    def state(self) -> State:
        """How it compares with its home, as last seen."""
        if not self.connected:
            return State.AWAY
        if not self.there or self.seen.damaged:
            return State.DAMAGED
        return State(self.seen.state)

    @property
    def state_words(self) -> str:
        """How it compares with its home, in a word or two."""
        if self.state is State.BEHIND:
            return trn("{n} file behind", "{n} files behind", self.seen.behind_files)
        return tr("not there") if self.connected and not self.there else self.state.words

    @property
    def verified_words(self) -> str:
        """When it was last verified, with the result."""
        if not self.seen.verified_at:
            return tr("never verified")
        when = day_words(self.seen.verified_at)
        if self.seen.damaged:
            return trn(
                "verified {day}: {n} file damaged or missing",
                "verified {day}: {n} files damaged or missing",
                self.seen.damaged,
                day=when,
            )
        return tr("verified {day}", day=when)


def day_words(at: float) -> str:
    """A day, from seconds since 1970; today has its own word."""
    if time.strftime("%Y%j", time.localtime(at)) == time.strftime("%Y%j"):
        return tr("today")
    return day(at)


_MONTH, _YEAR = 30 * 86400, 365 * 86400


def reminder(place: Place, home: bool, now: float) -> str:
    """What should be done about a path by now, in a few words; empty if nothing.

    Args:
        home: it is a library's home.
        now: in seconds since 1970.
    """
    seen, since = place.seen, place.seen.since or now
    if seen.what == "aside":
        return tr("set aside for a month") if now - since > _MONTH else ""
    if not home and place.state in (State.BEHIND, State.DIFFERS) and now - since > _MONTH:
        return tr("behind for a month")
    if seen.verified_at and now - seen.verified_at > _YEAR:
        return tr("not verified for a year")
    return ""


class KnownPlaces(Struct, frozen=True):
    """A library with its paths.

    Attributes:
        copies: verified copies, and originals at the old place.
        aside: originals that were set aside.
    """

    library: KnownLibrary
    home: Place
    copies: list[Place] = field(default_factory=list)
    aside: list[Place] = field(default_factory=list)

    @property
    def all(self) -> list[Place]:
        """All its paths, home first."""
        return [self.home, *self.copies, *self.aside]


def known_places(workspace: Workspace) -> list[KnownPlaces]:
    """All known libraries with their paths, by name."""
    register = workspace.register
    if not register.path.exists():
        return []
    drives = {d.uuid: d for d in workspace.drives.connected(measured=False)}
    register.put_drives(list(drives.values()))
    labels = {d.uuid: d.label for d in register.drives()}
    looked, copies = register.looked(), register.all_copies()

    def place(library: str, root: Path, drive: str) -> Place:
        connected = drive in drives and drives[drive].connected
        seen = looked.get((library, root), Looked(library, root, drive))
        label = labels.get(drive, drive)
        there = connected and root.exists()
        listed = there and (root / ".fascis/manifest.b3").is_file()
        return Place(root, drive, label, connected, there, seen, listed)

    found = []
    for one in register.libraries():
        known = KnownPlaces(one, place(one.id, one.root, one.drive))
        roots = {c.root: c.drive for c in copies.get(one.id, [])}
        mine = [seen for (id, _), seen in looked.items() if id == one.id]
        roots |= {seen.root: seen.drive for seen in mine if seen.what == "originals"}
        known.copies.extend(place(one.id, r, d) for r, d in sorted(roots.items()) if r != one.root)
        aside = [seen for seen in mine if seen.what == "aside"]
        known.aside.extend(place(one.id, seen.root, seen.drive) for seen in aside)
        found.append(known)
    return found


def named(places: list[KnownPlaces], given: str, path: Path) -> list[KnownPlaces]:
    """The named libraries: by name, by the beginning of an id, or by one of their paths."""
    by_path = [k for k in places if path in {p.path for p in (k.home, *k.copies, *k.aside)}]
    if by_path:
        return by_path
    by_name = [k for k in places if k.library.name == given]
    return by_name or [k for k in places if len(given) >= 4 and k.library.id.startswith(given)]


def id_at(register: Register, root: Path) -> str:
    """The id of the library with this folder; empty if there is none."""
    if not register.path.exists():
        return ""
    if (known := register.library_at(root)) is not None:
        return known.id
    found = (id for id, copies in register.all_copies().items() for c in copies if c.root == root)
    return next(found, "")
