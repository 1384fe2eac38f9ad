"""Stand-in drives.

A folder that simulates a drive, with its capacity, speed, file-system rules and faults.
"""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from fascis.drives.model import Drive
from fascis.drives.rules import Rules, rules_of
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium, MediumFile, PosixMedium
from fascis.files.disk.walk import Folder
from fascis.files.errors import Damaged
from fascis.files.names import parent
from fascis.words.speech import tr

DESCRIPTION = "stand-in.json"
# Seconds until a changed speed is noticed in the middle of a slow write.
_SLICE = 0.1


class Fault(BaseModel):
    """Something that goes wrong.

    ``kind``: ``unplugged`` (after N bytes written), ``flip`` (one bit of a file, as it
    is stored, at most ``times`` times), ``write-error`` (a file), ``full`` (after N bytes written).
    """

    model_config = ConfigDict(extra="forbid", defer_build=True)
    kind: str
    after_bytes: int = 0
    name: str = ""
    at: int = 0
    times: int = 1


class Description(BaseModel):
    """``stand-in.json``, see docs/formats.md."""

    model_config = ConfigDict(extra="forbid", defer_build=True)
    uuid: str
    label: str
    filesystem: str
    capacity_bytes: int = Field(gt=0)
    block_bytes: int = Field(default=4096, ge=512)
    transport: str = "usb"
    connected: bool = True
    rotational: bool = False
    read_only: bool = False
    read_mb_s: float = 0
    write_mb_s: float = 0
    answers_from_memory: bool = False
    faults: list[Fault] = []


def read_description(folder: Path | str) -> Description | None:
    """Reads the description of one stand-in; None for a folder that has none.

    Raises:
        Damaged: it is not one.
    """
    try:
        with open(f"{folder}/{DESCRIPTION}", "rb", buffering=0) as said:
            return _understood(said.readall())
    except (FileNotFoundError, NotADirectoryError):
        return None
    except (OSError, ValidationError) as error:
        raise Damaged(
            Path(folder, DESCRIPTION),
            tr("this is not a description of a stand-in drive"),
            tr("The drive is not shown."),
        ) from error


@lru_cache(maxsize=64)
def _understood(text: bytes) -> Description:
    """The file is read each time, and the same text is understood once."""
    return Description.model_validate_json(text)


