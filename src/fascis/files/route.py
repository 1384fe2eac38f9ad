"""The new path for an old one, combined from simple statements.

A path is bytes, and exact: a name and its percent-encoded form are two names. Whether a file exists
is not checked. A path that ends in a slash means the folder itself.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from fascis.files.names import join, parent


class Route:
    """One statement about new paths, or several combined. Each kind has a ``to`` of its own."""

    __slots__ = ()

    def to(self, path: bytes) -> bytes | None:
        """The new path; None if this has no statement about it."""
        raise NotImplementedError

    def otherwise(self, other: Route) -> Route:
        """Uses the other where this has no statement."""
        return _Otherwise(self, other)

    def then(self, other: Route) -> Route:
        """This path first, then the other's statement about the result, if any."""
        return _Then(self, other)


class Moved(Route, Struct, frozen=True, order=True):
    """What was below ``old`` is below ``new``, at the same place in it.

    ``new`` is absolute, or nothing for the top of a library: the rest is then a place in it.
    """

    old: bytes
    new: bytes

    def to(self, path: bytes) -> bytes | None:
        """The new path for one below the old folder; None for any other."""
        old = self.old.rstrip(b"/")
        if not path.startswith(old + b"/"):
            return None
        if not self.new:
            return path[len(old) + 1 :]
        return self.new.rstrip(b"/") + path[len(old) :]


class Exactly(Route, Struct, frozen=True):
    """These paths and no others: gathered, found again, or with another name."""

    paths: Mapping[bytes, bytes]

    def to(self, path: bytes) -> bytes | None:
        """The new path for exactly this path."""
        return self.paths.get(path)


class Renamed(Route, Struct, frozen=True):
    """Places in a library in which some folders and files have other names.

    Attributes:
        folders: old place → new place, for renamed folders.
        files: old place → new name, for renamed files.
    """

    folders: Mapping[bytes, bytes]
    files: Mapping[bytes, bytes]

    def to(self, path: bytes) -> bytes | None:
        """The new place; None for an absolute path, which is not a place."""
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


class _Otherwise(Route, Struct, frozen=True):
    first: Route
    second: Route

    def to(self, path: bytes) -> bytes | None:
        found = self.first.to(path)
        return self.second.to(path) if found is None else found


class _Then(Route, Struct, frozen=True):
    first: Route
    second: Route

    def to(self, path: bytes) -> bytes | None:
        found = self.first.to(path)
        if found is None:
            return None
        further = self.second.to(found)
        return found if further is None else further
