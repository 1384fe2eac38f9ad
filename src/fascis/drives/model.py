"""A drive.

A mounted file system, known by its UUID, not by where it is mounted or what it is called today.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from fascis.drives.rules import Answers, Rules

_SAY_HOW_THEY_TURN = frozenset(("usb", "sata", "sas", "ata", "ieee1394"))


@dataclass(frozen=True, slots=True)
class Drive:
    """A drive as it is now. Sizes in bytes.

    Attributes:
        uuid: of the file system; for one without, its source, type and label joined.
        label: as the person named it, else a name made from where it is.
        filesystem: the real one, also behind a user-space driver.
        rules: what that file system can hold.
        mount: where it is mounted now, or was last.
        device: ``major:minor`` of the block device, or "" without one.
        disk: the physical disk below it, as the kernel names it, or "".
        user_space: driven by a FUSE driver.
        stand_in: a folder that plays a drive.
        compresses: the file system stores less than it was given, so that counting what is read
            from the device proves nothing.
        answers_from_memory: a stand-in that plays a driver which answers from memory.
        answers: what it said itself when it was asked what it can hold; ``rules`` has them too.
        mounted: False for one that is plugged in and not mounted: it can be mounted on request.
        silent: it is mounted and does not answer; nothing of it is used until it does.
        hardware: what tells it from another drive with the same UUID, or "".
        twin_of: the UUID that it shares with another drive that is connected (a cloned disk), or
            "".
        link_mbit: speed of its connection in Mbit/s, or 0 where that is not known.
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
        """The drive, after it was asked itself what it can hold."""
        return replace(self, rules=self.rules.with_answers(answers), answers=answers)

    @property
    def renames_safely(self) -> bool | None:
        """True when it promises that a rename replaces nothing, False when it refuses to.

        None for a driver that is not known.
        """
        if self.stand_in:
            return not self.rules.folds_case
        if not self.user_space:
            return True
        # As seen with their user-space drivers.
        return False if self.filesystem in ("exfat", "ntfs") else None

    @property
    def has_uuid(self) -> bool:
        """False for a drive that is known by its source, type and label instead."""
        return "|" not in self.uuid

    @property
    def ambiguous(self) -> bool:
        """True for one of two drives with one UUID of which none is known from before.

        Which is which cannot be told.
        """
        return bool(self.twin_of) and self.uuid != self.twin_of

    @property
    def nearly_full(self) -> bool:
        """True when little is free: under a twentieth, or under 1 GB of a large drive."""
        return self.connected and self.free < max(
            self.capacity // 20, min(10**9, self.capacity // 10)
        )

    @property
    def takes_turns(self) -> bool:
        """True when reading while writing would send its head to and fro.

        Only drives that say so themselves are believed: the kernel calls every virtual disk
        rotating.
        """
        return self.rotational and self.transport in _SAY_HOW_THEY_TURN

    @property
    def full(self) -> float:
        """How full, 0 to 1."""
        return 1 - self.free / self.capacity if self.capacity else 0.0
