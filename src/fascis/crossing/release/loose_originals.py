"""Deleting loose originals, only if that was requested.

Only those that were gathered and that nothing else uses. Each is read again and compared right
before it is deleted. What others need was found just before; if that cannot be known, the file
stays.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from itertools import groupby
from pathlib import Path

from msgspec import Struct

from fascis.crossing.copying.reading_back import Buffers
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Released, Report
from fascis.crossing.model.states import Origin
from fascis.crossing.release.originals import Kept, Release, still_wanted
from fascis.drives.rules import Rules
from fascis.files.codes import Stays
from fascis.files.control import Control
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium, MediumFile
from fascis.files.errors import FascisError
from fascis.files.names import parent
from fascis.workspace import Workspace


def release_loose(
    workspace: Workspace,
    kept: Sequence[Kept],
    needed: Mapping[bytes, object],
    control: Control,
    report: Report,
) -> list[tuple[bytes, str]]:
    """Deletes loose originals; returns ``(path, why)`` of those that stay.

    Can be called again after any interruption.

    Args:
        needed: absolute paths that others need, found right before.

    Raises:
        EnvironmentTrouble: a drive failed.
        Cancelled: by the control.
    """
    copies = kept[0].copies
    journal = copies.journal
    _mend(journal, copies)
    items = sorted(copies.items(Which.LOOSE_MAY_GO), key=lambda i: i.outside or b"")
    if not items:
        return []
    stays: list[tuple[bytes, str]] = []
    with Buffers() as buffers:
        loose = _Loose(workspace, list(kept), buffers, control, report)
        for folder, some in groupby(items, key=lambda i: parent(i.outside or b"")):
            control.checkpoint()
            still_wanted(journal)
            group = list(some)
            free = []
            for item in group:
                path = item.outside or b""
                if path in needed:
                    stays.append((path, Stays.USED_ELSEWHERE))
                else:
                    free.append(item)
            stays += loose.release(folder, free)
    return stays


def _mend(journal: Journal, copies: Copies) -> None:
    """Corrects the journal after an interruption.

    An original that was about to be deleted and no longer exists is gone.
    """
    intended = copies.items(Which.LOOSE_BEING_DELETED)
    journal.record_origin(
        [(i.id, Origin.GONE, None) for i in intended if not os.path.lexists(i.outside or b"")]
    )


class _Loose(Struct, frozen=True):
    """What is needed to delete the loose originals of one folder."""

    workspace: Workspace
    kept: list[Kept]
    buffers: Buffers
    control: Control
    report: Report

    def release(self, folder: bytes, items: list[Item]) -> Iterator[tuple[bytes, str]]:
        """Deletes some files of a folder; returns ``(path, why)`` of those that stay."""
        if not items:
            return
        path = Path(os.fsdecode(folder or b"/"))
        if os.path.realpath(path) != str(path):
            # A link is in its place now.
            yield from _all(items, Stays.CHANGED)
            return
        known = self.kept[0].copies.journal.header.loose_drives
        try:
            drive = self.workspace.drives.at(path, measured=False)
            if drive.uuid != known.get(str(path), drive.uuid):
                # Another drive, which may have a copy of them.
                yield from _all(items, Stays.MOUNT)
                return
            medium = self.workspace.drives.open(path)
        except FascisError:
            yield from _all(items, Stays.NOT_PERMITTED)  # Away, or cannot be opened.
            return
        with closing(medium):
            yield from self._release(medium, drive.rules, items)

    def _release(
        self, medium: Medium, rules: Rules, items: list[Item]
    ) -> Iterator[tuple[bytes, str]]:
        names = {i.place: (i.outside or b"").rpartition(b"/")[2] for i in items}
        work = Release(
            _Folder(medium, names),
            self.kept,
            rules,
            self.buffers,
            self.control,
            self.report,
            self.workspace.step,
            reads_again=True,
        )
        outcomes = work.release_batch(items)
        self.report(_released(items, outcomes))
        for item, (_, origin, why) in zip(items, outcomes, strict=True):
            if origin is Origin.STAYS:
                yield item.outside or b"", why or Stays.CHANGED


def _all(items: list[Item], why: str) -> list[tuple[bytes, str]]:
    return [(i.outside or b"", why) for i in items]


def _released(items: list[Item], outcomes: list[tuple[int, Origin, str | None]]) -> Released:
    gone = [
        i
        for i, (_, o, why) in zip(items, outcomes, strict=True)
        if o is Origin.GONE and why is None
    ]
    return Released(len(gone), sum(i.size for i in gone))


class _Folder:
    """One folder of loose media; the places of items are replaced by their names there."""

    def __init__(self, medium: Medium, names: dict[bytes, bytes]) -> None:
        self._medium, self._names = medium, names

    def status(self, place: bytes) -> os.stat_result:
        return self._medium.status(self._names[place] if place else b"")

    def open(self, place: bytes) -> MediumFile:
        return self._medium.open(self._names[place])

    def unlink(self, place: bytes, proven: Proven) -> None:
        self._medium.unlink(self._names[place], proven)
