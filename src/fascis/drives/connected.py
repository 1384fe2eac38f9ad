"""The connected drives, and the drive of a folder."""

from __future__ import annotations

import os
import shutil
from collections import Counter
from collections.abc import Callable, Collection, Mapping
from contextlib import closing
from pathlib import Path

from msgspec.structs import replace

from fascis.drives.asking import ask
from fascis.drives.model import Drive
from fascis.drives.rules import Answers, rules_of
from fascis.drives.stand_in import StandIn, StandInMedium, as_medium, read_description
from fascis.drives.system.answering import space_of
from fascis.drives.system.blocks import Block, probed, read_blocks
from fascis.drives.system.device import Device
from fascis.drives.system.health import errors_of, link_mbit
from fascis.drives.system.mounts import NETWORK, Mount, may_hang, mount_id_of, read_mounts
from fascis.files.disk.medium import Medium, PosixMedium
from fascis.files.errors import Damaged, DriveGone, EnvironmentTrouble, told
from fascis.files.names import shown
from fascis.words.speech import tr

_SYSTEM_MOUNTS = frozenset(("/", "/usr", "/var", "/boot", "/home"))
# Where systems keep their own files in memory.
_TEMPORARY = ("/tmp", "/dev", "/run", "/sys", "/var")
_PSEUDO = frozenset(
    (
        "proc",
        "sysfs",
        "devtmpfs",
        "devpts",
        "cgroup",
        "cgroup2",
        "mqueue",
        "hugetlbfs",
        "debugfs",
        "tracefs",
        "securityfs",
        "pstore",
        "bpf",
        "autofs",
        "configfs",
        "fusectl",
        "binfmt_misc",
        "nsfs",
        "rpc_pipefs",
        "efivarfs",
        "selinuxfs",
        "ramfs",
        "fuse.lxcfs",
        "fuse.gvfsd-fuse",
        "fuse.portal",
        "fuse.snapfuse",
        "nfsd",
        "overlay",
        "squashfs",
    )
)
_HIDDEN = ("/proc", "/sys", "/dev", "/run", "/boot", "/snap", "/var/lib/docker")


