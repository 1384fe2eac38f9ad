"""Comparing two folders of one library, a copy and its original or two copies.

They are distinguished by their present differences.
"""

from __future__ import annotations

import stat
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from fascis.drives.connected import Drives
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import Cancelled
from fascis.files.names import join
from fascis.files.times import mtime_of
from fascis.library.own import OWN
from fascis.words.speech import tr, trn


class Apartness(Struct, frozen=True):
    """How two folders of one library differ.

    Files that only one has, and files in both with different size or time.

    Attributes:
        newer_here: how many of the differing files are newer in the first.
        last_here, last_there: the last change of a file in each, in ns.
    """

    only_here: int
    only_there: int
    other: int
    newer_here: int
    last_here: int
    last_there: int

    @property
    def alike(self) -> bool:
        """True if both have the same files with the same size and time."""
        return not (self.only_here or self.only_there or self.other)

    def words(self, here: str, there: str) -> str:
        """In words; ``here`` and ``there`` are the names of the two."""
        if self.alike:
            return tr("the same files, sizes and dates")
        parts = []
        if self.only_here:
            parts.append(
                trn(
                    "{n} file only on {here}", "{n} files only on {here}", self.only_here, here=here
                )
            )
        if self.only_there:
            parts.append(
                trn(
                    "{n} file only on {there}",
                    "{n} files only on {there}",
                    self.only_there,
                    there=there,
                )
            )
        if self.other:
            older = self.other - self.newer_here
            newer = [
                tr("{n_} newer on {label}", n_=n, label=label)
                for n, label in ((self.newer_here, here), (older, there))
                if n
            ]
            parts.append(
                trn(
                    "{n} file in another state ({join})",
                    "{n} files in another state ({join})",
                    self.other,
                    join=", ".join(newer),
                )
            )
        return ", ".join(parts)


def tell_apart(
    drives: Drives, here: Path, there: Path, step_ns: int, control: Control = UNSTOPPED
) -> Apartness:
    """Compares two folders of one library by names, sizes and times.

    Fascis's own records are left out.

    Args:
        step_ns: the precision for comparing times, the coarser of the two drives.

    Raises:
        EnvironmentTrouble: one cannot be opened.
        Cancelled: on request.
    """
    with closing(drives.open(here)) as one, closing(drives.open(there)) as other:
        mine = dict(_files(one, control))
        only_there = changed = newer = last_there = 0
        last_here = max((t for _, t in mine.values()), default=0)
        for place, (size, time) in _files(other, control):
            last_there = max(last_there, time)
            known = mine.pop(place, None)
            if known is None:
                only_there += 1
            elif known[0] != size or abs(known[1] - time) > step_ns:
                changed += 1
                newer += known[1] > time
    return Apartness(len(mine), only_there, changed, newer, last_here, last_there)


def _files(medium: Medium, control: Control) -> Iterator[tuple[bytes, tuple[int, int]]]:
    for folder in medium.walk():
        if control.stopped:
            raise Cancelled(tr("Telling them apart was stopped; nothing was changed."))
        if folder.place == OWN or folder.place.startswith(OWN + b"/"):
            continue
        for name, s in zip(folder.names, folder.stats, strict=True):
            if stat.S_ISREG(s.st_mode):
                yield join(folder.place, name), (s.st_size, mtime_of(s))
