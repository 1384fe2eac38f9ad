"""Which drives there are, and which drive a folder is on."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from fascis.drives.answering import space_of
from fascis.drives.asking import ask
from fascis.drives.blocks import Block, probed, read_blocks
from fascis.drives.device import Device
from fascis.drives.model import Drive
from fascis.drives.mounts import NETWORK, Mount, mount_id_of, read_mounts
from fascis.drives.rules import rules_of
from fascis.drives.stand_in import DESCRIPTION, StandIn, StandInMedium, as_medium, read_description
from fascis.files.errors import Damaged, EnvironmentTrouble, told
from fascis.files.medium import Medium, PosixMedium

_HIDDEN = ("/proc", "/sys", "/dev", "/run", "/boot", "/snap", "/var/lib/docker")


class Drives:
    """The drives of this machine, and the stand-ins in ``stand_ins`` (a folder, or None for none).

    With ``real`` False only the stand-ins are listed, as the demo wants it. ``step`` is called before everything a stand-in drive does.
    """

    def __init__(
        self, stand_ins: Path | None = None, real: bool = True, step: Callable[[str], None] = lambda _: None
    ) -> None:
        self._folder, self._real, self._step = stand_ins, real, step
        self._stand_ins: dict[Path, StandIn] = {}
        self.damaged: list[Damaged] = []

    def stand_ins(self) -> list[StandIn]:
        """The stand-in drives, with what their descriptions say now."""
        self.damaged = []
        if self._folder is None or not self._folder.is_dir():
            return []
        for folder in sorted(p for p in self._folder.iterdir() if (p / DESCRIPTION).exists()):
            try:
                description = read_description(folder)
            except Damaged as error:
                self.damaged.append(error)
                self._stand_ins.pop(folder, None)
                continue
            known = self._stand_ins.get(folder)
            if known is None:
                self._stand_ins[folder] = StandIn(folder, description, self._step)
            else:
                faults = known.description.faults
                if description.connected and not known.description.connected:
                    known.connect_again()
                known.description = description.model_copy(update={"faults": faults})
        return [s for f, s in self._stand_ins.items() if f.is_dir()]

    def _stand_in_of(self, path: Path) -> StandIn | None:
        real = Path(os.path.realpath(path))
        for stand_in in self.stand_ins():
            root = Path(os.path.realpath(stand_in.folder))
            if real == root or root in real.parents:
                return stand_in
        return None

    def connected(self) -> list[Drive]:
        """All drives that are mounted now and hold a person's files, and the stand-ins (away ones too)."""
        stand_ins = [s.drive() for s in self.stand_ins()]
        if not self._real:
            return stand_ins
        blocks = read_blocks()
        found: dict[str, Drive] = {}
        for mount in read_mounts():
            if _is_drive(mount) and mount.where and not _hidden(mount):
                drive = _drive(mount, blocks)
                if drive and (drive.uuid not in found or len(str(drive.mount)) < len(str(found[drive.uuid].mount))):
                    found[drive.uuid] = drive
        return stand_ins + list(found.values())

    def at(self, path: Path) -> Drive:
        """The drive that an existing folder or file is on.

        Raises:
            EnvironmentTrouble: nothing is there, or it may not be opened.
        """
        if stand_in := self._stand_in_of(path):
            return stand_in.drive()
        try:
            fd = os.open(path, os.O_PATH | os.O_CLOEXEC)
        except OSError as error:
            raise told(error, "find", os.fsencode(path)) from error
        try:
            return self.of_handle(fd)
        finally:
            os.close(fd)

    def of_handle(self, fd: int) -> Drive:
        """The drive that an open folder of a mounted file system is on."""
        wanted = mount_id_of(fd)
        for mount in read_mounts():
            if mount.id == wanted and (drive := _drive(mount, read_blocks())):
                return drive
        raise told(OSError(19, "no such mount"), "find the drive of an open folder")

    def open(self, path: Path) -> Medium:
        """A medium on an existing folder: the stand-in's where it lies on one.

        Raises:
            EnvironmentTrouble: it is not there, not a folder, or may not be opened.
        """
        stand_in = self._stand_in_of(path)
        if stand_in and not stand_in.connected:
            raise told(OSError(19, "it is away"), "open the folder", os.fsencode(path))
        medium = PosixMedium.at(path)
        if stand_in:
            return as_medium(StandInMedium(medium, stand_in))
        try:
            medium.flushing(*_flushing(medium.handle))
        except BaseException:
            medium.close()
            raise
        return medium

    def asked(self, drive: Drive, folder: Path) -> Drive:
        """The drive with what it says itself of what it can hold, see :mod:`fascis.drives.asking`.

        Writes probe files into ``folder``, an existing folder of the drive, and removes them. Unchanged where it cannot be asked.
        """
        if drive.read_only or not drive.connected:
            return drive
        try:
            medium = self.open(folder)
        except EnvironmentTrouble:
            return drive
        with closing(medium):
            answers = ask(medium)
        return drive.with_answers(answers) if answers else drive

    def same_disk(self, one: Drive, other: Drive) -> bool:
        """True when both lie on one physical disk."""
        return bool(one.disk) and one.disk == other.disk


