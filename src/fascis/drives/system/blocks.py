"""Block devices and their file systems, from ``lsblk --json`` (util-linux)."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from fascis.drives.system.mounts import mounts_now

# The number of device events since the machine started (kernel, sysfs).
_EVENTS = Path("/sys/kernel/uevent_seqnum")
_COLUMNS = "NAME,MAJ:MIN,FSTYPE,UUID,LABEL,SIZE,TRAN,ROTA,RO,RM,HOTPLUG,TYPE,SERIAL,PARTTYPE"
# EFI system partitions (UEFI, 5.3.3).
_NOT_FOR_PEOPLE = frozenset(("c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "0xef"))


class Block(BaseModel):
    """One block device; ``disk`` and ``tran`` belong to the physical disk below it."""

    model_config = ConfigDict(extra="ignore", defer_build=True)
    name: str
    device: str = Field(alias="maj:min")
    fstype: str | None = None
    uuid: str | None = None
    label: str | None = None
    tran: str | None = None
    rota: bool = False
    rm: bool = False
    hotplug: bool = False
    type: str = ""
    disk: str = ""
    size: int = 0
    serial: str | None = None
    parttype: str | None = None

    @property
    def removable(self) -> bool:
        """True for a removable device."""
        return self.rm or self.hotplug or self.tran == "usb" or self.type == "loop"

    @property
    def for_people(self) -> bool:
        """False for partitions that only the machine itself uses."""
        return (self.parttype or "").lower() not in _NOT_FOR_PEOPLE

    @property
    def hardware(self) -> str:
        """Distinguishes it from another device with the same content.

        The disk's serial number and the partition, otherwise the socket.
        """
        part = self.name.removeprefix(self.disk) if self.disk else ""
        return f"{self.serial}{part}" if self.serial else self.socket()

    def socket(self) -> str:
        """Its socket in the machine (sysfs), or the image behind a loop device.

        "" if not known.
        """
        here = f"/sys/dev/block/{self.device}"
        try:
            if self.type == "loop":
                return Path(here, "loop/backing_file").read_text().strip()
            # What this link leads to has no further links in its path.
            return os.path.normpath(f"/sys/dev/block/{os.readlink(here)}")
        except OSError:
            return ""


def _flat(nodes: list[Any], above: Block | None) -> Iterator[Block]:
    for node in nodes:
        try:
            block = Block.model_validate(node)
        except ValidationError:
            # A device with an unusual description: not a drive for us.
            continue
        block = block.model_copy(
            update={
                "device": block.device.strip(),
                "disk": above.disk if above else block.name,
                "tran": block.tran or (above.tran if above else None),
                "serial": block.serial or (above.serial if above else None),
                "hotplug": block.hotplug or bool(above and above.hotplug),
            }
        )
        yield block
        children = node.get("children")
        yield from _flat(children if isinstance(children, list) else [], block)


def parse_blocks(text: str) -> dict[str, Block]:
    """Devices by ``major:minor``, from lsblk's JSON."""
    try:
        said = json.loads(text)
    except (ValueError, RecursionError):
        return {}
    nodes = said.get("blockdevices") if isinstance(said, dict) else None
    return {b.device: b for b in _flat(nodes if isinstance(nodes, list) else [], None)}


def probed(block: Block, mounted: str = "") -> Block:
    """The block device, read for file system, UUID and label if udev does not know them.

    If it cannot be read (usually only root can), the block is returned unchanged.

    Args:
        mounted: how it is mounted, if it is: until this changes, or the medium in it, it holds the
            same file system. Otherwise it is read again when anything happened to any device.
    """
    if block.uuid:
        return block
    try:
        medium = _medium_of(block) if mounted else ""
        said = _probed_once(block.name, *((medium, mounted) if medium else _happened()))
    except (OSError, subprocess.SubprocessError):
        return block
    found = {
        "fstype": said.get("TYPE"),
        "uuid": said.get("UUID"),
        "label": said.get("LABEL") or block.label,
    }
    return block.model_copy(update=found) if found["uuid"] else block


def _medium_of(block: Block) -> str:
    """The kernel's number of the medium in a disk, or in the disk of a partition; "" if unknown."""
    for sequence in ("diskseq", "../diskseq"):
        with suppress(OSError):
            return Path(f"/sys/dev/block/{block.device}/{sequence}").read_text()
    return ""


@lru_cache(maxsize=64)
def _probed_once(name: str, *_state: str) -> dict[str, str]:
    """Blkid's output for a device while its state is the same. A failure is not kept."""
    blkid = shutil.which("blkid", path=os.environ.get("PATH", "") + ":/usr/sbin:/sbin")
    if blkid is None:
        return {}
    # No program is started for a device that may not be read.
    os.close(os.open(name, os.O_RDONLY | os.O_CLOEXEC))
    command = [blkid, "--probe", "--output", "export", name]
    done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=True)
    return dict(line.split("=", 1) for line in done.stdout.splitlines() if "=" in line)


def _happened() -> tuple[str, str]:
    """Changes after the kernel reported a device, and after something was mounted."""
    return _EVENTS.read_text(), mounts_now()


def read_blocks() -> dict[str, Block]:
    """Devices by ``major:minor``; empty if lsblk is missing or fails (a container).

    lsblk runs again when something has happened.
    """
    try:
        return _asked_once(*_happened())
    except (OSError, subprocess.SubprocessError, ValueError):
        return {}


@lru_cache(maxsize=1)
def _asked_once(events: str, mounted: str) -> dict[str, Block]:
    """Lsblk's output while nothing happened to any device. A failure is not kept."""
    command = ["lsblk", "--json", "--bytes", "--paths", "--output", _COLUMNS]
    done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=True)
    return parse_blocks(done.stdout)
