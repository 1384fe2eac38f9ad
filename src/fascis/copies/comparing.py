"""How a copy of a library compares with its home.

The copy should be what a crossing from home to its path would make today. That crossing is planned
and compared with the copy's records and files. Contents are read only if names, lengths and times
are not enough: of documents, and of files that seem to have been moved.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct, field

from fascis.copies.verifying.verified import roles_left_out
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.plan import Plan
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.digest import digest_at, digest_of
from fascis.files.disk.medium import Medium
from fascis.files.disk.walk import Folder
from fascis.files.errors import Damaged, EnvironmentTrouble
from fascis.files.inventory import Entry
from fascis.files.times import mtime_of
from fascis.library.identity import inventory_of, read_identity
from fascis.library.known.places import KnownPlaces, State
from fascis.library.own import INVENTORY, OWN
from fascis.library.roles import ROLES, Role
from fascis.library.survey import Kind
from fascis.words.speech import tr
from fascis.workspace import Workspace

# Files compared between two checks for a stop.
_LOOK_FILES = 100
AS_IT_WAS = OWN + b"/as-it-was"
Place = bytes


class Source(NamedTuple):
    """A file of the home that belongs in the copy.

    Attributes:
        path: its absolute path.
        place: its place in the library, or the place that it is gathered to.
        there: its place in the copy.
        document: it is rewritten there.
    """

    path: bytes
    place: Place
    there: Place
    size: int
    mtime_ns: int
    document: bool

    def digest(self) -> bytes:
        """Its digest, read now; empty if it cannot be read."""
        return digest_at(self.path) or b""


class Difference(Struct):
    """How home and copy differ. Places are those in the copy.

    Attributes:
        added, changed: files at home that the copy does not have, or has in an older version.
        moved: place → the one where the copy has the same content.
        removed: files that home no longer has.
        unchanged: equal files.
        edited: files changed in the copy since it arrived; ``both``: those of them that were
            changed at home too.
        made: files added to the copy.
        lost: files in the copy's records that are missing.
    """

    added: list[Source] = field(default_factory=list)
    changed: list[Source] = field(default_factory=list)
    moved: dict[Place, Place] = field(default_factory=dict)
    removed: list[Place] = field(default_factory=list)
    unchanged: list[Source] = field(default_factory=list)
    edited: list[Place] = field(default_factory=list)
    both: list[Place] = field(default_factory=list)
    made: list[Place] = field(default_factory=list)
    lost: list[Place] = field(default_factory=list)

    @property
    def behind(self) -> tuple[int, int]:
        """How many files the copy is behind, and how many bytes would be copied."""
        new = [*self.added, *self.changed]
        files = len(new) + len(self.moved) + len(self.removed)
        return files, sum(s.size for s in new if s.there not in self.moved)

    @property
    def state(self) -> State:
        """How the copy compares with its home."""
        behind, ahead = self.behind[0] > 0, bool(self.edited or self.made)
        if self.lost:
            return State.DAMAGED
        if self.both or (behind and ahead):
            return State.DIFFERS
        if behind:
            return State.BEHIND
        return State.AHEAD if ahead else State.EQUAL


def sources_of(plan: Plan, surveyed: Surveyed) -> Iterator[Source]:
    """Every file that a plan copies, without Fascis's own."""
    survey, top, apart = plan.survey, surveyed.below, plan.apart
    works = {d.place for d in plan.uses.documents if d.place and d.kind.works}
    kinds, fates, roles = survey.kinds(), plan.fates, survey.role
    document = ROLES.index(Role.DOCUMENT)
    # Nearly always all names stay.
    same = not apart
    for row, _, place in survey.rows():
        # Fascis's own files are handled separately.
        if kinds[row] != Kind.FILE or fates[row] != Fate.COPY:
            continue
        is_document = roles[row] == document or place in works
        there = place if same else apart.there(place)
        yield Source(top + place, place, there, survey.size[row], survey.mtime_ns[row], is_document)
    for place, loose in plan.gathering.items:
        there = plan.apart.there(place)
        yield Source(loose.path, place, there, loose.size, loose.mtime_ns, False)


class CopyTree:
    """A copy: its records and its files.

    Attributes:
        recorded: its inventory, by place.
        there: size and time of every file that is there.
        links: places of links that are there.
        before: for rewritten documents, where their latest earlier version is.
    """

    def __init__(self, medium: Medium, root: Path) -> None:
        self._medium = medium
        self.recorded: dict[Place, Entry] = {}
        self.there: dict[Place, tuple[int, int]] = {}
        self.links: set[Place] = set()
        self.before: dict[Place, Place] = {}
        identity = read_identity(medium, root)
        self.identity = identity
        self._order = [c.id for c in identity.history] if identity else []
        self.left_out = roles_left_out(medium)
        self._read_inventory(root)
        self._walk()

    def _read_inventory(self, root: Path) -> None:
        if not self._medium.exists(INVENTORY):
            raise Damaged(
                root,
                tr("it has no inventory"),
                tr("Only a copy that arrived by a crossing is compared."),
            )
        listed = inventory_of(self._medium, root / ".fascis/inventory.csv")
        self.recorded = {entry.place: entry for entry in listed}

    def _walk(self) -> None:
        for folder in self._medium.walk():
            inside = folder.place + b"/" if folder.place else b""
            if inside.startswith(AS_IT_WAS + b"/"):
                for name in folder.names:
                    self._note_before(inside + name)
            elif not inside.startswith(OWN + b"/"):
                self._note_files(inside, folder)

    def _note_files(self, inside: bytes, folder: Folder) -> None:
        for name, status in zip(folder.names, folder.stats, strict=True):
            place = inside + name
            if stat.S_ISREG(status.st_mode) and place != OWN:
                self.there[place] = (status.st_size, mtime_of(status))
            elif stat.S_ISLNK(status.st_mode) and place != OWN:
                self.links.add(place)

    def _note_before(self, place: Place) -> None:
        """The version of a document before its last crossing; older versions do not matter now."""
        inner = place[len(AS_IT_WAS) + 1 :].partition(b"/")[2]
        other = self.before.get(inner)
        if other is None or self._turn(place) > self._turn(other):
            self.before[inner] = place

    def _turn(self, place: Place) -> int:
        crossing = os.fsdecode(place[len(AS_IT_WAS) + 1 :].partition(b"/")[0])
        return self._order.index(crossing) if crossing in self._order else -1

    def is_as_recorded(self, place: Place) -> bool:
        """True if a file has the size and time of its record."""
        entry = self.recorded[place]
        return self.there.get(place) == (entry.size, entry.mtime_ns)

    def digest(self, place: Place) -> bytes:
        """The digest of a file in the copy, read now."""
        with closing(self._medium.open(place)) as file:
            return digest_of(file)