class Drives:
    """The drives of this machine, and the stand-ins in ``stand_ins`` (a folder, or None).

    If ``real`` is False, only the stand-ins are listed, for the demo. ``step`` is called before
    everything a stand-in drive does.

    Attributes:
        known_hardware: returns UUID → hardware of known drives; called only if two drives share a
            UUID.
        known_mounts: returns where known drives were mounted; called only if a temporary folder
            is in memory, and listed if a library was surveyed there.
    """

    def __init__(
        self,
        stand_ins: Path | None = None,
        real: bool = True,
        step: Callable[[str], None] = lambda _: None,
    ) -> None:
        self._folder, self._real, self._step = stand_ins, real, step
        self.known_hardware: Callable[[], Mapping[str, str]] = dict
        self.known_mounts: Callable[[], Collection[str]] = frozenset
        self._asked: dict[tuple[object, ...], Answers] = {}
        self._stand_ins: dict[str, StandIn] = {}
        self._above = ""
        self.damaged: list[Damaged] = []

    @property
    def stand_in_folder(self) -> Path | None:
        """The folder of the stand-in drives, if there are any."""
        return self._folder if self._folder is not None and self._folder.is_dir() else None

    def stand_ins(self) -> list[StandIn]:
        """The stand-in drives, by their present descriptions."""
        self.damaged = []
        if self._folder is None or not self._folder.is_dir():
            return []
        for name in sorted(os.listdir(self._folder)):
            try:
                description = read_description(f"{self._folder}/{name}")
            except Damaged as error:
                self.damaged.append(error)
                self._stand_ins.pop(name, None)
                continue
            if description is None:
                continue
            known = self._stand_ins.get(name)
            if known is None:
                self._stand_ins[name] = StandIn(self._folder / name, description, self._step)
            else:
                known.describe(description)
        return [s for s in self._stand_ins.values() if s.folder.is_dir()]

    def _stand_in_of(self, path: Path) -> StandIn | None:
        if self._folder is None:
            return None
        stand_ins = self.stand_ins()
        if not stand_ins:
            return None
        # The folder of all of them stays where it is, unlike theirs.
        self._above = self._above or os.path.realpath(self._folder)
        real = os.path.realpath(path) + "/"
        for stand_in in stand_ins:
            folder = f"{self._above}/{stand_in.folder.name}"
            if stand_in.folder.is_symlink():
                folder = os.path.realpath(folder)
            if real.startswith(folder + "/"):
                return stand_in
        return None

    def connected(self, measured: bool = True) -> list[Drive]:
        """All connected drives with a person's files, and all stand-ins.

        Drives that are not mounted, or do not answer, have ``connected`` False. Two with one UUID
        are distinguished.

        Args:
            measured: False for whoever does not ask what is free: to know this of a stand-in, all
                its files are looked at.
        """
        simulated = [self._remembered(s.drive(measured)) for s in self.stand_ins()]
        stand_ins = self._told_apart(simulated)
        if not self._real:
            return stand_ins
        blocks = read_blocks()
        found: dict[tuple[str, str], Drive] = {}
        for mount in read_mounts():
            if self._is_listed(mount):
                drive = self._remembered(_drive(mount, blocks))
                at = drive.uuid, drive.device
                if not (drive.connected or drive.silent):
                    # Not a folder: a single file can be mounted over another.
                    continue
                if at not in found or len(str(drive.mount)) < len(str(found[at].mount)):
                    found[at] = drive
        mounted = list(found.values())
        return stand_ins + self._told_apart(mounted + _not_mounted(blocks, mounted))

    def _is_listed(self, mount: Mount) -> bool:
        if not mount.where or _hidden(mount) or not _is_drive(mount):
            return False
        return not _is_temporary(mount) or mount.where in self.known_mounts()

    def unlisted(self) -> list[str]:
        """Where something is mounted that :meth:`connected` does not list, and cannot hang."""
        return [
            m.where
            for m in read_mounts()
            if not m.may_hang and not (self._real and self._is_listed(m))
        ]

    def mounts(self) -> dict[str, str]:
        """UUID → where it is mounted, of every drive that is connected and has one."""
        connected = self.connected(measured=False)
        return {d.uuid: str(d.mount) for d in connected if d.connected and d.uuid}

    def _told_apart(self, drives: list[Drive]) -> list[Drive]:
        """Gives each of several drives that share a UUID its own.

        The known one keeps it, the others get a longer one.
        """
        there = [d for d in drives if d.has_uuid and (d.connected or not d.stand_in)]
        plugged = Counter(uuid for uuid, _ in {(d.uuid, d.hardware or d.device) for d in there})
        drives = [d for d in drives if d.connected or not d.stand_in or not plugged[d.uuid]]
        known = self.known_hardware() if any(n > 1 for n in plugged.values()) else {}
        return [_apart(d, known.get(d.uuid, "")) if plugged[d.uuid] > 1 else d for d in drives]

    def _remembered(self, drive: Drive) -> Drive:
        """With its test results, as long as it stays mounted in the same way."""
        answers = self._asked.get(_mounting(drive))
        return drive.with_answers(answers) if answers else drive

    def at(self, path: Path, measured: bool = True) -> Drive:
        """The drive of an existing folder or file.

        Args:
            measured: as for :meth:`connected`.

        Raises:
            EnvironmentTrouble: nothing is there, it does not answer, or it may not be opened.
        """
        self.check_answers(path)
        if stand_in := self._stand_in_of(path):
            drive = self._remembered(stand_in.drive(measured))
            same = (
                s.folder
                for s in self._stand_ins.values()
                if s.connected and s.description.uuid == drive.uuid
            )
            twins = sum(f.is_dir() for f in same) > 1
            return _apart(drive, self.known_hardware().get(drive.uuid, "")) if twins else drive
        try:
            fd = os.open(path, os.O_PATH | os.O_CLOEXEC)
        except OSError as error:
            raise told(error, tr("find"), os.fsencode(path)) from error
        try:
            return self.of_handle(fd)
        finally:
            os.close(fd)

    def uuid_at(self, path: Path) -> str:
        """The UUID of the drive of an existing folder or file; raises like :meth:`at`."""
        return self.at(path, measured=False).uuid

    def of_handle(self, fd: int) -> Drive:
        """The drive of an open folder on a mounted file system."""
        wanted = mount_id_of(fd)
        for mount in read_mounts():
            if mount.id == wanted:
                blocks = read_blocks()
                drive = self._remembered(_drive(mount, blocks))
                if not drive.connected:
                    break
                same = {
                    b.hardware or b.device
                    for b in blocks.values()
                    if (b.uuid, b.fstype) == (drive.uuid, drive.filesystem)
                }
                twins = drive.has_uuid and len(same) > 1 and not _one_of_several(drive)
                return _apart(drive, self.known_hardware().get(drive.uuid, "")) if twins else drive
        raise told(OSError(19, tr("it is not mounted")), tr("find the drive of an open folder"))

    def check_answers(self, path: Path) -> None:
        """Makes sure that accessing a path will not block for ever.

        Raises:
            DriveGone: it lies on a drive that does not answer.
        """
        here = f"{path}/"
        for mount in may_hang():
            if not here.startswith(mount.where.rstrip("/") + "/"):
                continue
            try:
                space_of(mount.where, True)
            except TimeoutError as error:
                raise DriveGone(
                    tr(
                        "The drive at {where} does not answer. Nothing on it was touched.",
                        where=shown(mount.where),
                    )
                ) from error

    def open(self, path: Path) -> Medium:
        """A medium on an existing folder: that of a stand-in if the folder lies on one.

        Raises:
            EnvironmentTrouble: it is not there, not a folder, does not answer, or may not be
                opened.
        """
        self.check_answers(path)
        stand_in = self._stand_in_of(path)
        if stand_in and not stand_in.connected:
            raise told(OSError(19, tr("it is away")), tr("open the folder"), os.fsencode(path))
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
        """The drive with its test results, see :mod:`fascis.drives.asking`.

        Writes small files into ``folder``, an existing folder of the drive, and removes them.
        Unchanged if it cannot be tested.
        """
        if drive.read_only or not drive.connected:
            return drive
        try:
            medium = self.open(folder)
        except EnvironmentTrouble:
            return drive
        with closing(medium):
            answers = ask(medium)
        if answers is None:
            return drive
        self._asked[_mounting(drive)] = answers
        return drive.with_answers(answers)

    def same_disk(self, one: Drive, other: Drive) -> bool:
        """True if both are on one physical disk."""
        return bool(one.disk) and one.disk == other.disk


