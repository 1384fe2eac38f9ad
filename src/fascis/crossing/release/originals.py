"""Releasing.

Originals whose copies are verified are deleted, one by one, each checked right before. Nothing is
deleted unless, at that moment, the original is as it was copied and every required copy is as it
was verified. New, changed, open, damaged, left-out and unverified files stay, and are reported.
Discarded files are deleted if they are as they were surveyed.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Protocol

from blake3 import blake3
from msgspec import Struct, field

from fascis.crossing.copying.reading_back import Buffers, read_back
from fascis.crossing.journal.copies import Copies, Item, arrives_at, is_damaged
from fascis.crossing.journal.header import PartFacts
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Released, Report
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import Look, inode_key, look_at_copy
from fascis.crossing.model.states import CopyState, Origin, State
from fascis.crossing.places.changes import Differences, differs
from fascis.crossing.release.free_space import Deleted
from fascis.crossing.scope.parts import is_in_part
from fascis.drives.rules import Rules
from fascis.files.codes import Code, Stays
from fascis.files.control import Control
from fascis.files.disk.digest import digest_of_bytes
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium, MediumFile
from fascis.files.errors import DriveGone, FascisError, Refused, told
from fascis.files.names import shown
from fascis.files.times import ctime_of
from fascis.library.open_files import find_open
from fascis.library.roles import Role
from fascis.library.survey import Kind
from fascis.words.speech import tr

BATCH = 256
MEDIA = frozenset((Role.ORIGINAL, Role.PROXY, Role.RENDER, Role.PREVIEW))
MISSING, CHANGED = Stays.COPY_MISSING, Stays.COPY_CHANGED
STAYS_BY_FATE = {
    Fate.LEFT_OUT: Stays.LEFT_OUT,
    Fate.SPECIAL: Stays.SPECIAL,
    Fate.UNHOLDABLE: Stays.LINK,
}
# An original that cannot be accepted any more: whatever is at its path is not touched.
_STAYS_BY_ERROR = {
    errno.EXDEV: Stays.MOUNT,
    errno.ESTALE: Stays.CHANGED,
    errno.ENOENT: Stays.CHANGED,
    errno.ENOTDIR: Stays.CHANGED,
    errno.ELOOP: Stays.CHANGED,
    errno.EINVAL: Stays.CHANGED,
    errno.EBUSY: Stays.MOUNT,
}


class Kept(Struct, frozen=True):
    """A whole copy that is kept when the originals are deleted: open, proven by drive and token."""

    copies: Copies
    medium: Medium
    rules: Rules
    label: str
    crossing: str

    def wrong(
        self, item: Item, buffers: Buffers, control: Control, later: bool = False
    ) -> Stays | None:
        """Why the copy of an item is not as it was verified, or None if it is.

        Reads it again if size and times are not enough.

        Args:
            later: on a drive where size and times never suffice, media is read right before its
                original is deleted, not now too.
        """
        place = arrives_at(item, self.crossing)
        if (
            item.rewritten
            and self.copies.stands_anew(item.id)
            and not self.medium.exists(item.there)
        ):
            # The earlier version is there, but the document that is used at the library is not.
            return MISSING
        try:
            status = self.medium.status(place)
            if item.kind is Kind.LINK:
                same = (
                    stat.S_ISLNK(status.st_mode)
                    and digest_of_bytes(self.medium.read_link(place)) == item.digest
                )
                return None if same else CHANGED
        except (FileNotFoundError, NotADirectoryError):
            return MISSING
        except OSError as error:
            raise told(error, tr("look at the copy"), place) from error
        look = look_at_copy(item.copy_seen, status, self.rules)
        if look is Look.SAME or (
            later and look is Look.TOUCHED and item.role in MEDIA and not self.rules.keeps_ctime
        ):
            return None
        try:
            if read_back(self.medium, place, buffers, control).digest == item.digest:
                return None
            return CHANGED
        except DriveGone:
            raise
        except FascisError:
            return CHANGED

    def lost(
        self, buffers: Buffers, control: Control, which: Which = Which.MAY_GO
    ) -> dict[bytes, Stays]:
        """Existing originals whose copy is not as it was verified, with the reason."""
        found = {}
        for item in self.copies.items(which):
            control.checkpoint()
            if why := self.wrong(item, buffers, control, later=True):
                found[item.place] = why
        return found

    def is_itself(self, item: Item, original: os.stat_result) -> bool:
        """True if the file at the original's path is the copy itself: somebody mounted it there."""
        try:
            return os.path.samestat(self.medium.status(arrives_at(item, self.crossing)), original)
        except OSError:
            return False

    def now(self, item: Item) -> Proven | None:
        """The present size and times of an item's copy; None if it does not exist."""
        try:
            return Proven.by(
                self.medium.status(arrives_at(item, self.crossing)), self.rules.stable_inodes
            )
        except OSError:
            return None


