"""Files that arrive in an existing folder, and the files that are there. Only reads.

Existing files are never changed: folders are merged, a file with equal content counts as the copy,
and everything else keeps its name.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from msgspec import Struct, field

from fascis.crossing.scope.gathering import sampled, whole_digest
from fascis.drives.rules import Rules
from fascis.files.names import STAGING, join
from fascis.library.own import OWN


class Stands(Struct, frozen=True):
    """An existing file or folder in a folder where something arrives.

    Attributes:
        mergeable: a folder of the same file system that can be merged.
        size: of a regular file, in bytes; otherwise None.
        mtime_ns: its time.
    """

    name: bytes
    mergeable: bool
    size: int | None
    mtime_ns: int


class Comes(Struct, frozen=True):
    """A file that arrives.

    Attributes:
        path: its present path.
        size, mtime_ns: in bytes and nanoseconds.
        kept: it counts as arrived only if an equal file has its own name and place.
        never: it never counts as arrived: its content changes on arrival.
    """

    path: bytes
    size: int
    mtime_ns: int
    kept: bool = False
    never: bool = False


# Two files that were compared: path, size and time of each; and whether they are equal.
Compared = dict[tuple[bytes, int, bytes, int], bool]


class Meeting(Struct):
    """Arriving files, and the existing files at their paths.

    Attributes:
        root: the folder from which places there count.
        bases: folder of the library → its full place there.
        folders: folders of the library from which something is copied, and the folders above them.
        looks_elsewhere: equal content counts anywhere in the library there.
        comes: arriving files, by their place in the library.
        compared: comparisons made already; new ones are added.
        loose: gathered files that arrive, by their new place.
    """

    root: Path
    bases: Mapping[bytes, bytes]
    folders: frozenset[bytes]
    looks_elsewhere: bool
    rules: Rules
    comes: Callable[[bytes], Comes | None]
    compared: Compared
    loose: dict[bytes, Comes] = field(default_factory=dict)
    _listed: dict[bytes, dict[bytes, Stands]] = field(default_factory=dict)
    _by_size: dict[int, list[tuple[bytes, int]]] | None = None

    def key(self, name: bytes) -> bytes:
        """Names with the same key are equal on that drive."""
        return self.rules.fold(name) if self.rules.folds_case else name

    def standing(self, folder: bytes) -> Mapping[bytes, Stands]:
        """What is in a folder there, by the keys of its names; empty if it does not exist yet."""
        if folder not in self._listed:
            self._listed[folder] = {self.key(s.name): s for s in self._list(folder)}
        return self._listed[folder]

    def _list(self, folder: bytes) -> Iterator[Stands]:
        top = bytes(self.root)
        try:
            device = os.lstat(top).st_dev
            with os.scandir(join(top, folder) if folder else top) as entries:
                for entry in entries:
                    if entry.name.startswith(STAGING):
                        continue
                    status = entry.stat(follow_symlinks=False)
                    is_file = entry.is_file(follow_symlinks=False)
                    is_folder = entry.is_dir(follow_symlinks=False)
                    yield Stands(
                        entry.name,
                        is_folder and status.st_dev == device,
                        status.st_size if is_file else None,
                        status.st_mtime_ns,
                    )
        except (FileNotFoundError, NotADirectoryError):
            return

    # -- equal content -----------------------------------------------------------------------------

    def equal(self, place: bytes, there: bytes, other: Stands) -> bool:
        """True if a file of the library has the content of an existing one."""
        mine = self._mine(place)
        if mine is None or mine.never or other.size is None or other.size != mine.size:
            return False
        return self._same(mine, there, other.mtime_ns)

    def equal_elsewhere(self, place: bytes) -> bytes | None:
        """The place of an existing file, anywhere there, with the content of one of the library.

        None if there is none, or if the file must arrive at its own place.
        """
        mine = self._mine(place)
        if not self.looks_elsewhere or mine is None or mine.never or mine.kept or not mine.size:
            return None
        if self._by_size is None:
            self._by_size = self._sizes()
        for there, mtime_ns in self._by_size.get(mine.size, ()):
            if self._same(mine, there, mtime_ns):
                return there
        return None

    def _mine(self, place: bytes) -> Comes | None:
        return self.loose.get(place) or self.comes(place)

    def _sizes(self) -> dict[int, list[tuple[bytes, int]]]:
        """Every existing file, by its size."""
        found: dict[int, list[tuple[bytes, int]]] = defaultdict(list)
        waiting = [b""]
        while waiting:
            folder = waiting.pop()
            for one in sorted(self.standing(folder).values(), key=lambda s: s.name):
                place = join(folder, one.name)
                if one.mergeable and one.name != OWN:
                    waiting.append(place)
                elif one.size is not None:
                    found[one.size].append((place, one.mtime_ns))
        return found

    def _same(self, mine: Comes, there: bytes, mtime_ns: int) -> bool:
        """Compared by samples first, then as a whole; once."""
        other = join(bytes(self.root), there)
        asked = mine.path, mine.mtime_ns, other, mtime_ns
        if asked not in self.compared:
            self.compared[asked] = not _one_file(mine.path, other) and all(
                (one := digest(mine.path)) is not None and one == digest(other)
                for digest in (sampled, whole_digest)
            )
        return self.compared[asked]


def _one_file(path: bytes, other: bytes) -> bool:
    """True for two names of one file: deleting one may delete the other."""
    try:
        return os.path.samestat(os.lstat(path), os.lstat(other))
    except OSError:
        return True