def _flushing(fd: int) -> tuple[Device | None, bool]:
    """What is needed to flush the file system of an open folder.

    Its device too, or each file by itself.
    """
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
    """True for a possible destination: everything except the system's own mounts."""
    if mount.source.startswith("/dev/") or mount.filesystem in NETWORK or mount.where == "/":
        return True
    if mount.filesystem == "tmpfs":
        return not mount.read_only
    return mount.filesystem not in _PSEUDO


def _is_temporary(mount: Mount) -> bool:
    """True for a folder in memory where systems and programs keep files for a while."""
    return mount.filesystem == "tmpfs" and mount.where.startswith(_TEMPORARY)


def _hidden(mount: Mount) -> bool:
    if mount.where.startswith(("/run/media", "/boot/media")):
        return False
    return any(mount.where == h or mount.where.startswith(h + "/") for h in _HIDDEN)


def _block_of(mount: Mount, blocks: dict[str, Block]) -> Block | None:
    if mount.device in blocks and not mount.device.startswith("0:"):
        return blocks[mount.device]
    try:  # btrfs and FUSE have their own device numbers; their source is the block device.
        number = os.stat(mount.source).st_rdev
    except OSError:
        return None
    return blocks.get(f"{os.major(number)}:{os.minor(number)}") if number else None


