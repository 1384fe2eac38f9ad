"""The engine.

Copies everything in the plan into the staging folder and reads it back, batch by batch. While one
batch is copied, the one before is read back; on a rotating drive, whose head would move back and
forth, copying and reading back alternate. A batch is flushed and recorded in the journal before it
is read back. Memory does not grow with the number of files.
"""

from __future__ import annotations

import errno
import logging
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

from msgspec import Struct

from fascis.crossing.copying.bulk import LEAST_FILES, Bulk
from fascis.crossing.copying.checking import Checks
from fascis.crossing.copying.file import Passage, copy_file, flush, hindered_by, remove_staged
from fascis.crossing.copying.pipeline import ended_in_time, gathered, in_pipeline
from fascis.crossing.copying.proof import Proof
from fascis.crossing.copying.reading_back import Buffers, read_back
from fascis.crossing.copying.second_names import SecondNames
from fascis.crossing.copying.sides import Ends
from fascis.crossing.copying.throughput import Speeds
from fascis.crossing.journal.copies import Copied, Copies, Item, arrives_at, is_damaged
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Advanced, Attention, Report
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.notices import HINDRANCE, Notice, On
from fascis.crossing.model.seen import Look, look_at_copy
from fascis.crossing.model.states import CopyState
from fascis.files.control import Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import Cancelled, DriveGone, FascisError, told
from fascis.files.names import join, parent, shown
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

BATCH_FILES = (128, 2048)
BATCH_BYTES = (16 << 20, 256 << 20)
# On a rotating drive: copied, then read back, alternating.
ROUND_BYTES, ROUND_FILES = 1 << 30, 1 << 16
# Batches grow while one takes less than this, so that a slow drive is read back soon.
_BATCH_SECONDS = 1.5
# More threads wait for each other in the interpreter (measured: 20,000 small files, 2 cores).
_COPYING_THREADS = 2
_READING_THREADS = 1
_TRIES = 3


class Amending(Struct, frozen=True):
    """Later changes that are copied into a library that has arrived.

    These entries, and the library's name there.
    """

    entries: frozenset[int]
    library: bytes


class Manner(Struct, frozen=True):
    """How an engine works.

    ``now`` is the time of its start in seconds; ``amending`` has the later changes, if it copies
    these; ``alternate`` is True if copying and reading back alternate.
    """

    now: float = 0.0
    amending: Amending | None = None
    alternate: bool = False


_USUAL = Manner()


class _Read(Struct):
    """The result of reading one copy back; ``stored`` bytes are on the drive for it."""

    item: Item
    equal: bool
    pages_gone: bool
    stored: int
    proven: bool = False


class _Batch(Struct):
    items: list[Item]
    outcomes: list[Copied]


