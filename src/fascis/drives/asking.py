"""Testing what a drive can store.

Small files in a folder of our own, which is removed again. Mount options and drivers change what a
file system accepts (vfat(5) charsets, case folding, what a server allows); therefore the drive is
tested before anything is copied. Never a drive that is full or read-only, and never in a dry run.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from contextlib import closing, suppress

from fascis.drives.leftovers import ASKS, own_folder
from fascis.drives.rules import LAST_CODE, RESERVED, TRAILING, Answers, Fold
from fascis.files.disk.medium import Medium, remove_own
from fascis.files.names import join

# Bytes; a drive with less is not tested.
LEAST_FREE = 4 << 20
_LEFT_FREE = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.ENODEV, errno.EROFS)
_STEPS_NS = (1, 100, 1000, 10**6, 10**7, 10**9, 2 * 10**9)
# A fish, a heron in Chinese, and n with a tilde: beyond these the character sets of mounts end.
_LETTERS = "\U0001f41f\u9dfa\u00f1"
# In ns: odd in every unit that is in use.
_TIME = 1_700_000_001_123_456_789


def ask(medium: Medium) -> Answers | None:
    """Tests the drive of an open folder.

    None if it cannot be written, has no room, or fails meanwhile. Everything made is removed again;
    if the program ends before, the next test there removes it.
    """
    try:
        if medium.space()[1] < LEAST_FREE:
            return None
        with own_folder(medium, ASKS) as folder:
            return _Probe(medium, folder).answers()
    except OSError:
        return None


class _Probe:
    """Test files in one folder."""

    def __init__(self, medium: Medium, folder: bytes) -> None:
        self._medium, self._folder = medium, folder

    def answers(self) -> Answers:
        """Tests everything."""
        reserved = frozenset(c for c in RESERVED if not self._takes(f"a{c}b".encode()))
        largest = next((ord(c) for c in _LETTERS if self._takes(c.encode())), 0x7F)
        largest = {ord(_LETTERS[0]): LAST_CODE, ord(_LETTERS[1]): 0xFFFF}.get(largest, largest)
        return Answers(
            folds=self._folds(largest),
            largest_code=largest,
            reserved=reserved,
            trailing="".join(c for c in TRAILING if not self._takes(b"a" + c.encode())),
            devices=not (self._takes(b"aux") and self._takes(b"con.txt")),
            unicode_only=not self._takes(b"a\xff\xfeb"),
            long_names=largest > 0xFF and self._takes("\u00e9".encode() * 255),
            links=self._links(),
            modes=self._modes(),
            attributes=self._attributes(),
            granularity_ns=self._granularity(),
        )

    def _make(self, name: bytes) -> bool:
        """Creates an empty file.

        False if the drive refuses the name, or treats an existing one as equal.

        Raises:
            OSError: what failed has nothing to do with the name.
        """
        try:
            self._medium.create(join(self._folder, name)).close()
        except OSError as error:
            if error.errno in _LEFT_FREE:
                raise
            return False
        return True

    def _takes(self, name: bytes) -> bool:
        """True if a name can be created and is then returned unchanged."""
        if not self._make(name):
            return False
        try:
            return name in self._medium.names(self._folder)
        finally:
            self._remove(name)

    def _folds(self, largest: int) -> Fold:
        """Which names are equal.

        Those that cannot both be created, or do not both exist afterwards.
        """
        if self._both(b"Case", b"cASE"):
            return Fold.NONE
        accents = largest < 0x301 or self._both(
            "\u00e9t\u00e9".encode(), "e\u0301te\u0301".encode()
        )
        return Fold.UPPER if accents else Fold.FULL

    def _both(self, one: bytes, other: bytes) -> bool:
        """True if two names can both be created, and both exist afterwards."""
        return (
            self._make(one)
            and self._make(other)
            and {one, other} <= set(self._medium.names(self._folder))
        )

    def _links(self) -> bool:
        return self._can(lambda to: self._medium.make_link(b"Case", to)) and self._can(
            lambda to: self._medium.hard_link(join(self._folder, b"Case"), to)
        )

    def _can(self, work: Callable[[bytes], None]) -> bool:
        try:
            work(join(self._folder, b"second"))
        except OSError as error:
            if error.errno in _LEFT_FREE:
                raise
            return False
        self._remove(b"second")
        return True

    def _modes(self) -> bool:
        with_modes = []
        for mode in (0o640, 0o700):
            file = self._medium.create(join(self._folder, b"mode"))
            try:
                # Refused, or unknown to the driver.
                with suppress(OSError):
                    os.fchmod(file.handle, mode)
                with_modes.append(file.status().st_mode & 0o777 == mode)
            finally:
                file.close()
                self._remove(b"mode")
        return all(with_modes)

    def _attributes(self) -> bool:
        file = self._medium.create(join(self._folder, b"attribute"))
        try:
            file.set_attributes({"user.fascis": b"1"})
            return file.attributes().get("user.fascis") == b"1"
        except OSError as error:
            if error.errno in _LEFT_FREE:
                raise
            return False
        finally:
            file.close()
            self._remove(b"attribute")

    def _granularity(self) -> int:
        file = self._medium.create(join(self._folder, b"time"))
        with closing(file), suppress(OSError):
            os.utime(file.handle, ns=(_TIME, _TIME))
        kept = self._medium.status(join(self._folder, b"time")).st_mtime_ns
        self._remove(b"time")
        return next((s for s in _STEPS_NS if kept == _TIME // s * s), _STEPS_NS[-1])

    def _remove(self, name: bytes) -> None:
        remove_own(self._medium, join(self._folder, name))
