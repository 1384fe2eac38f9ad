"""Hard-linked files: their other names in the copy, as in the source."""

from __future__ import annotations

from collections.abc import Callable

from fascis.crossing.copying.file import flush, remove_staged
from fascis.crossing.copying.sides import Ends
from fascis.crossing.journal.copies import Copied, Copies, Item
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Advanced, Report
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import inode_key
from fascis.crossing.model.states import CopyState
from fascis.files.control import Control
from fascis.files.errors import told
from fascis.files.times import mtime_of
from fascis.words.speech import tr

_BATCH = 2048


class SecondNames:
    """Gives verified copies their other names.

    Args:
        staged: where an item is staged.
    """

    def __init__(
        self,
        copies: Copies,
        ends: Ends,
        staged: Callable[[Item], bytes],
        control: Control,
        report: Report,
    ) -> None:
        self._copies, self._staged = copies, staged
        self._here, self._there = ends.source.medium, ends.destination.medium
        self._name = ends.destination.name
        self._control, self._report = control, report

    def give(self) -> bool:
        """Gives hard-linked files their other names in the copy, as in the source.

        Returns:
            True when some are no longer names of one file: each is then copied for itself.
        """
        apart: list[int] = []
        batch: list[tuple[Copied, bool | None]] = []
        for item in self._copies.items(Which.SECOND_NAMES):
            self._control.checkpoint()
            assert item.twin is not None
            first = self._copies.item(item.twin)
            if self._is_apart(item, first):
                apart.append(item.id)
                continue
            batch.append(self._name_of(item, first))
            if len(batch) >= _BATCH:
                self._record(batch)
                batch = []
        if batch:
            self._record(batch)
        if apart:
            self._copies.journal.part_twins(apart)
            self._copies.forget_some(apart)
        return bool(apart)

    def _is_apart(self, item: Item, first: Item) -> bool:
        """True if a second name exists and does not belong to the copied file.

        One of them was saved as a new file, or removed.
        """
        try:
            now = self._here.status(item.place)
        except OSError:
            return False
        if first.seen is not None:
            return inode_key(now.st_ino) != first.seen[3]
        return first.copy is CopyState.VANISHED

    def _name_of(self, item: Item, first: Item) -> tuple[Copied, bool | None]:
        if first.copy is not CopyState.VERIFIED or first.digest is None or first.seen is None:
            return Copied(item.id, first.copy or CopyState.UNREADABLE), None
        try:
            now = self._here.status(item.place)
        except OSError:
            return Copied(item.id, CopyState.VANISHED), None
        as_it_was = (now.st_size, mtime_of(now)) == first.seen[:2]
        if not as_it_was or inode_key(now.st_ino) != first.seen[3]:
            return Copied(item.id, CopyState.CHANGING), None
        place = self._staged(item)
        try:
            self._there.hard_link(self._staged(first), place)
        except FileExistsError:
            remove_staged(self._there, place)
            self._there.hard_link(self._staged(first), place)
        except OSError as error:
            raise told(error, tr("link"), place) from error
        if item.fate is Fate.COPY:
            self._report(Advanced(item.strand, item.size, 1, item.size, 1, self._copies.number))
        named = Copied(item.id, CopyState.COPIED, first.digest, first.seen, first.copy_seen)
        return named, first.proven

    def _record(self, batch: list[tuple[Copied, bool | None]]) -> None:
        flush(self._there, self._name)
        self._copies.record_copies([c for c, _ in batch])
        self._copies.record_verified(
            [(c.item, proven) for c, proven in batch if proven is not None]
        )