class Engine:
    """Copies the files of one destination until they are *verified*."""

    def __init__(
        self,
        copies: Copies,
        ends: Ends,
        proof: Proof,
        control: Control,
        report: Report,
        manner: Manner = Manner(),
    ) -> None:
        self._copies, self._ends, self._proof = copies, ends, proof
        self._source, self._destination = ends.source, ends.destination
        self._root, self._keeps = ends.root, ends.keeps
        self._control, self._report, self._now = control, report, manner.now
        self._amending, self._alternate = manner.amending, manner.alternate
        self._takes_damaged = bool(copies.journal.value("take_damaged", False))
        self._crossing = copies.journal.header.crossing
        self._checks = Checks.of(copies)
        self.speeds = Speeds(control)
        self._all_buffers: list[Buffers] = []
        self._copiers = ThreadPoolExecutor(_COPYING_THREADS, "copy")
        self._readers = ThreadPoolExecutor(_READING_THREADS, "read")
        self._local = threading.local()

    # -- places ------------------------------------------------------------------------------------

    def staged(self, item: Item) -> bytes:
        """Where an item is staged.

        While later changes are copied, everything else is in the library already.
        """
        if self._amending and item.id not in self._amending.entries:
            return join(self._amending.library, self.arrives(item))
        return join(self._root, self.arrives(item))

    def arrives(self, item: Item) -> bytes:
        """Where an item will be in the new library."""
        return arrives_at(item, self._crossing)

    def _buffers(self) -> Buffers:
        found: Buffers | None = getattr(self._local, "buffers", None)
        if found is None:
            found = self._local.buffers = Buffers(self._checks.algorithms)
            self._all_buffers.append(found)
        return found

    # -- the run -----------------------------------------------------------------------------------

    def run(self) -> None:
        """Copies and verifies everything left; hindrances are recorded, the rest continues.

        Raises:
            EnvironmentTrouble: the destination failed.
            Cancelled: by the control.
        """
        try:
            self._make_folders()
            self._look_at_kept()
            if self._alternate:
                self._in_turn()
            else:
                self._small_files()
                in_pipeline(self._work(), self._finish)
            if self._keeps.links and self._second_names().give():
                # Those that became separate files.
                self._in_turn()
        finally:
            for pool in (self._copiers, self._readers):
                pool.shutdown(wait=True, cancel_futures=True)
            for buffers in self._all_buffers:
                buffers.close()

    def _second_names(self) -> SecondNames:
        return SecondNames(self._copies, self._ends, self.staged, self._control, self._report)

    def _small_files(self) -> None:
        """Gives small files to helpers if there are many and both drives are plain ones.

        :meth:`_work` finds everything they leave.
        """
        here, there = self._source.medium, self._destination.medium
        if self._amending or self._checks.said or not (here.shareable and there.shareable):
            return
        if self._copies.count_small() < LEAST_FILES:
            return
        Bulk(self._copies, self._ends, self._proof, self._control, self._report).run()
        # Usually nothing is left: to know this, entries are counted once and not read again.
        self._copies.count()

    def _work(self) -> Iterator[_Batch]:
        """Files that an interrupted run had copied but not read back.

        Then all others, as they are copied.
        """
        for items in self._batches(Which.NOT_READ_BACK_YET):
            yield _Batch(items, [])
        for items in self._batches(Which.NOT_COPIED_YET):
            with self.speeds.writing([i.size for i in items]):
                batch = self._copy_batch(items)
            yield batch

    def _in_turn(self) -> None:
        """Copies a gibibyte or more, reads it back, and so on."""
        waiting: list[_Batch] = []
        size = files = 0
        for batch in self._work():
            if batch.outcomes:
                self._keep_batch(batch.items, batch.outcomes)
            waiting.append(batch)
            size, files = size + sum(i.size for i in batch.items), files + len(batch.items)
            if size >= ROUND_BYTES or files >= ROUND_FILES:
                self._verify_all(waiting)
                size = files = 0
        self._verify_all(waiting)

    def _verify_all(self, waiting: list[_Batch]) -> None:
        for batch in waiting:
            self._verify_batch(batch)
        waiting.clear()

    def _batches(self, which: Which) -> Iterator[list[Item]]:
        batch: list[Item] = []
        size = 0
        most_files, most_bytes = BATCH_FILES[0], BATCH_BYTES[0]
        for item in self._copies.items(which, first_names=self._keeps.links):
            if batch and (size + item.size > most_bytes or len(batch) >= most_files):
                begun = time.monotonic()
                yield batch
                if time.monotonic() - begun < _BATCH_SECONDS:
                    most_files, most_bytes = (
                        min(2 * most_files, BATCH_FILES[1]),
                        min(2 * most_bytes, BATCH_BYTES[1]),
                    )
                batch, size = [], 0
            batch.append(item)
            size += item.size
        if batch:
            yield batch

    def _make_folders(self) -> None:
        medium = self._destination.medium
        if self._amending:
            self._make_folder(medium, self._root)
            for id in self._amending.entries:
                self._make_parents(medium, self.staged(self._copies.item(id)))
            return
        self._make_folder(medium, self._root)
        for place, there in self._copies.journal.folders_that_cross():
            if place == b".fascis" or place.startswith(b".fascis/"):
                continue
            if there != place:
                # For example in a folder of another library whose own parents are not in the plan.
                self._make_parents(medium, join(self._root, join(there, b"")))
            elif place:
                self._make_folder(medium, join(self._root, there))
        for item in self._copies.items(Which.KEPT_ELSEWHERE):
            self._make_parents(medium, self.staged(item))

    def _make_parents(self, medium: Medium, place: bytes) -> None:
        inner = parent(place)[len(self._root) :].strip(b"/")
        parts = inner.split(b"/") if inner else []
        for i in range(len(parts)):
            self._make_folder(medium, join(self._root, b"/".join(parts[: i + 1])))

    @staticmethod
    def _make_folder(medium: Medium, place: bytes) -> None:
        try:
            medium.make_folder(place)
        except FileExistsError:
            return
        except OSError as error:
            raise told(error, tr("make the folder"), place) from error

    def _look_at_kept(self) -> None:
        """At a resume, checks verified copies.

        They must still be as the drive returned them; otherwise they are made again.
        """
        lost, doubted = [], []
        for item in self._copies.items(Which.READ_BACK):
            if self._amending and item.id not in self._amending.entries:
                # It is in the library; a release checks it again.
                continue
            self._control.checkpoint()
            look = self._look(item, self.staged(item))
            # It may have been moved into the library already.
            if look is Look.OTHER and self._amending:
                look = self._look(item, join(self._amending.library, self.arrives(item)))
            elif (
                look is Look.TOUCHED
                and self._keeps.keeps_ctime
                and item.twin is None
                and item.links == 1
            ):
                doubted.append(item.id)
            if look is Look.OTHER:
                remove_staged(self._destination.medium, self.staged(item))
                lost.append(item.id)
        if lost:
            self._copies.forget_some(lost)
        if doubted:
            self._copies.doubt_some(doubted)

    def _look(self, item: Item, place: bytes) -> Look:
        try:
            status = self._destination.medium.status(place)
        except FileNotFoundError:
            return Look.OTHER
        except OSError as error:
            raise told(error, tr("look at the copy"), place) from error
        return look_at_copy(item.copy_seen, status, self._keeps)

    # -- copying -----------------------------------------------------------------------------------

    def _copy_batch(self, items: list[Item]) -> _Batch:
        # Near each other at the source.
        ordered = sorted(items, key=lambda i: (parent(i.place), i.inode))
        if len(ordered) == 1:
            return _Batch(items, [self._copy(ordered[0])])
        share = -(-len(ordered) // _COPYING_THREADS)
        parts = [ordered[i : i + share] for i in range(0, len(ordered), share)]
        whole: list[Copied] = []
        results = [self._copiers.submit(self._copy_some, part, whole) for part in parts]
        try:
            return _Batch(items, gathered(results))
        except Cancelled:
            self._keep_what_is_whole(items, whole)
            raise

    def _keep_what_is_whole(self, items: list[Item], whole: list[Copied]) -> None:
        """Stopped in the middle of a batch: finished copies are not copied again."""
        medium, name = self._destination.medium, self._destination.name
        if whole and ended_in_time(lambda: flush(medium, name)):
            self._record(items, whole)

    def _keep_batch(self, items: list[Item], outcomes: list[Copied]) -> None:
        """Flushes a copied batch to the drive, then records it in the journal."""
        with self.speeds.writing([i.size for i in items], more=True):
            flush(self._destination.medium, self._destination.name)
        self._record(items, outcomes)

    def _record(self, items: list[Item], outcomes: list[Copied]) -> None:
        self._copies.record_copies(outcomes)
        places = {i.id: i for i in items}
        for outcome in outcomes:
            self._notice_outcome(places[outcome.item], outcome)

    def _notice_outcome(self, item: Item, outcome: Copied) -> None:
        if outcome.state in HINDRANCE:
            self._notice(item, HINDRANCE[outcome.state])
        elif outcome.seen and outcome.seen[:2] != (item.size, item.mtime_ns):
            self._notice(item, Notice.CHANGED)
        if outcome.lost:
            names = ", ".join(map(shown, outcome.lost[:3]))
            self._notice(item, Notice.ATTRIBUTES_LOST, names=names)
        if outcome.zeros:
            self._notice(item, Notice.ZEROS)

    def _copy_some(self, items: list[Item], whole: list[Copied]) -> list[Copied]:
        """Copies some files; finished ones are added to ``whole`` at once, in case of a stop."""
        outcomes = []
        for item in items:
            outcome = self._copy(item)
            outcomes.append(outcome)
            whole.append(outcome)
        return outcomes

    def _copy(self, item: Item) -> Copied:
        place = self.staged(item)
        try:
            outcome = self._copy_to(item, place)
        except FascisError as error:
            if getattr(error, "errno", 0) != errno.EEXIST:
                raise
            # Staged by an interrupted run, without a record.
            remove_staged(self._destination.medium, place)
            self._must_be_free(place)
            outcome = self._copy_to(item, place)
        wrong = self._checks.otherwise(item, outcome)
        if outcome.seen and outcome.digest and not wrong:
            wrong = is_damaged(item, outcome.seen, outcome.digest)
        if wrong:
            if not self._takes_damaged:
                remove_staged(self._destination.medium, place)
                return Copied(item.id, CopyState.DAMAGED)
            self._notice(item, Notice.TAKEN_DAMAGED)
        if outcome.state is CopyState.COPIED and item.fate is Fate.COPY and outcome.seen:
            self._report(Advanced(item.strand, outcome.seen[0], 1, destination=self._copies.number))
        return outcome

    def _must_be_free(self, place: bytes) -> None:
        """A drive is damaged if a name is taken and nothing is there.

        A resume cannot solve that.
        """
        try:
            self._destination.medium.create(place).close()
            remove_staged(self._destination.medium, place)
        except FileExistsError as error:
            name = self._destination.name
            raise DriveGone(
                tr(
                    "The file system of {name} is damaged: the name {place} can "
                    "neither be opened nor removed. What is verified on {name} is "
                    "kept, and the originals are untouched. Have {name} checked and "
                    "repaired, then resume.",
                    name=name,
                    place=shown(place),
                ),
                place,
                errno.EIO,
            ) from error
        except OSError as error:
            raise told(error, tr("write"), place) from error

    def _copy_to(self, item: Item, place: bytes) -> Copied:
        medium, origin = self._source.medium, item.place
        if item.outside is not None:
            assert self._ends.loose
            try:
                medium, origin = self._ends.loose.of(item.outside)
            except OSError as error:
                return Copied(item.id, hindered_by(error))
        passage = Passage(medium, origin, self._destination.medium, place)
        return copy_file(item, passage, self._keeps, self._buffers(), self._control)

    # -- verifying ---------------------------------------------------------------------------------

    def _finish(self, batch: _Batch) -> None:
        if batch.outcomes:
            self._keep_batch(batch.items, batch.outcomes)
        self._verify_batch(batch)

    def _verify_batch(self, batch: _Batch) -> None:
        digests = {
            o.item: o.digest for o in batch.outcomes if o.state is CopyState.COPIED and o.digest
        }
        if not batch.outcomes:
            digests = {i.id: i.digest for i in batch.items if i.digest}
        items = [i for i in batch.items if i.id in digests]
        if not items:
            return
        with self.speeds.reading([i.size for i in items]):
            results = self._read_proven(items, digests)
        self._copies.record_verified([(r.item.id, r.proven) for r in results if r.equal])
        for r in results:
            if r.equal:
                self._told_verified(r.item)
            else:
                self._again(r.item)

    def _read_proven(self, items: list[Item], digests: dict[int, bytes]) -> list[_Read]:
        """Reads copies back, again if the first reading was not proven to come from the drive."""
        share = -(-len(items) // _READING_THREADS)
        parts = [items[i : i + share] for i in range(0, len(items), share)]

        def read() -> list[_Read]:
            return gathered(
                [self._readers.submit(self._verify_some, part, digests) for part in parts]
            )

        results, holds = self._proof.read(self._destination.name, read, lambda r: r.stored)
        for r in results:
            r.proven = holds and self._proof.proves(r.pages_gone)
        return results

    def _verify_some(self, items: list[Item], digests: dict[int, bytes]) -> list[_Read]:
        return [self._verify(item, digests[item.id]) for item in items]

    def _told_verified(self, item: Item) -> None:
        if item.fate is Fate.COPY:
            self._report(Advanced(item.strand, 0, 0, item.size, 1, self._copies.number))

    def _verify(self, item: Item, digest: bytes) -> _Read:
        self._control.checkpoint()
        try:
            got = read_back(
                self._destination.medium, self.staged(item), self._buffers(), self._control
            )
        except FascisError as error:
            number = getattr(error, "errno", 0)
            if number == errno.ENOENT or (number == errno.EIO and self._still_answers()):
                # Not kept, or found wrong by the file system: counts as read back wrong.
                return _Read(item, False, False, 0)
            raise
        return _Read(item, got.digest == digest, got.pages_gone, got.stored)

    def _still_answers(self) -> bool:
        """True if the destination still answers.

        The problem is one file, not the drive.
        """
        try:
            self._destination.medium.names(self._root)
            self._destination.medium.sync()
        except OSError:
            return False
        return True

    def _again(self, item: Item) -> None:
        """Copies a file again that was read back wrong, at most twice."""
        if item.rewritten:
            # The document rewritten from it is removed too: it is made again from the new copy.
            remove_staged(self._destination.medium, self.staged(item))
            self._copies.forget_some([item.id])
            item = self._copies.item(item.id)
        for attempt in range(2, _TRIES + 1):
            remove_staged(self._destination.medium, self.staged(item))
            outcome = self._copy_to(item, self.staged(item))
            flush(self._destination.medium, self._destination.name)
            self._copies.record_copies([outcome])
            if outcome.state is not CopyState.COPIED or outcome.digest is None:
                self._notice(item, HINDRANCE[outcome.state])
                return
            (read,) = self._read_proven([item], {item.id: outcome.digest})
            if read.equal:
                self._copies.record_verified([(item.id, read.proven)])
                times = tr("once") if attempt == 2 else tr("twice")
                self._notice(item, Notice.READ_BACK_WRONG, times=times)
                self._told_verified(item)
                return
        self._copies.record_copies([Copied(item.id, CopyState.MISMATCH)])
        self._notice(item, Notice.MISMATCH)

    def _notice(self, item: Item, notice: Notice, **fields: str) -> None:
        """Records and reports a problem that needs attention."""
        drive = (self._source if notice.on is On.SOURCE else self._destination).name
        meaning = notice.words.format(**fields)
        self._copies.journal.note(item.place, drive, meaning, self._now)
        _LOG.info("notice %s of %s on %s", notice.value, shown(item.place), shown(drive))
        self._report(Attention(item.place, drive, meaning))