def used_bytes(root: Path, block: int) -> int:
    """Bytes that the files below take in whole blocks, without holes, hard links once.

    Files deeper than a path can be are not counted, nor files removed meanwhile: this only
    simulates a drive.

    Raises:
        OSError: a folder cannot be listed.
    """
    total, several = 0, set()
    waiting = [os.fsencode(root)]
    while waiting:
        total += block
        folder = waiting.pop()
        try:
            entries = list(os.scandir(folder))
        except OSError as error:
            went = error.errno == errno.ENOENT and folder != os.fsencode(root)
            if went or error.errno == errno.ENAMETOOLONG:
                continue
            raise
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                waiting.append(entry.path)
                continue
            with suppress(FileNotFoundError):
                s = entry.stat(follow_symlinks=False)
                if s.st_nlink > 1 and (s.st_dev, s.st_ino) in several:
                    continue
                if s.st_nlink > 1:
                    several.add((s.st_dev, s.st_ino))
                total += -(-s.st_blocks * 512 // block) * block
    return total


class StandIn:
    """One stand-in drive while the program runs: its counters and its faults."""

    def __init__(
        self, folder: Path, description: Description, step: Callable[[str], None] = lambda _: None
    ) -> None:
        self.folder = folder
        self.step = step
        self.description = self._told = description
        self.rules: Rules = rules_of(description.filesystem, description.block_bytes)
        self.written = 0
        self.unplugged = False
        # Connected again, and not written to since.
        self.fresh = False
        self._lock = threading.Lock()
        self._used: int | None = None
        self._clock = {"read": 0.0, "write": 0.0}

    def drive(self, measured: bool = True) -> Drive:
        """The simulated drive, measured now; nothing is free if it is away or not ``measured``."""
        d = self.description
        free = self.free() if measured and self.connected else 0
        return Drive(
            d.uuid,
            d.label,
            d.filesystem,
            self.rules,
            self.folder,
            d.capacity_bytes,
            free,
            d.block_bytes,
            d.transport,
            d.rotational,
            d.read_only,
            d.transport == "usb",
            self.connected,
            "",
            d.uuid,
            False,
            True,
            d.write_mb_s,
            d.read_mb_s,
            answers_from_memory=d.answers_from_memory and not self.fresh,
            hardware=self.folder.name,
        )

    @property
    def connected(self) -> bool:
        """False if it is away."""
        return self.description.connected and not self.unplugged

    def describe(self, description: Description) -> None:
        """Takes over what its description says now; faults go on as they are."""
        if description is self._told:
            return
        if description.connected and not self.description.connected:
            self.connect_again()
        self._told = description
        self._clock = dict.fromkeys(self._clock, 0.0)
        self.description = description.model_copy(update={"faults": self.description.faults})

    def connect_again(self) -> None:
        """It was away and is back: nothing of it is in memory any more."""
        self.fresh, self.unplugged = True, False

    def free(self) -> int:
        """Free bytes, measured by looking at the files."""
        self._used = used_bytes(self.folder, self.description.block_bytes)
        return max(0, self.description.capacity_bytes - self._used)

    def measure_again(self) -> None:
        """What it holds is measured again before the next write."""
        with self._lock:
            self._used = None

    def check(self) -> None:
        """Raises an error like a missing drive."""
        if not self.connected:
            raise OSError(errno.ENODEV, os.strerror(errno.ENODEV))

    def check_name(self, place: bytes) -> None:
        """Raises an error like the file system for a name it cannot store."""
        if self.rules.refuses_name(place.rpartition(b"/")[2]):
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))

    def _pace(self, kind: str, count: int, mb_s: float) -> None:
        if mb_s <= 0:
            return
        with self._lock:
            start = max(time.monotonic(), self._clock[kind])
            self._clock[kind] = until = start + count / (mb_s * 1e6)
        # Not longer than its description says so: the demo's bench changes speeds.
        told = self._told
        while (left := until - time.monotonic()) > 0 and self._told is told:
            time.sleep(min(left, _SLICE))

    def on_read(self, count: int) -> None:
        """Counts a read and slows it down."""
        self.check()
        self._pace("read", count, self.description.read_mb_s)

    def on_write(self, place: bytes, offset: int, content: memoryview) -> memoryview:
        """Counts, slows, refuses or spoils a write; returns the bytes to store."""
        self.check()
        self.step("write")
        self._pace("write", len(content), self.description.write_mb_s)
        with self._lock:
            self.fresh = False
            self.written += len(content)
            if self._used is None:
                self._used = used_bytes(self.folder, self.description.block_bytes)
            self._used += len(content)
            used = self._used
        for fault in self.description.faults:
            content = self._apply(fault, place, offset, content)
        largest = self.rules.largest_file
        if largest is not None and offset + len(content) > largest:
            raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))
        if used > self.description.capacity_bytes:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        return content

    def _apply(self, fault: Fault, place: bytes, offset: int, content: memoryview) -> memoryview:
        if fault.kind == "unplugged" and self.written > fault.after_bytes:
            self.unplugged = True
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        if fault.kind == "full" and self.written > fault.after_bytes:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        if fault.name and not place.endswith(os.fsencode(fault.name)):
            return content
        if fault.kind == "write-error":
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        if fault.kind == "flip" and fault.times > 0 and offset <= fault.at < offset + len(content):
            fault.times -= 1
            spoilt = bytearray(content)
            spoilt[fault.at - offset] ^= 1
            return memoryview(spoilt)
        return content


class StandInFile:
    """A file of a stand-in drive."""

    def __init__(self, inner: MediumFile, drive: StandIn, place: bytes) -> None:
        self._inner, self._drive, self._place, self._at = inner, drive, place, 0

    def __getattr__(self, name: str):  # type: ignore[no-untyped-def]
        return getattr(self._inner, name)

    def readinto(self, buffer: bytearray | memoryview, /) -> int:
        """Reads at the drive's speed."""
        count = self._inner.readinto(buffer)
        self._drive.on_read(count)
        return count

    def write(self, content: memoryview) -> None:
        """Writes at the drive's speed and with its faults."""
        self._inner.write(self._drive.on_write(self._place, self._at, content))
        self._at += len(content)

    def skip_to(self, offset: int) -> None:
        """Moves on."""
        self._inner.skip_to(offset)
        self._at = offset

    def set_attributes(self, attributes: dict[str, bytes]) -> None:
        """Sets extended attributes if the file system has them."""
        if not self._drive.rules.attributes:
            raise OSError(errno.EOPNOTSUPP, os.strerror(errno.EOPNOTSUPP))
        self._inner.set_attributes(attributes)

    def flush(self) -> None:
        """Flushes, while it is connected."""
        self._drive.check()
        self._inner.flush()

    def drop_cached(self) -> bool:
        """A stand-in has no memory of its own."""
        self._drive.check()
        self._inner.drop_cached()
        return True