class Originals(Protocol):
    """What a release does with originals, by their places."""

    def status(self, place: bytes) -> os.stat_result:
        """``lstat``; of the folder itself for ``b""``."""

    def open(self, place: bytes) -> MediumFile:
        """Opens a regular file for reading."""

    def unlink(self, place: bytes, proven: Proven) -> None:
        """Deletes one if it is what was proven."""


class Release(Struct):
    """One running release: all places open and proven. ``kept`` starts with home.

    ``used`` are places that others need, and who needs them: they stay. So do places in ``lost``,
    whose copies were changed or removed. With ``reads_again`` the content of every original is
    compared once more, on any drive. ``still_wanted`` raises an error if the crossing no longer
    wants a release; it is called before every batch. ``differences`` are those found after
    :meth:`check_copies`, right before anything is set aside or deleted.
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
    lost: dict[bytes, Stays] = field(default_factory=dict)
    differences: Differences = field(default_factory=Differences)
    deleted: Deleted = field(default_factory=Deleted)
    still_wanted: Callable[[], None] = lambda: None

    # -- before anything is deleted ----------------------------------------------------------------

    def check_copies(self) -> None:
        """Checks every copy again, and reads those again that differ.

        Originals whose copies are not whole will stay.

        Raises:
            Refused: not one copy is what was verified; nothing was deleted.
        """
        for kept in self.kept:
            self.lost |= kept.lost(self.buffers, self.control)
        if self.lost and all(item.place in self.lost for item in self._copies.items(Which.MAY_GO)):
            raise Refused(
                Code.COPY_CHANGED,
                tr(
                    "Nothing in the copy on {label} is as it was verified, {min} "
                    "first. No original was deleted.",
                    label=self.kept[0].label,
                    min=shown(min(self.lost)),
                ),
                tuple(sorted(self.lost)),
            )

    # -- deleting ----------------------------------------------------------------------------------

    def run(self) -> None:
        """Deletes the originals. Can be called again after any interruption."""
        self._mend()
        for batch in self._batches():
            self.control.checkpoint()
            self.still_wanted()
            outcomes = self.release_batch(batch)
            files = [
                i
                for i, o in zip(batch, outcomes, strict=True)
                if o[1] is Origin.GONE
                and o[2] is None
                and i.kind is Kind.FILE
                and i.fate is not Fate.OWN
            ]
            self.report(Released(len(files), sum((i.seen or (i.size,))[0] for i in files)))

    def release_batch(self, batch: list[Item]) -> list[tuple[int, Origin, str | None]]:
        """Deletes some originals, with intent and outcome in the journal.

        Returns what happened to each, and why it stays.
        """
        fresh, opened = set(self.differences.changed), self._open_inodes(batch)
        self._copies.journal.record_origin([(i.id, Origin.INTENDED, None) for i in batch])
        outcomes = [self._release_one(item, fresh, opened) for item in batch]
        self._copies.journal.record_origin(outcomes)
        return outcomes

    def _mend(self) -> None:
        """Corrects the journal after an interruption.

        An original that was about to be deleted and no longer exists is gone.
        """
        gone = []
        for item in self._copies.items(Which.BEING_DELETED):
            try:
                self.source.status(item.place)
            except (FileNotFoundError, NotADirectoryError):
                gone.append((item.id, Origin.GONE, None))
            except OSError:
                # Something else is mounted there: it is handled later.
                continue
        self._copies.journal.record_origin(gone)

    @property
    def _copies(self) -> Copies:
        return self.kept[0].copies

    def _batches(self) -> Iterator[list[Item]]:
        batch: list[Item] = []
        for which in (Which.MAY_GO, Which.MAY_GO_UNCOPIED):
            for item in self._copies.items(which, batch=BATCH):
                batch.append(item)
                if len(batch) == BATCH:
                    yield batch
                    batch = []
        if batch:
            yield batch

    def _open_inodes(self, batch: list[Item]) -> set[int]:
        wanted = {(self._device_of(i), i.seen[3] if i.seen else i.inode) for i in batch}
        found = find_open(wanted, {device for device, _ in wanted})
        return {inode_key(o.inode) for o in found.files}

    def _device_of(self, item: Item) -> int:
        """The device number of its inode: a subvolume has its own."""
        try:
            return self.source.status(item.place).st_dev
        except OSError:
            # Gone, or something else is mounted there: it is handled later.
            return self.source.status(b"").st_dev

    def _release_one(
        self, item: Item, fresh: set[bytes], opened: set[int]
    ) -> tuple[int, Origin, str | None]:
        try:
            status = self.source.status(item.place)
        except (FileNotFoundError, NotADirectoryError):
            # Not by Fascis: does not count as deleted.
            return item.id, Origin.GONE, Code.VANISHED
        except OSError as error:
            if error.errno == errno.EXDEV:
                return item.id, Origin.STAYS, Stays.MOUNT
            raise told(error, tr("look at the original"), item.place) from error
        why = self._why_stays(item, status, fresh, opened)
        if why is None and any(k.is_itself(item, status) for k in self.kept):
            why = Stays.MOUNT
        if why:
            return item.id, Origin.STAYS, why
        copies = [k.now(item) for k in self.kept]
        if item.fate is not Fate.DISCARD and (why := self._why_no_copy(item)):
            return item.id, Origin.STAYS, why
        held = None
        try:
            if item.kind is Kind.FILE:
                held = self.source.open(item.place)
            return self._delete(item, status, copies, held)
        except PermissionError:
            return item.id, Origin.STAYS, Stays.NOT_PERMITTED
        except OSError as error:
            if why := _STAYS_BY_ERROR.get(error.errno or 0):
                return item.id, Origin.STAYS, why
            raise told(error, tr("delete the original"), item.place) from error
        finally:
            if held is not None:
                held.close()

    def _delete(
        self,
        item: Item,
        status: os.stat_result,
        copies: list[Proven | None],
        held: MediumFile | None,
    ) -> tuple[int, Origin, str | None]:
        """The last reading, the last check, and the unlink; ``held`` is the original, open.

        Raises ``OSError``.
        """
        proven = Proven.by(status, self.source_rules.stable_inodes)
        if held is not None:
            lease = held.hold()
            if why := self._why_open(lease, status):
                return item.id, Origin.STAYS, why
            if self._must_read(item, status) and self._read(held, lease) != item.digest:
                return item.id, Origin.STAYS, Stays.CHANGED
        if item.fate is not Fate.DISCARD and copies != [k.now(item) for k in self.kept]:
            return item.id, Origin.STAYS, CHANGED  # While its original was read.
        shared = self._shared(item, held)
        self.step(f"before unlink {item.id}")
        if held is not None and (not proven.holds(held.status()) or (lease and not held.held())):
            return item.id, Origin.STAYS, Stays.CHANGED
        self.source.unlink(item.place, proven)
        self.step(f"after unlink {item.id}")
        self._count(item, status, shared)
        return item.id, Origin.GONE, None

    def _why_open(self, lease: bool | None, status: os.stat_result) -> str | None:
        """Why an original must stay because a program may write to it.

        Where no lease is granted, processes are checked.
        """
        if lease is not None:
            return None if lease else Stays.OPEN
        found = find_open({(status.st_dev, status.st_ino)}, {status.st_dev})
        if found.files:
            return Stays.OPEN
        return None if found.all_seen else Stays.OPEN_NOT_KNOWN

    def _must_read(self, item: Item, status: os.stat_result) -> bool:
        """True if size and times do not show that an original is what was copied."""
        if item.fate is Fate.DISCARD:
            return False
        return self.reads_again or not self.source_rules.stable_inodes or _touched(item, status)

    def _read(self, held: MediumFile, lease: bool | None) -> bytes:
        """The digest of an original; a program that wants to write meanwhile does not wait long.

        Raises ``OSError``.
        """
        hasher = blake3()
        buffer = self.buffers.ring[0]
        while count := held.readinto(buffer):
            self.control.checkpoint()
            hasher.update(buffer[:count])
            if lease and not held.held():
                held.let_go()
                return b""
        return hasher.digest()

    def _why_stays(
        self, item: Item, status: os.stat_result, fresh: set[bytes], opened: set[int]
    ) -> str | None:
        """Why an original stays, or None if it can be deleted, by size and times."""
        if item.place in self.used:
            return Stays.USED_ELSEWHERE
        if item.place in self.lost:
            return self.lost[item.place]
        if item.fate is not Fate.DISCARD and (why := self._why_not_whole(item)):
            return why
        if item.place in fresh or differs(item, status, self.source_rules.stable_inodes):
            return Stays.CHANGED
        if item.kind is Kind.FILE and inode_key(status.st_ino) in opened:
            return Stays.OPEN
        return None

    def _why_no_copy(self, item: Item) -> str | None:
        """Why an item has no whole copy everywhere now; read if size and times do not tell."""
        reasons = (k.wrong(self._of(k, item), self.buffers, self.control) for k in self.kept)
        return next((why for why in reasons if why), None)

    def _why_not_whole(self, item: Item) -> str | None:
        """Why an item does not count as copied.

        Not verified alike everywhere, or different from before.
        """
        if item.seen is None or item.digest is None:
            return Stays.NOT_VERIFIED
        for kept in self.kept:
            there = self._of(kept, item)
            if there.copy is not CopyState.VERIFIED or there.digest != item.digest:
                return Stays.NOT_VERIFIED
        return Stays.DAMAGED if is_damaged(item, item.seen, item.digest) else None

    def _of(self, kept: Kept, item: Item) -> Item:
        return item if kept is self.kept[0] else kept.copies.item(item.id)

    def _shared(self, item: Item, held: MediumFile | None) -> int:
        if (
            held is None
            or item.kind is not Kind.FILE
            or self.source_rules.name not in ("btrfs", "XFS")
        ):
            return 0
        try:
            return held.shared_bytes()
        except OSError:
            return 0

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
        """Removes empty folders of the library's folder."""
        for place, _ in reversed(self._copies.journal.folders_that_cross()):
            if place:
                try:
                    folder.remove_folder(place)
                except OSError:
                    # Not empty, or gone already: only empty folders are removed.
                    continue