def _flushing(fd: int) -> tuple[Device | None, bool]:
    """What it takes to flush the file system of an open folder: its device too, or each file by itself."""
    wanted = mount_id_of(fd)
    mount = next((m for m in read_mounts() if m.id == wanted), None)
    if mount is None or not mount.may_hang:
        return None, False
    try:
        number = os.stat(mount.source).st_rdev
    except OSError:
        return None, True
    device = Device(f"{os.major(number)}:{os.minor(number)}") if number else None
    if device and device.may_open:
        return device, False
    return None, True


def _is_drive(mount: Mount) -> bool:
    return mount.source.startswith("/dev/") or mount.filesystem in NETWORK or mount.filesystem == "fuseblk"


def _hidden(mount: Mount) -> bool:
    if mount.where.startswith(("/run/media", "/boot/media")):
        return False
    return any(mount.where == h or mount.where.startswith(h + "/") for h in _HIDDEN)


def _block_of(mount: Mount, blocks: dict[str, Block]) -> Block | None:
    if mount.device in blocks and not mount.device.startswith("0:"):
        return blocks[mount.device]
    try:  # btrfs and FUSE have a device number of their own; their source is the block device
        number = os.stat(mount.source).st_rdev
    except OSError:
        return None
    return blocks.get(f"{os.major(number)}:{os.minor(number)}") if number else None


def _drive(mount: Mount, blocks: dict[str, Block]) -> Drive | None:
    user_space = mount.filesystem.startswith("fuse")
    space = space_of(mount.where, mount.may_hang)
    if space is None:
        return None
    block = _block_of(mount, blocks)
    block = probed(block) if block else None
    filesystem = (block.fstype if block else None) or mount.filesystem.removeprefix("fuse.")
    label = (block.label if block else None) or ("This machine" if mount.where == "/" else Path(mount.where).name)
    uuid = (block.uuid if block else None) or f"{mount.source}|{mount.filesystem}|{label}"
    return Drive(
        uuid=uuid,
        label=label,
        filesystem=filesystem,
        rules=rules_of(filesystem),
        mount=Path(mount.where),
        capacity=space.f_blocks * space.f_frsize,
        free=space.f_bavail * space.f_frsize,
        block=space.f_frsize,
        transport=(block.tran if block else None) or ("network" if mount.filesystem in NETWORK else ""),
        rotational=bool(block and block.rota),
        read_only=mount.read_only,
        removable=bool(block and (block.rm or block.tran == "usb" or block.type == "loop")),
        connected=True,
        device=block.device if block else "",
        disk=block.disk if block else "",
        user_space=user_space,
        compresses=any(o.startswith("compress") for o in mount.super_options | mount.options),
    )


def lsblk_missing() -> bool:
    """True when drives cannot be told apart because lsblk is not installed."""
    return shutil.which("lsblk") is None
