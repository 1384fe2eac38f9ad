"""Free space before and after, measured; and why less became free than was deleted."""

from __future__ import annotations

import time

from msgspec import Struct, field

from fascis.drives.model import Drive
from fascis.files.disk.medium import Medium
from fascis.files.errors import told
from fascis.files.names import shown
from fascis.library.open_files import find_open
from fascis.words.figures import size
from fascis.words.speech import tr


class Deleted(Struct):
    """What was deleted.

    Files, their bytes and their room on the drive, and known reasons for room that is still in use.
    """

    files: int = 0
    bytes: int = 0
    allocated: int = 0
    linked_elsewhere: int = 0
    shared: int = 0
    inodes: set[tuple[int, int]] = field(default_factory=set)


def free_now(medium: Medium) -> int:
    """Free bytes after all pending writes are flushed.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    try:
        medium.sync()
        return medium.space()[1]
    except OSError as error:
        raise told(error, tr("measure the free space")) from error


PATIENCE = 8.0  # seconds


def settle_down(medium: Medium, before: int, expected: int, drive: Drive) -> int:
    """Free bytes when the drive has finished its work.

    Btrfs and others free room some seconds after a deletion.
    """
    free = free_now(medium)
    until = time.monotonic() + PATIENCE
    while (
        drive.filesystem in ("btrfs", "xfs", "zfs")
        and free - before < expected * 0.98
        and time.monotonic() < until
    ):
        time.sleep(0.25)
        free = free_now(medium)
    return free


def shortfall(deleted: Deleted, before: int, after: int, drive: Drive) -> list[str]:
    """Sentences that explain why less became free than was deleted; empty if not."""
    missing = deleted.allocated - (after - before)
    if missing < max(1 << 20, deleted.allocated // 50):
        return []
    reasons = []
    holders = [
        o
        for o in find_open(
            deleted.inodes, {device for device, _ in deleted.inodes}, skip_self=False
        ).files
        if o.deleted
    ]
    if holders:
        names = {
            tr("{program} (process {pid})", program=shown(o.program), pid=o.pid) for o in holders
        }
        programs = ", ".join(sorted(names))
        held = sum({(o.device, o.inode): o.size for o in holders}.values())
        reasons.append(
            tr(
                "{programs} still holds deleted files open ({size}); close it to free that space.",
                programs=programs,
                size=size(held),
            )
        )
    if deleted.linked_elsewhere:
        reasons.append(
            tr(
                "{size} have other names (hard links) outside the library and stay on the drive.",
                size=size(deleted.linked_elsewhere),
            )
        )
    if deleted.shared:
        reasons.append(
            tr(
                "{size} are shared with other files or snapshots on {label} and stay "
                "until those go.",
                size=size(deleted.shared),
                label=drive.label,
            )
        )
    if not reasons:
        reasons.append(
            tr(
                "{size} were not freed; other programs may have written to {label} meanwhile.",
                size=size(missing),
                label=drive.label,
            )
        )
    return reasons
