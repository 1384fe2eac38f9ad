"""Verifying a library again, for example a year later.

Everything is read and compared with its manifest.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from pathlib import Path

from msgspec import Struct, field

from fascis.copies.verifying.reader import BATCH_BYTES, EARLY, Got, Reader
from fascis.copies.verifying.records import File, Place, Records
from fascis.crossing.model.small import SMALL_FILE
from fascis.drives.model import Drive
from fascis.files.control import Control
from fascis.files.digests import Algorithm
from fascis.files.disk.medium import Medium
from fascis.files.errors import told
from fascis.files.hash_lists import HashList
from fascis.files.names import join
from fascis.files.times import mtime_of
from fascis.library.own import OWN
from fascis.words.speech import tr


class Verification(Struct):
    """The result. *Edited*: size or time differs; *damaged*: same size and time, other content.

    ``proven``: all was read from the drive itself, not perhaps from memory. ``list_…``: files that
    differ from other hash lists, or are missing (the first thousand, and how many); ``said``:
    problems of these lists themselves.
    """

    files: int = 0
    bytes: int = 0
    matching: int = 0
    edited: list[Place] = field(default_factory=list)
    damaged: list[Place] = field(default_factory=list)
    missing: list[Place] = field(default_factory=list)
    unlisted: list[Place] = field(default_factory=list)
    proven: bool = True
    list_mismatch: list[Place] = field(default_factory=list)
    list_missing: list[Place] = field(default_factory=list)
    list_missing_files: int = 0
    said: list[str] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """True if nothing is damaged or missing, and everything matches the hash lists."""
        wrong = self.damaged or self.missing or self.list_mismatch or self.list_missing
        return not wrong


def verify(
    medium: Medium,
    root: Path,
    control: Control | None = None,
    beat: Callable[[int, int, int], None] = lambda _f, _b, _of: None,
    drive: Drive | None = None,
    gentle: bool = False,
    lists: Sequence[HashList] = (),
) -> Verification:
    """Reads everything again, proven as in a crossing. Writes nothing.

    Args:
        beat: called with the files and bytes read so far, and the bytes in all.
        drive: the library's drive; without it, it is not known whether files were read from it.
        lists: hash lists of others, to be compared too; then it may have no manifest.
        gentle: pauses as long as it reads, so that others can use the drive.

    Raises:
        Damaged: there is no manifest, or it cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    control = control or Control()
    out = Verification()
    with (
        closing(Records(medium, root, lists)) as records,
        Reader(medium, records.algorithms, control, drive, gentle) as reader,
    ):
        out.said = [sentence for one in lists for sentence in one.told()]
        batches = _to_read(_batches(_files(medium), reader.most), records)
        of = 0
        for files, found in reader.read(batches):
            for file in records.ask(files):
                _compare(medium, file, found.get(file.place), out)
            of = of or records.total_bytes()
            beat(out.files, out.bytes, of)
        out.missing = records.missing()
        out.unlisted = records.unlisted
        out.list_missing = records.listed_and_missing()
        out.list_missing_files = records.count_listed_and_missing()
    return out


def _files(medium: Medium) -> Iterator[File]:
    """Every file of a library, without Fascis's own."""
    for folder in medium.walk():
        if folder.place == OWN or folder.place.startswith(OWN + b"/"):
            continue
        for name, status in zip(folder.names, folder.stats, strict=True):
            if stat.S_ISREG(status.st_mode):
                yield File(join(folder.place, name), status.st_size)


def _batches(files: Iterable[File], most: int) -> Iterator[list[File]]:
    batch: list[File] = []
    size = 0
    for file in files:
        batch.append(file)
        size += file.size
        if len(batch) >= most or size >= BATCH_BYTES:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


def _to_read(batches: Iterable[list[File]], records: Records) -> Iterator[list[File]]:
    """The files of each batch that a list has.

    The first few are read before the lists; nearly all small files are in the lists.
    """
    early = EARLY
    for batch in batches:
        if early and all(file.size <= SMALL_FILE for file in batch):
            early -= 1
            yield batch
        else:
            early = 0
            yield records.ask(batch)


def _compare(medium: Medium, file: File, read: Got | None, out: Verification) -> None:
    place, known = file.place, file.known
    out.files += 1
    out.bytes += file.size
    out.proven = out.proven and (read is None or read.proven)
    if file.said:
        digests = {**read.others, Algorithm.BLAKE3: read.digest} if read else {}
        if not all(said.holds(digests, file.size) for said in file.said):
            out.list_mismatch.append(place)
    if known is None:
        return
    if read and read.digest == known.digest:
        out.matching += 1
        return
    try:
        status = medium.status(place)
    except OSError as error:
        raise told(error, tr("look at"), place) from error
    if known.size is not None and _looks(status) != (known.size, known.mtime_ns):
        out.edited.append(place)
    else:
        out.damaged.append(place)


def _looks(status: os.stat_result) -> tuple[int, int]:
    return status.st_size, mtime_of(status)