class Comparison:
    """Compares a home with one of its copies. Writes nothing.

    Attributes:
        plan: what a crossing of the home to the copy's place would be today.
    """

    def __init__(
        self, workspace: Workspace, surveyed: Surveyed, root: Path, control: Control = UNSTOPPED
    ) -> None:
        self._surveyed, self._control = surveyed, control
        with closing(workspace.drives.open(root)) as medium:
            self.tree = CopyTree(medium, root)
            roles = frozenset(r for r in Role if r.value in self.tree.left_out)
            choices = Choices(root.name, roles, After.COPY)
            self.plan: Plan = make_plan(workspace, surveyed, root.parent, choices)
            drives = (workspace.drives.at(root, measured=False), self.plan.source_drive)
            self._step = max(d.rules.granularity_ns for d in drives if d)
            # Everything that belongs in the copy.
            self.sources = list(sources_of(self.plan, self._surveyed))
            self.found = self._compare()

    def _compare(self) -> Difference:
        tree, found = self.tree, Difference()
        wanted = set()
        for number, source in enumerate(self.sources):
            if number % _LOOK_FILES == 0:
                self._control.checkpoint()
            wanted.add(source.there)
            entry = tree.recorded.get(source.there)
            if entry is None:
                if source.there in tree.there and self._same_content(source, source.there):
                    found.unchanged.append(source)
                else:
                    found.added.append(source)
                continue
            same = self._is_same(source, entry)
            if source.there not in tree.there:
                found.lost.append(source.there)
                found.added.append(source)
            elif tree.is_as_recorded(source.there):
                (found.unchanged if same else found.changed).append(source)
            elif self._same_content(source, source.there):
                found.unchanged.append(source)
            else:
                (found.edited if same else found.both).append(source.there)
        gone = [p for p in tree.recorded if p not in wanted]
        found.removed = [p for p in gone if p in tree.there and tree.is_as_recorded(p)]
        found.edited += [p for p in gone if p in tree.there and not tree.is_as_recorded(p)]
        taken = [s.there for s in found.added if s.there in tree.there]
        found.both += taken
        found.added = [s for s in found.added if s.there not in tree.there]
        listed = tree.recorded.keys() | wanted
        found.made = sorted(p for p in tree.there if p not in listed)
        self._find_moved(found)
        return found

    def _is_same(self, source: Source, entry: Entry) -> bool:
        """True if the copy was made from the home's file as it is now."""
        before = self.tree.before.get(entry.place)
        if source.document or before:
            return self._same_content(source, before or entry.place)
        alike = abs(source.mtime_ns - entry.mtime_ns) < self._step
        if source.size == entry.size and alike:
            return True
        # Only its time may have changed.
        return source.size == entry.size and source.digest() == entry.digest

    def _same_content(self, source: Source, place: Place) -> bool:
        with suppress(OSError, EnvironmentTrouble):
            return source.digest() == self.tree.digest(place)
        return False

    def _find_moved(self, found: Difference) -> None:
        """Finds moved files: new at one place, gone from another, with the same content."""
        by_size: dict[int, list[Place]] = {}
        for place in found.removed:
            by_size.setdefault(self.tree.recorded[place].size, []).append(place)
        added = []
        for source in found.added:
            digest = b""
            for place in by_size.get(source.size, []):
                entry = self.tree.recorded[place]
                # A move keeps the time. Without this check all contents would have to be read.
                if source.document or abs(source.mtime_ns - entry.mtime_ns) >= self._step:
                    continue
                digest = digest or source.digest()
                if digest and digest == entry.digest:
                    found.moved[source.there] = place
                    by_size[source.size].remove(place)
                    break
            else:
                added.append(source)
        found.added = added
        gone = set(found.moved.values())
        found.removed = [p for p in found.removed if p not in gone]


def look_at_copies(workspace: Workspace, known: KnownPlaces, control: Control = UNSTOPPED) -> None:
    """Compares connected copies with their homes, and stores the result.

    For copies that cannot be compared, the earlier result is kept.
    """
    home = known.home
    copies = [p for p in known.copies if p.there and p.seen.what == "copy"]
    if not home.there or not copies:
        return
    surveyed = survey_library(workspace, home.path, None, control)
    for place in copies:
        try:
            found = Comparison(workspace, surveyed, place.path, control).found
        except (Damaged, EnvironmentTrouble):
            state, files, size = State.UNKNOWN, 0, 0
        else:
            state, (files, size) = found.state, found.behind
            if found.lost:
                workspace.register.put_damaged(known.library.id, place.path, len(found.lost))
        workspace.register.put_state(known.library.id, place.path, place.drive, state, files, size)
