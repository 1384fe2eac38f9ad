"""An equal existing file at the destination counts as a copy: both are compared as a whole.

The plan found it equal; here both are read again, the existing one from the drive itself. Nothing
is written and nothing there is changed.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing

from msgspec import Struct

from fascis.crossing.copying.checking import Checks
from fascis.crossing.copying.file import Held, Written, hindered_by
from fascis.crossing.copying.proof import Proof
from fascis.crossing.copying.reading_back import CHUNK, Buffers, ReadBack, read_back
from fascis.crossing.journal.copies import Copied, Copies, Item, is_damaged
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Advanced, Report
from fascis.crossing.model.seen import seen_of
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.loose import Sources
from fascis.drives.model import Drive
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.digests import Digests
from fascis.files.disk.medium import Medium, MediumFile
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.files.names import join, shown
from fascis.words.speech import tr

BATCH = 256


class Stood(Struct, frozen=True):
    """Compares existing files with their originals on one opened destination.

    Attributes:
        root: the folder of the destination that places of the copy count from.
    """

    copies: Copies
    sources: Sources
    destination: Medium
    drive: Drive
    root: bytes
    control: Control
    report: Report

    def run(self) -> None:
        """Compares everything that is not compared yet; hindrances of originals are recorded.

        Raises:
            Refused: what stands there is not equal any more. Nothing was changed.
            EnvironmentTrouble: the destination failed.
            Cancelled: by the control.
        """
        checks = Checks.of(self.copies)
        with Buffers(checks.algorithms) as buffers, closing(Proof(self.drive)) as proof:
            for batch in self._batches():
                self._batch(batch, buffers, proof, checks)

    def _batches(self) -> Iterator[list[Item]]:
        batch: list[Item] = []
        for item in self.copies.items(Which.STOOD_NOT_COMPARED_YET):
            batch.append(item)
            if len(batch) == BATCH:
                yield batch
                batch = []
        if batch:
            yield batch

    def _batch(self, items: list[Item], buffers: Buffers, proof: Proof, checks: Checks) -> None:
        outcomes = {item.id: self._original(item, buffers, checks) for item in items}
        whole = [i for i in items if outcomes[i.id].state is CopyState.COPIED]

        def read() -> list[ReadBack]:
            return [self._read_there(item, buffers) for item in whole]

        results, holds = proof.read(self.drive.label, read, lambda r: r.stored)
        proven = []
        for item, got in zip(whole, results, strict=True):
            mine = outcomes[item.id]
            if got.digest != mine.digest:
                raise _not_equal(item)
            outcomes[item.id] = Copied(item.id, mine.state, mine.digest, mine.seen, got.seen)
            proven.append((item.id, holds and proof.proves(got.pages_gone)))
        self.copies.record_copies(outcomes.values())
        self.copies.record_verified(proven)
        for item in whole:
            number = self.copies.number
            self.report(Advanced(item.strand, item.size, 1, item.size, 1, number))

    def _read_there(self, item: Item, buffers: Buffers) -> ReadBack:
        place = join(self.root, item.there)
        try:
            return read_back(self.destination, place, buffers, self.control)
        except EnvironmentTrouble as error:
            try:
                gone = not self.destination.exists(place)
            except OSError:
                gone = False
            if gone:
                raise _not_equal(item) from error
            raise

    def _original(self, item: Item, buffers: Buffers, checks: Checks) -> Copied:
        """Reads an original as a whole; it must be the same after reading as before."""
        medium, place = self.sources.library, item.place
        try:
            if item.outside is not None:
                medium, place = self.sources.loose.of(item.outside)
            with closing(medium.open(place)) as reading:
                held = Held(reading)
                held.check()
                before = reading.opened
                digests = self._digests(reading, buffers)
                held.check()
                after = reading.status()
        except Written:
            return Copied(item.id, CopyState.CHANGING)
        except OSError as error:
            return Copied(item.id, hindered_by(error))
        if seen_of(before) != seen_of(after):
            return Copied(item.id, CopyState.CHANGING)
        digest, others = digests.digest(), digests.others()
        outcome = Copied(item.id, CopyState.COPIED, digest, seen_of(before), others=others)
        damaged = checks.otherwise(item, outcome) or is_damaged(item, seen_of(before), digest)
        if damaged and not self.copies.journal.value("take_damaged", False):
            return Copied(item.id, CopyState.DAMAGED)
        return outcome

    def _digests(self, reading: MediumFile, buffers: Buffers) -> Digests:
        digests, buffer = buffers.begin_digests(), memoryview(bytearray(CHUNK))
        while count := reading.readinto(buffer):
            self.control.checkpoint()
            digests.update(buffer[:count])
        return digests


def _not_equal(item: Item) -> Refused:
    return Refused(
        Code.NAME_TAKEN,
        tr(
            "{there} was identical to {place} when this was planned, and no longer is. "
            "Nothing there was changed, and the originals are untouched. Give this "
            "crossing up (fascis undo) and plan it again.",
            there=shown(item.there),
            place=shown(item.place),
        ),
    )