def _drive(mount: Mount, blocks: dict[str, Block]) -> Drive:
    space, silent = None, False
    try:
        space = space_of(mount.where, mount.may_hang)
    except TimeoutError:
        silent = True
    block = _block_of(mount, blocks)
    if block:
        block = blocks[block.device] = probed(block, f"{mount} {space and space.f_fsid}")
    filesystem = (block.fstype if block else None) or mount.filesystem.removeprefix("fuse.")
    root, called = mount.where == "/", Path(mount.where).name
    label = (block.label if block else None) or (tr("This machine") if root else called)
    # Its identity is the same in every language.
    known = (block.label if block else None) or ("This machine" if root else called)  # for programs
    uuid = (block.uuid if block else None) or f"{mount.source}|{mount.filesystem}|{known}"
    capacity = block.size if block else 0
    if space:
        capacity = space.f_blocks * space.f_frsize
    return Drive(
        uuid=uuid,
        label=label,
        filesystem=filesystem,
        rules=rules_of(filesystem, space.f_frsize if space else 4096),
        mount=Path(mount.where),
        capacity=capacity,
        free=space.f_bavail * space.f_frsize if space else 0,
        block=space.f_frsize if space else 4096,
        transport=(block.tran if block else None)
        or ("network" if mount.filesystem in NETWORK else ""),
        rotational=bool(block and block.rota),
        read_only=mount.read_only,
        removable=bool(block and block.removable),
        connected=space is not None,
        device=block.device if block else "",
        disk=block.disk if block else "",
        user_space=mount.filesystem.startswith("fuse"),
        compresses=any(o.startswith("compress") for o in mount.super_options | mount.options),
        silent=silent,
        hardware=block.hardware if block else "",
        link_mbit=link_mbit(block.device) if block and block.tran == "usb" else 0,
        errors=errors_of(filesystem, block.device if block else "", uuid),
        system=mount.where in _SYSTEM_MOUNTS,
    )


def _not_mounted(blocks: dict[str, Block], mounted: list[Drive]) -> list[Drive]:
    """Connected drives with a known file system that are not mounted.

    Only removable ones.
    """
    devices = {d.device for d in mounted}
    spread = {d.uuid for d in mounted if d.filesystem == "btrfs" and _one_of_several(d)}
    return [
        Drive(
            uuid=b.uuid,
            label=b.label or b.name.rpartition("/")[2],
            filesystem=b.fstype,
            rules=rules_of(b.fstype),
            mount=Path("/nowhere"),
            capacity=b.size,
            free=0,
            block=4096,
            transport=b.tran or "",
            rotational=b.rota,
            read_only=False,
            removable=True,
            connected=False,
            device=b.device,
            disk=b.disk,
            mounted=False,
            hardware=b.hardware,
            link_mbit=link_mbit(b.device) if b.tran == "usb" else 0,
        )
        for b in blocks.values()
        if b.uuid
        and b.fstype
        and b.device not in devices
        and b.uuid not in spread
        and b.removable
        and b.for_people
        and rules_of(b.fstype).known
    ]


def _one_of_several(drive: Drive) -> bool:
    """True for a file system over several devices (btrfs): they share a UUID and are not clones."""
    try:
        return (
            drive.filesystem == "btrfs"
            and len(os.listdir(f"/sys/fs/btrfs/{drive.uuid}/devices")) > 1
        )
    except OSError:
        return False


def _apart(drive: Drive, known: str) -> Drive:
    """One of several drives with one UUID.

    ``known`` is the hardware that had it before, or empty.
    """
    if known and drive.hardware == known:
        return replace(drive, twin_of=drive.uuid)
    return replace(drive, uuid=f"{drive.uuid}#{drive.hardware or drive.mount}", twin_of=drive.uuid)


def _mounting(drive: Drive) -> tuple[object, ...]:
    """What changes when a drive is mounted again, or in another way."""
    return drive.uuid, drive.mount, drive.device, drive.read_only, drive.user_space


def lsblk_missing() -> bool:
    """True if drives cannot be distinguished because lsblk is not installed."""
    return shutil.which("lsblk") is None
