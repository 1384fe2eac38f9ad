"""Where Fascis itself took lost files, by the journals of crossings that arrived."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import all_crossings
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.relink.lost import Lost
from fascis.words.speech import trn
from fascis.workspace import Workspace

_ARRIVED = (State.SETTLED, State.SWITCHED, State.PARKED, State.RELEASED)


class Taken(Struct, frozen=True):
    """Lost files that a crossing took to another drive.

    Attributes:
        label: the drive's label.
        folder: their folder there.
        files: how many of the lost files.
        aside: they are originals that were set aside.
    """

    label: str
    folder: Path
    files: int
    aside: bool = False

    @property
    def words(self) -> str:
        """The same for people."""
        if self.aside:
            return trn(
                "Fascis set {n} of them aside at {folder}: put it back on Shelves",
                "Fascis set {n} of them aside at {folder}: put them back on Shelves",
                self.files,
                folder=shown(str(self.folder)),
            )
        return trn(
            "Fascis took {n} of them to {drive}",
            "Fascis took {n} of them to {drive}",
            self.files,
            drive=shown(self.label),
        )


def taken_away(workspace: Workspace, lost: Sequence[Lost]) -> list[Taken]:
    """Where Fascis took lost files, on connected drives; the drive with most of them first.

    By their old path if a crossing took their folder, otherwise by name and size.
    """
    if not lost:
        return []
    there = {d.uuid: d.label for d in workspace.drives.connected(measured=False) if d.connected}
    crossings, _ = all_crossings(workspace)
    found: list[Taken] = []
    for crossing in crossings:
        try:
            if crossing.state in _ARRIVED:
                found += _of_one(crossing, lost, there)
        except FascisError:
            # Its journal cannot be used here; the list of crossings shows why.
            continue
        finally:
            crossing.close()
    return sorted(found, key=lambda taken: -taken.files)


def _old_path(lost: Lost) -> bytes:
    """Where it was; for a sequence, its first frame."""
    return lost.folder.rstrip(b"/") + b"/" + lost.name


def _of_one(crossing: Crossing, lost: Sequence[Lost], there: dict[str, str]) -> list[Taken]:
    places = crossing.places
    below = bytes(places.old_root).rstrip(b"/") + b"/"
    if crossing.state is State.PARKED and not crossing.part:
        aside = places.parked_path
        mine = [x for x in lost if _old_path(x).startswith(below)]
        there_still = (
            x for x in mine if os.path.lexists(bytes(aside) + b"/" + _old_path(x)[len(below) :])
        )
        if files := sum(x.files for x in there_still):
            return [Taken(aside.parent.name, aside, files, aside=True)]
    found = []
    for number, destination in enumerate(crossing.destinations):
        uuid = destination.places.drive.uuid
        if uuid not in there:
            continue
        held = set(crossing.journal.crossed_to(number))
        paths = {
            outside or below + place for place, outside, _ in destination.copies.where_they_are()
        }
        files = sum(
            x.files for x in lost if _old_path(x) in paths or (x.size and (x.name, x.size) in held)
        )
        folder = destination.places.told
        if files and folder.is_dir():
            found.append(Taken(there[uuid], folder, files))
    return found
