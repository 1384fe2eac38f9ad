"""A drive.

A mounted file system, identified by its UUID, not by its mount point or its present label.
"""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from fascis.drives.rules import Answers, Rules

_SAY_HOW_THEY_TURN = frozenset(("usb", "sata", "sas", "ata", "ieee1394"))


class Drive(Struct, frozen=True):
    """A drive as it is now. Sizes in bytes.

    Attributes:
        uuid: of the file system; without one, its source, type and label joined.
        label: as the person named it, otherwise a name made from its location.
        filesystem: the real one, also behind a user-space driver.
        rules: what that file system can store.
        mount: where it is mounted now, or was last.
        device: ``major:minor`` of the block device, or "" without one.
        disk: the physical disk below it, as the kernel names it, or "".
        user_space: driven by a FUSE driver.
        stand_in: a folder that simulates a drive.
        compresses: the file system stores less than it was given, so counting bytes read from the
            device proves nothing.
        answers_from_memory: a stand-in for a driver that answers from memory.
        answers: its test results; ``rules`` includes them.
        mounted: False for one that is connected and not mounted: it can be mounted on request.
        silent: it is mounted and does not answer; it is not used until it does.
        hardware: distinguishes it from another drive with the same UUID, or "".
        twin_of: the UUID that it shares with another connected drive (a cloned disk), or "".
        link_mbit: speed of its connection in Mbit/s, or 0 if not known.
        errors: faults of its file system that the kernel has counted.
        system: it holds the system of this machine.
    """

    uuid: str
    label: str
    filesystem: str
    rules: Rules
    mount: Path
    capacity: int
    free: int
    block: int
    transport: str
    rotational: bool
    read_only: bool
    removable: bool
    connected: bool
    device: str = ""
    disk: str = ""
    user_space: bool = False
    stand_in: bool = False
    write_mb_s: float = 0.0
    read_mb_s: float = 0.0
    compresses: bool = False
    answers_from_memory: bool = False
    answers: Answers | None = None
    mounted: bool = True
    silent: bool = False
    hardware: str = ""
    twin_of: str = ""
    link_mbit: int = 0
    errors: int = 0
    system: bool = False

    def with_answers(self, answers: Answers) -> Drive:
        """The drive with its test results."""
        return replace(self, rules=self.rules.with_answers(answers), answers=answers)

    @property
    def renames_safely(self) -> bool | None:
        """True if it guarantees that a rename replaces nothing, False if it refuses to.

        None for an unknown driver.
        """
        if self.stand_in:
            return not self.rules.folds_case
        if not self.user_space:
            return True
        # As seen with their user-space drivers.
        return False if self.filesystem in ("exfat", "ntfs") else None

    @property
    def has_uuid(self) -> bool:
        """False for a drive identified by its source, type and label instead."""
        return "|" not in self.uuid

    @property
    def ambiguous(self) -> bool:
        """True for one of two drives with one UUID if neither is known.

        They cannot be distinguished.
        """
        return bool(self.twin_of) and self.uuid != self.twin_of

    @property
    def nearly_full(self) -> bool:
        """True if little is free: under a twentieth, or under 1 GB of a large drive."""
        return self.connected and self.free < max(
            self.capacity // 20, min(10**9, self.capacity // 10)
        )

    @property
    def takes_turns(self) -> bool:
        """True if reading while writing would move its head back and forth.

        Only if the drive itself reports it: the kernel calls every virtual disk rotating.
        """
        return self.rotational and self.transport in _SAY_HOW_THEY_TURN

    @property
    def full(self) -> float:
        """Its used share, 0 to 1."""
        return 1 - self.free / self.capacity if self.capacity else 0.0