class StandInMedium:
    """A folder on a stand-in drive: a real folder that follows the drive's rules."""

    def __init__(self, inner: PosixMedium, drive: StandIn) -> None:
        self._inner, self.drive = inner, drive
        self._folded: dict[bytes, set[bytes]] = {}
        self._lock = threading.Lock()
        drive.measure_again()

    def __getattr__(self, name: str):  # type: ignore[no-untyped-def]
        self.drive.check()
        return getattr(self._inner, name)

    @property
    def handle(self) -> int:
        """The folder's handle."""
        return self._inner.handle

    @property
    def shareable(self) -> bool:
        """Never: other ways of access would avoid the drive's faults."""
        return False

    def walk(self) -> Iterator[Folder]:
        """Everything below."""
        self.drive.check()
        return self._inner.walk()

    def _claim(self, place: bytes) -> None:
        self.drive.check()
        self.drive.step("create")
        self.drive.check_name(place)
        if not self.drive.rules.folds_case:
            return
        folder, fold = parent(place), self.drive.rules.fold
        with self._lock:
            if folder not in self._folded:
                self._folded[folder] = {fold(n) for n in self._inner.names(folder)}
            name = fold(place.rpartition(b"/")[2])
            if name in self._folded[folder]:
                raise OSError(errno.EEXIST, os.strerror(errno.EEXIST))
            self._folded[folder].add(name)

    def open(self, place: bytes) -> StandInFile:
        """Opens a regular file for reading."""
        self.drive.check()
        return StandInFile(self._inner.open(place), self.drive, place)

    def create(self, place: bytes, mode: int = 0o600) -> StandInFile:
        """Creates a file exclusively, by the drive's rules of names."""
        self._claim(place)
        try:
            return StandInFile(self._inner.create(place, mode), self.drive, place)
        except OSError:
            # It was not made: its name is looked up again.
            self._folded.pop(parent(place), None)
            raise

    def make_folder(self, place: bytes) -> None:
        """Creates a folder exclusively."""
        self._claim(place)
        self._inner.make_folder(place)

    def make_link(self, target: bytes, place: bytes) -> None:
        """Creates a symbolic link if the drive has them."""
        self._links()
        self._inner.make_link(target, place)

    def hard_link(self, existing: bytes, place: bytes) -> None:
        """Gives a file a second name if the drive can."""
        self._links()
        self._inner.hard_link(existing, place)

    def _links(self) -> None:
        self.drive.check()
        if not self.drive.rules.links:
            raise OSError(errno.EPERM, os.strerror(errno.EPERM))

    def rename_new(self, place: bytes, new: bytes) -> None:
        """Renames; refused as by user-space exFAT and NTFS drivers."""
        self.drive.check()
        self.drive.step("rename")
        if self.drive.rules.folds_case:
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))
        self._inner.rename_new(place, new)

    def move_into_claimed(self, place: bytes, new: bytes) -> None:
        """Moves one entry into a folder that this crossing made."""
        self.drive.check()
        self.drive.step("move")
        self._folded.clear()
        self._inner.move_into_claimed(place, new)

    def unlink(self, place: bytes, proven: Proven) -> None:
        """Removes one name."""
        self.drive.check()
        self.drive.step("unlink")
        try:
            self._inner.unlink(place, proven)
        finally:
            # Afterwards: another thread may have looked up the names meanwhile.
            with self._lock:
                self._folded.pop(parent(place), None)

    def remove_folder(self, place: bytes) -> None:
        """Removes an empty folder."""
        self.drive.check()
        self.drive.step("remove folder")
        self._folded.pop(parent(place), None)
        self._folded.pop(place, None)
        self._inner.remove_folder(place)

    def sync(self) -> None:
        """Flushes."""
        self.drive.check()
        self.drive.step("sync")
        self._inner.sync()

    def space(self) -> tuple[int, int]:
        """``(capacity, free)``, measured by looking at the files."""
        self.drive.check()
        return self.drive.description.capacity_bytes, self.drive.free()

    def close(self) -> None:
        """Closes the handle."""
        self._inner.close()


def as_medium(medium: StandInMedium) -> Medium:
    """The stand-in as the engine sees it."""
    return medium
