"""What file systems can store: limits of size, names, links, permissions and times, as data.

docs/drives.md explains the table row by row, with the source of each; a test compares both, and
others test the rules on real file systems. Names that a driver here would accept, but other
computers could not open, are refused too.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from enum import Enum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict, replace

from fascis.files.names import folded
from fascis.words.speech import tr

GIB = 1 << 30
TIB = 1 << 40
_DEVICES = re.compile(r"(?i)^(con|prn|aux|nul|com[1-9]|lpt[1-9])(\..*)?$")
RESERVED = frozenset('"*:<>?\\|') | {chr(c) for c in range(1, 32)}
TRAILING = ". "
LAST_CODE = 0x10FFFF  # Of Unicode.


class Fold(Enum):
    """Which names a file system treats as equal."""

    # Only names that are equal byte for byte.
    NONE = "none"
    # Names with the same upper-case form, character by character (UTF-16 units).
    UPPER = "upper case"  # for programs
    # Names that differ only in case or in the form of their accents.
    FULL = "case and form"  # for programs


class Answers(Struct, frozen=True):
    """The results of a drive's test, see :mod:`fascis.drives.asking`.

    Names as in :class:`Rules`.
    """

    folds: Fold
    reserved: frozenset[str]
    trailing: str
    devices: bool
    unicode_only: bool
    # A name of 255 letters of two bytes each.
    long_names: bool
    links: bool
    modes: bool
    attributes: bool
    granularity_ns: int
    largest_code: int = LAST_CODE

    def as_json(self) -> dict[str, Any]:
        """For the journal."""
        said = asdict(self)
        return {**said, "folds": self.folds.value, "reserved": "".join(sorted(self.reserved))}

    @classmethod
    def from_json(cls, said: dict[str, Any]) -> Answers:
        """The reverse."""
        return cls(
            **{**said, "folds": Fold(said["folds"]), "reserved": frozenset(said["reserved"])}
        )


class Rules(Struct, frozen=True):
    """The rules of one kind of file system.

    Attributes:
        name: its name for people.
        largest_file: in bytes, or None without a limit that matters.
        utf16_names: names are limited to 255 UTF-16 units instead of 255 bytes.
        unicode_only: names must be valid Unicode.
        largest_code: the last character that names can have, by the mount's character set.
        reserved: characters that names cannot contain.
        trailing: characters that names cannot end with.
        devices: names of devices (``con``, ``aux.txt``) cannot be used.
        folds: which names it treats as equal.
        links: symbolic and hard links are kept.
        modes: permissions are kept.
        attributes: ``user.*`` extended attributes are kept.
        attribute_bytes: about how many bytes of them one file can have, or None without a limit
            that matters.
        holes: sparse files keep their holes.
        granularity_ns: of modification times.
        earliest, latest: the first and the last modification time, in seconds since 1970.
        stable_inodes: an inode number identifies a file for as long as it exists.
        keeps_ctime: every change of a file changes its change time, which no program can set.
        certain: only the kernel's own code decides, no mount option and no other computer.
        asked: the drive itself was tested.
        source: where the rules are documented.
    """

    name: str
    largest_file: int | None = None
    utf16_names: bool = False
    unicode_only: bool = False
    largest_code: int = LAST_CODE
    reserved: frozenset[str] = frozenset()
    trailing: str = ""
    devices: bool = False
    folds: Fold = Fold.NONE
    links: bool = True
    modes: bool = True
    attributes: bool = True
    attribute_bytes: int | None = None
    holes: bool = True
    granularity_ns: int = 1
    earliest: int | None = None
    latest: int | None = None
    stable_inodes: bool = True
    keeps_ctime: bool = True
    certain: bool = False
    asked: bool = False
    source: str = ""

    @property
    def known(self) -> bool:
        """False for a file system that is not in the table.

        The most cautious rules are assumed.
        """
        return self.name != UNKNOWN_NAME

    @property
    def folds_case(self) -> bool:
        """True if names that differ only in case are equal."""
        return self.folds is not Fold.NONE

    def refuses_name(self, name: bytes) -> str | None:
        """Why one name cannot be stored, or None if it can."""
        if name.isascii():
            text = name.decode("ascii")
            if len(name) > 255:
                if self.utf16_names:
                    return tr("is longer than 255 characters")
                return tr("is longer than 255 bytes")
        else:
            if not self.utf16_names and len(name) > 255:
                return tr("is longer than 255 bytes")
            if not self.unicode_only:
                text = name.decode("utf-8", "surrogateescape")
            else:
                try:
                    text = name.decode("utf-8")
                except UnicodeDecodeError:
                    return tr("is not valid Unicode")
            if self.utf16_names and len(text.encode("utf-16-le", "surrogatepass")) > 510:
                return tr("is longer than 255 characters")
            if self.largest_code < LAST_CODE and (letter := self._beyond(text)):
                return tr(
                    "has the letter {letter}, which is not in its character set",
                    letter=f"{letter!r}",
                )
        if self.reserved and not self.reserved.isdisjoint(text):
            return tr(
                "has the reserved character {sorted}",
                sorted=f"{sorted(self.reserved.intersection(text))[0]!r}",
            )
        if self.devices and _DEVICES.match(text):
            return tr("is a reserved name")
        if text and self.trailing and text[-1] in self.trailing:
            return tr("ends in a dot or a space")
        return None

    def _beyond(self, text: str) -> str:
        """The first character outside its character set.

        Invalid bytes (surrogates) are handled elsewhere.
        """
        return next(
            (c for c in text if ord(c) > self.largest_code and not "\udc80" <= c <= "\udcff"), ""
        )

    def refused_names(self, names: Sequence[bytes]) -> list[tuple[int, str]]:
        """Which of many names cannot be stored, by position, and why; fast if there are none."""
        together = b"\n".join(names)
        if not self._suspicious(together) and together.count(b"\n") == max(0, len(names) - 1):
            return []
        return [(i, why) for i, name in enumerate(names) if (why := self.refuses_name(name))]

    def _suspicious(self, names: bytes) -> bool:
        """False if all of these names, one a line, can certainly be stored."""
        if self.largest_code < LAST_CODE and not names.isascii():
            return True
        if _LONG.search(names) or (
            self.unicode_only and not names.isascii() and not _is_unicode(names)
        ):
            return True
        return (
            bool(self.reserved or self.devices or self.trailing)
            and _DOUBTFUL.search(names) is not None
        )

    def fold(self, name: bytes) -> bytes:
        """The form in which equal names for such a drive are equal."""
        if self.folds is Fold.NONE:
            return name
        if name.isascii():
            return name.upper() if self.folds is Fold.UPPER else name.lower()
        if self.folds is Fold.FULL:
            return folded(name).encode("utf-8", "surrogateescape")
        text = name.decode("utf-8", "surrogateescape")
        return "".join(_upper(c) for c in text).encode("utf-8", "surrogateescape")

    def keeps_time(self, mtime_ns: int) -> bool:
        """True if a modification time lies in its range."""
        seconds = mtime_ns // 10**9
        return (self.earliest is None or seconds >= self.earliest) and (
            self.latest is None or seconds <= self.latest
        )

    def with_answers(self, answers: Answers) -> Rules:
        """These rules with the drive's test results.

        For a known file system only stricter results count, because another computer may read it;
        for an unknown one all count.
        """
        known = self.known
        return replace(
            self,
            utf16_names=answers.long_names and (self.utf16_names or not known),
            unicode_only=answers.unicode_only or (known and self.unicode_only),
            largest_code=min(answers.largest_code, self.largest_code),
            reserved=answers.reserved | (self.reserved if known else frozenset()),
            trailing="".join(sorted(set(answers.trailing) | set(self.trailing if known else ""))),
            devices=answers.devices or (known and self.devices),
            folds=max(answers.folds, self.folds, key=_FOLDS.index) if known else answers.folds,
            links=answers.links and (self.links or not known),
            modes=answers.modes and (self.modes or not known),
            attributes=answers.attributes and (self.attributes or not known),
            granularity_ns=max(answers.granularity_ns, self.granularity_ns if known else 1),
            asked=True,
        )


_FOLDS = [Fold.NONE, Fold.UPPER, Fold.FULL]
_LONG = re.compile(rb"[^\n]{256}")
_DOUBTFUL = re.compile(
    rb'["*:<>?\\|\x00-\x09\x0b-\x1f]|[. '
    rb"](?:\n|\Z)|(?:\A|\n)(?i:con|prn|aux|nul|com[1-9]|lpt[1-9])(?:\.|\n|\Z)"
)


def _is_unicode(names: bytes) -> bool:
    try:
        names.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _upper(c: str) -> str:
    """Upper case as in FAT, exFAT and NTFS.

    Each 16-bit unit becomes one, or stays (simple case mapping, Unicode 4.2).
    """
    if c > "\uffff":
        return c
    upper = c.upper()
    # A letter that becomes several in full upper case may have a single one for titles, which is
    # used.
    if len(upper) > 1:
        upper = c.title()
    return upper if len(upper) == 1 else c


UNKNOWN_NAME = "unknown"
_1980, _2107, _2108 = 315532800, 4354819198, 4354819199
_DOS = Rules(
    "",
    utf16_names=True,
    unicode_only=True,
    reserved=RESERVED,
    trailing=TRAILING,
    devices=True,
    folds=Fold.UPPER,
    links=False,
    modes=False,
    attributes=False,
    holes=False,
    stable_inodes=False,
    keeps_ctime=False,
)
_TABLE: dict[str, Rules] = {
    "ext4": Rules(
        "ext4",
        16 * TIB - 4096,
        earliest=-(1 << 31),
        latest=(1 << 34) - (1 << 31) - 1,
        certain=True,
        attribute_bytes=4000,
        source=tr("kernel, Documentation/filesystems/ext4 (inodes of 256 bytes, blocks of 4 KiB)"),
    ),
    "ext3": Rules(
        "ext3",
        2 * TIB - 4096,
        granularity_ns=10**9,
        earliest=-(1 << 31),
        latest=(1 << 31) - 1,
        certain=True,
        attribute_bytes=4000,
        source=tr("kernel, Documentation/filesystems/ext3"),
    ),
    "ext2": Rules(
        "ext2",
        2 * TIB - 4096,
        granularity_ns=10**9,
        earliest=-(1 << 31),
        latest=(1 << 31) - 1,
        certain=True,
        attribute_bytes=4000,
        source=tr("kernel, Documentation/filesystems/ext2"),
    ),
    "btrfs": Rules(
        "btrfs", source=tr("btrfs(5); btrfs documentation, on-disk format"), certain=True
    ),
    "xfs": Rules("XFS", source=tr("XFS Algorithms & Data Structures; xfs(5)"), certain=True),
    "f2fs": Rules(
        "F2FS",
        largest_file=3 * TIB,
        source=tr("kernel, Documentation/filesystems/f2fs"),
        certain=True,
    ),
    "zfs": Rules("ZFS", source="zfsprops(7)"),
    "tmpfs": Rules("tmpfs", source="tmpfs(5)", certain=True),
    "overlay": Rules("overlay", source=tr("kernel, Documentation/filesystems/overlayfs")),
    "exfat": replace(
        _DOS,
        name="exFAT",
        largest_file=128 << 50,
        granularity_ns=2 * 10**9,
        earliest=_1980,
        latest=_2108,
        source="exFAT file system specification, sections 6.3, 7.4, 7.7",
    ),
    "vfat": replace(
        _DOS,
        name="FAT32",
        largest_file=4 * GIB - 1,
        granularity_ns=2 * 10**9,
        earliest=_1980,
        latest=_2107,
        source="FAT file system specification (ECMA-107 and its successors); kernel, "
        "Documentation/filesystems/vfat",
    ),
    "ntfs": replace(
        _DOS,
        name="NTFS",
        largest_file=16 * TIB - (64 << 10),
        links=True,
        attributes=True,
        holes=True,
        granularity_ns=100,
        keeps_ctime=True,
        earliest=-11644473600,
        source="NTFS documentation of its maker: limits, naming files, file times",
    ),
    "nfs": Rules("NFS", attributes=False, source=tr("RFC 8881; the server decides")),
    "cifs": replace(
        _DOS,
        name="SMB",
        granularity_ns=100,
        source="MS-FSCC, sections 2.1.5 and 2.1.6; the server decides",
    ),
}
_ALIASES = {
    "ntfs3": "ntfs",
    "ntfs-3g": "ntfs",
    "fat32": "vfat",
    "msdos": "vfat",
    "fat": "vfat",
    "ext": "ext4",
    "nfs4": "nfs",
    "smb3": "cifs",
}
UNKNOWN = Rules(
    UNKNOWN_NAME,
    unicode_only=True,
    reserved=RESERVED,
    trailing=TRAILING,
    devices=True,
    folds=Fold.FULL,
    links=False,
    modes=False,
    attributes=False,
    holes=False,
    stable_inodes=False,
    keeps_ctime=False,
    granularity_ns=2 * 10**9,
    source=tr("the strictest of all others, until the drive is tested"),
)


def rules_of(filesystem: str, block: int = 4096) -> Rules:
    """The rules of a file system by the kernel's or blkid's name for it.

    Cautious ones for an unknown one.

    Args:
        block: its block size in bytes, on which the largest file depends for ext2, ext3 and ext4.
    """
    key = filesystem.lower()
    rules = _TABLE.get(_ALIASES.get(key, key), UNKNOWN)
    if rules.name == "ext4":
        return replace(rules, largest_file=((1 << 32) - 1) * block)
    if rules.name in ("ext2", "ext3"):
        return replace(rules, largest_file=_mapped_limit(block))
    return rules


def _mapped_limit(block: int) -> int:
    """The largest file of ext2 and ext3, in bytes.

    By their block maps, and 2³² sectors without the maps themselves.
    """
    a_block = block // 4  # Block numbers in a block.
    maps = 1 + (1 + a_block) + (1 + a_block + a_block**2)
    return (
        min(12 + a_block + a_block**2 + a_block**3, ((1 << 32) - 1) * 512 // block - maps) * block
    )


def all_rules() -> list[Rules]:
    """Every row of the table, and the rules for all others."""
    return [*_TABLE.values(), UNKNOWN]
