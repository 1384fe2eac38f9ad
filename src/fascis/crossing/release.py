"""Releasing: originals whose copies are verified are deleted, one by one, each checked right before.

Nothing is deleted unless, at that moment, the original is what was copied and every demanded copy is what was verified.
What appeared, changed, is open, was damaged, was left out or was not verified stays, and is told. What the person chose
to discard goes when it is as it was surveyed.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Protocol

from fascis.crossing.copies import Copies, CopyState, Item, arrives_at, is_damaged
from fascis.crossing.copying import Buffers, read_back, same_copy
from fascis.crossing.events import Control, Released, Report
from fascis.crossing.fates import Fate
from fascis.crossing.journal import Origin
from fascis.crossing.plan_rows import inode_key
from fascis.crossing.space import Deleted
from fascis.crossing.still import Differences, differs
from fascis.drives.rules import Rules
from fascis.files.digest import digest_of, digest_of_bytes
from fascis.files.errors import FascisError, Refused, told
from fascis.files.medium import Medium, MediumFile
from fascis.files.names import shown
from fascis.library.open_files import find_open
from fascis.library.survey import Kind

BATCH = 256
_VERIFIED = "e.fate IN (0,4) AND c.state=2 AND e.origin IN (0,1,3) AND e.outside IS NULL"
_DISCARDED = "e.fate=5 AND e.kind=0 AND e.origin IN (0,1,3)"


@dataclass(frozen=True, slots=True)
class Kept:
    """A whole copy that is kept when the originals go: open, proven by drive and token."""

    copies: Copies
    medium: Medium
    rules: Rules
    label: str
    crossing: str

    def holds(self, item: Item, buffers: Buffers, control: Control) -> bool:
        """True when the copy of an item is what was verified; read again where it does not look so."""
        place = arrives_at(item, self.crossing)
        if item.rewritten and self.copies.stands_anew(item.id) and not self.medium.exists(item.there):
            return False  # what was kept as it was is there, what the library is worked on with is not
        try:
            status = self.medium.status(place)
            if item.kind is Kind.LINK:
                is_link = stat.S_ISLNK(status.st_mode)
                return is_link and digest_of_bytes(self.medium.read_link(place)) == item.digest
        except FileNotFoundError:
            return False
        except OSError as error:
            raise told(error, "look at the copy", place) from error
        if same_copy(item.copy_seen, status, self.rules.stable_inodes):
            return True
        try:
            return read_back(self.medium, place, buffers, control).digest == item.digest
        except FascisError:
            return False


class Originals(Protocol):
    """What a release does with originals, by their places."""

    def status(self, place: bytes) -> os.stat_result:
        """``lstat``; of the folder itself for ``b""``."""

    def open(self, place: bytes) -> MediumFile:
        """Opens a regular file for reading."""

    def unlink(self, place: bytes) -> None:
        """Deletes one."""


@dataclass(slots=True)
class Release:
    """One release under way: all places open and proven. ``kept`` begins with home.

    ``used`` are places that others need, and who: they stay. With ``reads_again`` the content of every original is compared once more, whatever its drive.
    ``differences`` are those found after :meth:`check_copies`, right before anything is set aside or deleted.
    """

    source: Originals
    kept: list[Kept]
    source_rules: Rules
    buffers: Buffers
    control: Control
    report: Report
    step: Callable[[str], None]
    reads_again: bool = False
    used: Mapping[bytes, list[str]] = field(default_factory=dict)
    differences: Differences = field(default_factory=Differences)
    deleted: Deleted = field(default_factory=Deleted)

    # -- before anything is deleted -------------------------------------------------------------------------------

    def check_copies(self) -> None:
        """Looks at every copy again, and reads those again that differ.

        Raises:
            Refused: a copy is not what was verified; nothing was deleted.
        """
        for kept in self.kept:
            for item in kept.copies.items(_VERIFIED):
                self.control.checkpoint()
                if not kept.holds(item, self.buffers, self.control):
                    raise Refused(
                        "copy-changed",
                        f"The copy of {shown(item.place)} on {kept.label} is not what was verified. No original was deleted.",
                    )

    # -- deleting -------------------------------------------------------------------------------------------------

    def run(self) -> None:
        """Deletes the originals. May be called again after any interruption."""
        self._mend()
        for batch in self._batches():
            self.control.checkpoint()
            outcomes = self.release_batch(batch)
            files = [
                i
                for i, o in zip(batch, outcomes, strict=True)
                if o[1] is Origin.GONE and o[2] is None and i.kind is Kind.FILE and i.fate is not Fate.OWN
            ]
            self.report(Released(len(files), sum((i.seen or (i.size,))[0] for i in files)))

    def release_batch(self, batch: list[Item]) -> list[tuple[int, Origin, str | None]]:
        """Deletes some originals, intent and outcome journaled; gives what became of each, and why it stays."""
        fresh, opened = set(self.differences.changed), self._open_inodes(batch)
        self._copies.journal.record_origin([(i.id, Origin.INTENDED, None) for i in batch])
        outcomes = [self._release_one(item, fresh, opened) for item in batch]
        self._copies.journal.record_origin(outcomes)
        return outcomes

    def _mend(self) -> None:
        """Corrects the journal after an interruption: what was intended and is no longer there is gone."""
        gone = []
        for item in self._copies.items("e.origin=1 AND e.outside IS NULL"):
            try:
                self.source.status(item.place)
            except (FileNotFoundError, NotADirectoryError):
                gone.append((item.id, Origin.GONE, None))
        self._copies.journal.record_origin(gone)

    @property
    def _copies(self) -> Copies:
        return self.kept[0].copies

    def _batches(self) -> Iterator[list[Item]]:
        batch: list[Item] = []
        for condition in (_VERIFIED, _DISCARDED):
            for item in self._copies.items(condition, batch=BATCH):
                batch.append(item)
                if len(batch) == BATCH:
                    yield batch
                    batch = []
        if batch:
            yield batch

    def _open_inodes(self, batch: list[Item]) -> set[int]:
        device = self.source.status(b"").st_dev
        wanted = {(device, i.seen[3] if i.seen else i.inode) for i in batch}
        return {inode_key(o.inode) for o in find_open(wanted, {device}).files}

    def _release_one(self, item: Item, fresh: set[bytes], opened: set[int]) -> tuple[int, Origin, str | None]:
        try:
            status = self.source.status(item.place)
        except (FileNotFoundError, NotADirectoryError):
            return item.id, Origin.GONE, "vanished"  # not by us: does not count as deleted
        except OSError as error:
            raise told(error, "look at the original", item.place) from error
        why = self._why_stays(item, status, fresh, opened)
        if why:
            return item.id, Origin.STAYS, why
        shared = self._shared(item)
        if self._moved_on(item, status):
            return item.id, Origin.STAYS, "changed"
        try:
            self.step(f"before unlink {item.id}")
            self.source.unlink(item.place)
            self.step(f"after unlink {item.id}")
        except PermissionError:
            return item.id, Origin.STAYS, "not-permitted"
        except OSError as error:
            raise told(error, "delete the original", item.place) from error
        self._count(item, status, shared)
        return item.id, Origin.GONE, None

    def _moved_on(self, item: Item, before: os.stat_result) -> bool:
        """True when an original changed while it, or its copy, was being read: reading may take long."""
        try:
            now = self.source.status(item.place)
        except OSError:
            return True

        def facts(status: os.stat_result) -> tuple[int, ...]:
            inode = status.st_ino if self.source_rules.stable_inodes else 0
            return status.st_mode, status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_dev, inode

        return facts(now) != facts(before)

    def _why_stays(self, item: Item, status: os.stat_result, fresh: set[bytes], opened: set[int]) -> str | None:
        """Why an original stays, or None when it may go: the last look before an unlink."""
        if item.place in self.used:
            return "used-elsewhere"
        if item.fate is not Fate.DISCARD and (why := self._why_not_whole(item)):
            return why
        if item.place in fresh or differs(item, status, self.source_rules.stable_inodes):
            return "changed"
        if item.kind is Kind.FILE and inode_key(status.st_ino) in opened:
            return "open"
        if item.fate is Fate.DISCARD:
            return None  # there is no copy of it, by the person's choice
        again = self.reads_again or not self.source_rules.stable_inodes or _touched(item, status)
        if item.kind is Kind.FILE and again and self._digest(item) != item.digest:
            return "changed"
        holds = all(k.holds(self._of(k, item), self.buffers, self.control) for k in self.kept)
        return None if holds else "copy-missing"

    def _why_not_whole(self, item: Item) -> str | None:
        """Why an item does not count as copied: not verified alike everywhere, or not what it once was."""
        if item.seen is None or item.digest is None:
            return "not-verified"
        for kept in self.kept:
            there = self._of(kept, item)
            if there.copy is not CopyState.VERIFIED or there.digest != item.digest:
                return "not-verified"
        return "damaged" if is_damaged(item, item.seen, item.digest) else None

    def _of(self, kept: Kept, item: Item) -> Item:
        return item if kept is self.kept[0] else kept.copies.item(item.id)

    def _digest(self, item: Item) -> bytes:
        try:
            file = self.source.open(item.place)
            try:
                return digest_of(file)
            finally:
                file.close()
        except OSError as error:
            raise told(error, "read the original", item.place) from error

    def _shared(self, item: Item) -> int:
        if item.kind is not Kind.FILE or self.source_rules.name not in ("btrfs", "XFS"):
            return 0
        try:
            file = self.source.open(item.place)
        except OSError:
            return 0
        try:
            return file.shared_bytes()
        except OSError:
            return 0
        finally:
            file.close()

    def _count(self, item: Item, status: os.stat_result, shared: int) -> None:
        if item.kind is not Kind.FILE:
            return
        d = self.deleted
        d.shared += shared
        key = (status.st_dev, status.st_ino)
        allocated = status.st_blocks * 512
        if item.fate is not Fate.OWN:
            d.files += 1
            d.bytes += status.st_size
        if status.st_nlink > 1 and key not in d.inodes:
            d.linked_elsewhere += allocated
        elif status.st_nlink == 1 and key in d.inodes:
            d.linked_elsewhere -= allocated
        if key not in d.inodes:
            d.allocated += allocated
        d.inodes.add(key)

    def clear_folders(self, folder: Medium) -> None:
        """Removes the folders that are empty, of the library's folder."""
        for place, _ in reversed(self._copies.journal.folders_that_cross()):
            if place:
                try:
                    folder.remove_folder(place)
                except OSError:
                    continue  # not empty, or gone already: folders go only when empty


def left_behind(copies: Copies, source: Medium | None, differences: Differences) -> list[tuple[bytes, str]]:
    """``(place, why)`` of what stays at the old place after a release; at most 10,000 of each kind."""
    out: dict[bytes, str] = {}
    reasons = {Fate.LEFT_OUT: "left-out", Fate.SPECIAL: "special", Fate.UNHOLDABLE: "link"}
    for item in copies.items(
        "e.outside IS NULL AND e.origin<>2 AND (e.fate IN (1,2,3,5) OR e.origin=3 OR c.state IS NULL OR c.state<>2)"
    ):
        if len(out) >= 10_000:
            break
        if source is not None and not source.exists(item.place):
            continue
        why = reasons.get(item.fate) or (copies.journal.why(item.id) or "not-verified")
        out[item.place] = why
    for place in differences.appeared:
        out.setdefault(place, "appeared")
    for place in differences.changed:
        if place not in out:
            out[place] = "changed"
    return sorted(out.items())


def _touched(item: Item, status: os.stat_result) -> bool:
    """True when a file with several names was touched since it was copied: perhaps a name came or went, perhaps its content changed."""
    return item.links > 1 and item.seen is not None and status.st_ctime_ns != item.seen[2]