def still_wanted(journal: Journal) -> None:
    """Called while the originals are locked, before every batch.

    Another window or command may have decided otherwise.

    Raises:
        Refused: home was given back, or that was begun.
    """
    if (
        journal.state not in (State.SWITCHED, State.PARKED, State.RELEASED)
        or journal.open_act("undo") is not None
    ):
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "State of the crossing: {state}. Home was given back, or that was begun. "
                "Nothing more was deleted.",
                state=journal.state.words,
            ),
        )


def is_of_the_rest(item: Item, part: PartFacts | None) -> bool:
    """True for a place outside the part: the rest of a library is not deleted."""
    return part is not None and item.fate is Fate.LEFT_OUT and not is_in_part(item.place, part)


def why_stays(item: Item, fresh: Collection[bytes], others: Sequence[Copies]) -> Stays | None:
    """Why an original stays, by the journal and the last check; None if it is deleted.

    Args:
        fresh: files that changed at the old place.
        others: the copies on other demanded destinations.
    """
    if item.place in fresh:
        return Stays.CHANGED
    if item.fate in STAYS_BY_FATE:
        return STAYS_BY_FATE[item.fate]
    if item.fate is Fate.DISCARD:
        return None
    if any(i.copy is not CopyState.VERIFIED for i in (item, *(c.item(item.id) for c in others))):
        return Stays.NOT_VERIFIED
    if item.seen and item.digest and is_damaged(item, item.seen, item.digest):
        return Stays.DAMAGED
    return None


def left_behind(
    copies: Copies, source: Medium | None, differences: Differences
) -> list[tuple[bytes, str]]:
    """``(place, why)`` of files that stay at the old place after a release.

    At most 10,000 of each kind.
    """
    out: dict[bytes, str] = {}
    for item in copies.items(Which.STAYING):
        if len(out) >= 10_000:
            break
        if is_of_the_rest(item, copies.journal.header.part):
            continue
        if source is not None and not source.exists(item.place):
            continue
        why = STAYS_BY_FATE.get(item.fate) or (copies.journal.why(item.id) or Stays.NOT_VERIFIED)
        out[item.place] = why
    for place in differences.appeared:
        out.setdefault(place, Stays.APPEARED)
    for place in differences.changed:
        if place not in out:
            out[place] = Stays.CHANGED
    return sorted(out.items())


def _touched(item: Item, status: os.stat_result) -> bool:
    """True if a file with several names was touched since it was copied.

    A name may have been added or removed, or its content changed.
    """
    return item.links > 1 and item.seen is not None and ctime_of(status) != item.seen[2]
