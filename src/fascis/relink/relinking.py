"""Relinking one library.

Its lost files, where to search, what was found and decided, and what changes. Used by window and
command line.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct, field

from fascis.drives.connected import Drives
from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import parent
from fascis.files.route import Moved
from fascis.library.references.uses import Outside, Uses
from fascis.library.register import Register
from fascis.library.standing import Standing
from fascis.library.survey import Survey
from fascis.relink.contents import Contents
from fascis.relink.evidence import InUse
from fascis.relink.index import Index
from fascis.relink.lost import Lost, add_lengths, lost_of
from fascis.relink.matching import match
from fascis.relink.outcome import NOTHING_DECIDED, Decisions, Match, State
from fascis.relink.retarget import Retarget, retargets
from fascis.workspace import Workspace


class Relinking(Struct):
    """A library's lost files, and the facts for finding them.

    Attributes:
        root: the library's folder (real path).
        lost: by path.
        used: absolute paths of files that it uses and finds.
        standing: folders whose files are at their paths, and how many of them are used.
    """

    root: bytes
    uses: Uses
    lost: list[Lost]
    used: set[bytes] = field(default_factory=set)
    standing: Counter[bytes] = field(default_factory=Counter)
    _near: dict[bytes, tuple[object, ...]] = field(default_factory=dict)
    _removable: list[tuple[bytes, bool]] = field(default_factory=list)

    @property
    def files(self) -> int:
        """The number of lost files, counting each frame."""
        return sum(x.files for x in self.lost)

    def known(self) -> list[Outside]:
        """What is known of lost files."""
        return [o for o in self.uses.outside if o.standing in (Standing.MISSING, Standing.AWAY)]

    def match(
        self,
        index: Index,
        contents: Contents,
        decisions: Decisions = NOTHING_DECIDED,
        checked: bool = False,
    ) -> Match:
        """The result, see :func:`~fascis.relink.matching.match`."""
        in_use = InUse(self.used, self.standing, self._nearness)
        return match(self.lost, index, contents, decisions, in_use, checked)

    def _nearness(self, path: bytes) -> tuple[object, ...]:
        """How near a found folder or file is.

        In the library, on its drive, on a fixed drive.
        """
        folder = path if path in self._near else parent(path)
        if folder not in self._near:
            inside = (folder + b"/").startswith(self.root.rstrip(b"/") + b"/")
            try:
                same = os.stat(folder or b"/").st_dev == os.stat(self.root).st_dev
            except OSError:
                same = False
            removable = next(
                (r for mount, r in self._removable if (folder + b"/").startswith(mount)), False
            )
            self._near[folder] = (not inside, removable, not same)
        return self._near[folder]

    def retargets(self, match: Match) -> list[Retarget]:
        """The documents that change by the found files, and which of their references."""
        found = {
            i: match.path.get(i) or match.index.path(match.row[i])
            for i, state in enumerate(match.state)
            if state is State.FOUND
        }
        return retargets(self.lost, self.uses, Path(os.fsdecode(self.root)), found)


def relinking_of(
    root: Path, survey: Survey, uses: Uses, workspace: Workspace, control: Control = UNSTOPPED
) -> Relinking:
    """The lost files of a surveyed library.

    Args:
        root: its folder.

    Raises:
        Cancelled: when ``control`` was stopped.
    """
    real = os.path.realpath(bytes(root))
    lost = lost_of(uses)
    add_lengths(lost, uses, root, workspace.private, control)
    used, standing = set(), Counter[bytes]()
    for row, folder, place in survey.rows():
        if row in uses.used_by and not survey.is_own(folder):
            path = real.rstrip(b"/") + b"/" + place
            used.add(path)
            standing[parent(path)] += 1
    for o in uses.of(Standing.LOOSE):
        used.add(o.path)
        standing[parent(o.path)] += 1
    mounts = sorted(
        (
            (bytes(d.mount).rstrip(b"/") + b"/", d.removable)
            for d in workspace.drives.connected(measured=False)
            if d.connected
        ),
        key=lambda m: -len(m[0]),
    )
    return Relinking(real, uses, lost, used, standing, {}, mounts)


class AlsoLost(Struct, frozen=True):
    """Another library that lost files of the same folder.

    Its id, its name, its path, and the number of files.
    """

    library: str
    name: str
    root: Path
    files: int

    def told(self, others: Iterable[AlsoLost]) -> str:
        """Its name, with its path if another one has the same name."""
        same = any(o.name == self.name and o.library != self.library for o in others)
        return f"{self.name} ({self.root})" if same else self.name


def also_lost(
    register: Register, moves: Sequence[Moved], library: str
) -> dict[Moved, list[AlsoLost]]:
    """For each folder move, the other libraries with missing files below the old folder.

    And how many files each of them misses.
    """
    found: dict[Moved, list[AlsoLost]] = {}
    if not register.path.exists():
        return found
    for move in moves:
        count: Counter[str] = Counter()
        for path, ids in register.used_in(move.old, library).items():
            if not os.path.lexists(path):
                count.update(ids)
        if count:
            known = [x for x in register.libraries() if x.id in count]
            found[move] = [AlsoLost(x.id, x.name, x.root, count[x.id]) for x in known]
    return found


Inventories = Mapping[str, Iterable[tuple[bytes, int]]]


def known_away(
    register: Register,
    drives: Drives,
    lost: Sequence[Lost],
    inventories: Inventories = MappingProxyType({}),
) -> dict[str, int]:
    """Drives that are away and probably have lost files, and how many.

    Label → files. By what libraries used on a drive when they were last surveyed, and by what
    crossed to it.

    Args:
        inventories: a drive's UUID → ``(name, size)`` of every file that crossed to it.
    """
    connected = drives.connected(measured=False)
    there = {d.uuid for d in connected if d.connected}
    known = register.drives() if register.path.exists() else []
    away = {d.uuid: (d.label, d.mount) for d in known if d.uuid not in there}
    away |= {d.uuid: (d.label, d.mount) for d in connected if not d.connected}
    found: dict[str, int] = {}
    for uuid, (label, mount) in away.items():
        below = bytes(mount).rstrip(b"/") + b"/"
        used = register.used_below(below) if register.path.exists() else []
        names = {(path.rpartition(b"/")[2], size) for path, size, _, _ in used} | set(
            inventories.get(uuid, ())
        )
        count = sum(
            x.files
            for x in lost
            if x.path.startswith(below) or (x.size and (x.name, x.size) in names)
        )
        if count:
            found[label] = found.get(label, 0) + count
    return found
