"""What file systems can hold: limits of size, names, links, permissions and times."""

from __future__ import annotations

import re
from dataclasses import dataclass

from fascis.files.names import folded

GIB = 1 << 30
_WINDOWS_NAMES = re.compile(r"(?i)^(con|prn|aux|nul|com[1-9]|lpt[1-9])(\..*)?$")
_RESERVED = frozenset('"*:<>?\\|') | {chr(c) for c in range(32)} | {"\x7f"}


@dataclass(frozen=True, slots=True)
class Rules:
    """The rules of one kind of file system.

    Attributes:
        name: as a person knows it.
        largest_file: in bytes, or None without a limit that matters.
        reserved: True when the characters ``"*:<>?\\|`` and control characters cannot be in names.
        utf16_names: names are limited to 255 UTF-16 units instead of 255 bytes, and must be valid Unicode.
        folds_case: names that differ only in case or normal form become one.
        links: symbolic and hard links are kept.
        modes: permissions are kept.
        attributes: ``user.*`` extended attributes are kept.
        holes: sparse files keep their holes.
        granularity_ns: of modification times.
        stable_inodes: an inode number identifies a file for as long as it exists.
    """

    name: str
    largest_file: int | None = None
    reserved: bool = False
    utf16_names: bool = False
    folds_case: bool = False
    links: bool = True
    modes: bool = True
    attributes: bool = True
    holes: bool = True
    granularity_ns: int = 1
    stable_inodes: bool = True

    def refuses_name(self, name: bytes) -> str | None:
        """Why one name cannot be held, or None when it can."""
        if not self.utf16_names:
            return "is longer than 255 bytes" if len(name) > 255 else None
        try:
            text = name.decode("utf-8")
        except UnicodeDecodeError:
            return "is not valid Unicode"
        if len(text.encode("utf-16-le")) > 510:
            return "is longer than 255 characters"
        if self.reserved:
            if bad := _RESERVED.intersection(text):
                return f"has the reserved character {sorted(bad)[0]!r}"
            if _WINDOWS_NAMES.match(text):
                return "is a reserved name"
            if text[-1] in ". ":
                return "ends in a dot or a space"
        return None

    def fold(self, name: bytes) -> bytes:
        """The form under which two names are one on such a drive."""
        return folded(name).encode("utf-8", "surrogateescape") if self.folds_case else name


_FAT = {"reserved": True, "utf16_names": True, "folds_case": True, "links": False, "modes": False, "attributes": False}
_TABLE: dict[str, Rules] = {
    "ext4": Rules("ext4", largest_file=16 * 1024 * GIB),
    "ext3": Rules("ext3", largest_file=2 * 1024 * GIB, granularity_ns=10**9),
    "ext2": Rules("ext2", largest_file=2 * 1024 * GIB, granularity_ns=10**9),
    "btrfs": Rules("btrfs"),
    "xfs": Rules("XFS"),
    "f2fs": Rules("F2FS"),
    "tmpfs": Rules("tmpfs"),
    "overlay": Rules("overlay"),
    "zfs": Rules("ZFS"),
    "exfat": Rules("exFAT", holes=False, granularity_ns=2 * 10**9, stable_inodes=False, **_FAT),
    "vfat": Rules(
        "FAT32", largest_file=4 * GIB - 1, holes=False, granularity_ns=2 * 10**9, stable_inodes=False, **_FAT
    ),
    "ntfs": Rules("NTFS", reserved=True, utf16_names=True, modes=False, granularity_ns=100, stable_inodes=False),
}
_ALIASES = {"ntfs3": "ntfs", "ntfs-3g": "ntfs", "fat32": "vfat", "msdos": "vfat", "fat": "vfat", "ext": "ext4"}
UNKNOWN = Rules(
    "unknown", links=False, modes=False, attributes=False, holes=False, stable_inodes=False, granularity_ns=2 * 10**9
)


def rules_of(filesystem: str) -> Rules:
    """The rules of a file system by the kernel's or blkid's name for it; cautious ones for an unknown one."""
    key = filesystem.lower()
    return _TABLE.get(_ALIASES.get(key, key), UNKNOWN)
