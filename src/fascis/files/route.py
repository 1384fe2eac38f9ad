"""Where a path leads from now on: old path to new path, put together from simple statements.

A path is bytes, and exact: a name and its percent-encoded twin are two names. Whether anything is
at its end, nothing here looks. A path that ends in a slash means the folder itself.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass

from fascis.files.names import join, parent


class Route(ABC):
    """One statement of where paths lead from now on, or several put together."""

    @abstractmethod
    def to(self, path: bytes) -> bytes | None:
        """Where a path leads; None for one of which this says nothing."""

    def otherwise(self, other: Route) -> Route:
        """Where this says nothing, the other counts."""
        return _Otherwise(self, other)

    def then(self, other: Route) -> Route:
        """Where this leads, and from there as the other says, where it says something."""
        return _Then(self, other)


@dataclass(frozen=True, slots=True, order=True)
class Moved(Route):
    """What was below ``old`` is below ``new``, at the same place in it.

    ``new`` is absolute, or nothing for the top of a library: the rest is then a place in it.
    """

    old: bytes
    new: bytes

    def to(self, path: bytes) -> bytes | None:
        """Where a path below the old folder is now; None for one that lies elsewhere."""
        old = self.old.rstrip(b"/")
        if not path.startswith(old + b"/"):
            return None
        if not self.new:
            return path[len(old) + 1 :]
        return self.new.rstrip(b"/") + path[len(old) :]


@dataclass(frozen=True, slots=True)
class Exactly(Route):
    """These paths, and no others: gathered, found again, known by another name."""

    paths: Mapping[bytes, bytes]

    def to(self, path: bytes) -> bytes | None:
        """What it says of this very path."""
        return self.paths.get(path)


@dataclass(frozen=True, slots=True)
class Renamed(Route):
    """Places in a library where some folders and files have names of their own.

    Attributes:
        folders: old place → new place, for folders that are called otherwise.
        files: old place → new name, for files that are.
    """

    folders: Mapping[bytes, bytes]
    files: Mapping[bytes, bytes]

    def to(self, path: bytes) -> bytes | None:
        """Where a place is; None for an absolute path, which is no place."""
        if path.startswith(b"/"):
            return None
        if not path or path.endswith(b"/"):
            return self._folder(path.rstrip(b"/"))
        if not (self.folders or self.files):
            return path
        name = self.files.get(path, path.rpartition(b"/")[2])
        return join(self._folder(parent(path)), name)

    def _folder(self, place: bytes) -> bytes:
        if not self.folders:
            return place
        if (known := self.folders.get(place)) is not None:
            return known
        if not place:
            return place
        return join(self._folder(parent(place)), place.rpartition(b"/")[2])


@dataclass(frozen=True, slots=True)
class _Otherwise(Route):
    first: Route
    second: Route

    def to(self, path: bytes) -> bytes | None:
        found = self.first.to(path)
        return self.second.to(path) if found is None else found


@dataclass(frozen=True, slots=True)
class _Then(Route):
    first: Route
    second: Route

    def to(self, path: bytes) -> bytes | None:
        found = self.first.to(path)
        if found is None:
            return None
        further = self.second.to(found)
        return found if further is None else further
