"""What the kernel reports about a drive that a person should know.

Faults of its file system, and the speed of its connection. Sources: /sys/fs/ext4 (kernel,
Documentation/ABI/testing/sysfs-fs-ext4), /sys/fs/btrfs (sysfs-fs-btrfs), USB devices in sysfs
(sysfs-bus-usb: ``speed`` in Mbit/s). Only what the kernel counts is known.
"""

from __future__ import annotations

from pathlib import Path

SYS = Path("/sys")


def errors_of(filesystem: str, device: str, uuid: str, sys: Path = SYS) -> int:
    """The number of faults of a file system counted by the kernel.

    0 if there are none, or none are counted.

    Args:
        device: ``major:minor`` of its block device.
    """
    if filesystem in ("ext2", "ext3", "ext4") and device:
        name = _name(device, sys)
        return _number(sys / "fs/ext4" / name / "errors_count") if name else 0
    if filesystem == "btrfs" and uuid:
        return sum(
            _counted(p) for p in sorted((sys / "fs/btrfs" / uuid / "devinfo").glob("*/error_stats"))
        )
    return 0


def link_mbit(device: str, sys: Path = SYS) -> int:
    """Speed in Mbit/s of a block device's USB connection.

    0 for another connection, or if not known.
    """
    try:
        here = (sys / "dev/block" / device).resolve(strict=True)
    except OSError:
        return 0
    for above in here.parents:
        if (above / "busnum").exists():
            return _number(above / "speed")
    return 0


def _name(device: str, sys: Path) -> str:
    try:
        return (sys / "dev/block" / device).readlink().name
    except OSError:
        return ""


def _number(path: Path) -> int:
    try:
        return int(float(path.read_text().split()[0]))
    except (OSError, ValueError, IndexError):
        return 0


def _counted(path: Path) -> int:
    """The sum of ``write_errs 0`` and similar lines."""
    try:
        return sum(
            int(line.split()[1]) for line in path.read_text().splitlines() if len(line.split()) == 2
        )
    except (OSError, ValueError):
        return 0
