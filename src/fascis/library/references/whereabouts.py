"""Which file a path in a document means.

One in the library, one outside, one on a drive that is away, or none. A path is followed as by the
kernel, links included, but nothing is opened here. Only regular files of known media or document
types are followed.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Container, Iterable, Mapping
from pathlib import Path

from msgspec import Struct

from fascis.documents.registry import kind_named
from fascis.documents.targets import Target
from fascis.drives.model import Drive
from fascis.files.names import name_key
from fascis.files.route import Moved
from fascis.library.register import Former, KnownDrive
from fascis.library.roles import MEDIA
from fascis.library.standing import Standing
from fascis.words.speech import tr

# Where systems mount connected drives.
_PARENTS = ((b"Volumes",), (b"media",), (b"mnt",), (b"run", b"media"))
_BELOW = tuple(b"/".join(above) + b"/" for above in _PARENTS)
_PSEUDO = (b"/proc", b"/sys", b"/dev")
_MOST_LINKS = 8


class Meant(Struct, frozen=True):
    """The meaning of a path.

    Attributes:
        standing: loose, away or missing; held for a file in the library.
        path: absolute; the real path of an existing file; as in the document if it means nothing
            here.
        place: in the library; None for one outside.
        status: of an existing file outside.
        refused: why it is not followed: it is not media.
    """

    standing: Standing
    path: bytes
    place: bytes | None = None
    status: os.stat_result | None = None
    refused: str = ""


def is_media(name: bytes) -> bool:
    """True for names of known picture, sound and film types, and of documents.

    Files to which a library can refer.
    """
    extension = name.rpartition(b".")[2].lower() if b"." in name else b""
    return extension in MEDIA or kind_named(name) is not None


class DriveRoots:
    """Where drives are mounted, or were when last seen.

    Args:
        former: earlier mount points: a path below one leads to the drive's present mount point.
        unlisted: where something is mounted that is listed as no drive.
        literal: follow paths as any program would: one below an earlier mount point leads nowhere.
    """

    def __init__(
        self,
        connected: Iterable[Drive],
        known: Iterable[KnownDrive],
        former: Iterable[Former] = (),
        unlisted: Iterable[str] = (),
        literal: bool = False,
    ) -> None:
        known = list(known)
        self._there: dict[str, bytes] = {}
        self._away: dict[str, bytes] = {}
        labels: dict[str, list[tuple[str, bytes, bool]]] = {}
        for drive in connected:
            (self._there if drive.connected else self._away)[drive.uuid] = bytes(drive.mount)
            labels.setdefault(drive.label.casefold(), []).append(
                (drive.uuid, bytes(drive.mount), drive.connected)
            )
        for seen in known:
            if seen.uuid not in self._there and seen.uuid not in self._away:
                self._away[seen.uuid] = bytes(seen.mount)
                labels.setdefault(seen.label.casefold(), []).append(
                    (seen.uuid, bytes(seen.mount), False)
                )
        self._labels = {
            label: drives[0] for label, drives in labels.items() if len(drives) == 1 and not literal
        }
        before = {(bytes(f.mount), f.drive) for f in former}
        # Since it was last seen.
        moved = [k for k in known if self._there.get(k.uuid, bytes(k.mount)) != bytes(k.mount)]
        self._former = (
            [] if literal else self._before({*before, *((bytes(k.mount), k.uuid) for k in moved)})
        )
        there = {b"/", *self._there.values(), *map(os.fsencode, unlisted)}
        self._away_mounts = [m for m in self._away.values() if m not in there]

    def _before(self, former: Iterable[tuple[bytes, str]]) -> list[tuple[Moved, bool]]:
        """From each earlier mount point to the present one, and True if that exists, longest first.

        A path that two drives had is left out.
        """
        found: dict[bytes, set[str]] = {}
        for mount, uuid in former:
            if mount != b"/":
                found.setdefault(mount, set()).add(uuid)
        one = {mount: drives.pop() for mount, drives in found.items() if len(drives) == 1}
        known = [(mount, self.mount(uuid)) for mount, uuid in one.items()]
        routes = [(Moved(m, now[0]), now[1]) for m, now in known if now and now[0] != m]
        return sorted(routes, key=lambda route: -len(route[0].old))

    def mount(self, uuid: str) -> tuple[bytes, bool] | None:
        """Where a drive is mounted or was, and True if it is connected.

        None for an unknown drive.
        """
        if uuid in self._there:
            return self._there[uuid], True
        return (self._away[uuid], False) if uuid in self._away else None

    def is_away(self, path: bytes) -> bool:
        """True if a path lies on a known drive that is not connected."""
        return any(path.startswith(m + b"/") for m in self._away_mounts)

    def mapped(self, path: bytes) -> tuple[bytes, bool] | None:
        """A path of another machine, or of a drive mounted elsewhere, as a path here.

        With True if it exists; only for known drives.
        """
        for route, there in self._former:
            if (here := route.to(path)) is not None:
                return here, there
        if not path.lstrip(b"/").startswith(_BELOW):
            return None
        parts = [p for p in path.split(b"/") if p]
        for above in _PARENTS:
            if tuple(parts[: len(above)]) == above:
                # With or without a folder for the user.
                for at in (len(above), len(above) + 1):
                    label = os.fsdecode(parts[at]).casefold() if at < len(parts) - 1 else ""
                    if label in self._labels:
                        _, mount, there = self._labels[label]
                        return b"/".join([mount.rstrip(b"/"), *parts[at + 1 :]]), there
        return None


class Whereabouts:
    """The meaning of paths, for one library as surveyed.

    Args:
        root: the library's folder.
        folders: places of its folders; empty if nothing there counts as the library's.
        places: its entries by place.
        links: the targets of its links, by place.
        special: its devices, pipes and sockets, by place.
    """

    def __init__(
        self,
        root: Path,
        folders: Iterable[bytes],
        places: Mapping[bytes, int],
        links: Mapping[bytes, bytes],
        drives: DriveRoots,
        special: Container[bytes] = frozenset(),
    ) -> None:
        self.root = os.path.realpath(bytes(root))
        self._below = self.root.rstrip(b"/") + b"/"
        self._folders, self._places, self._links, self._drives = set(folders), places, links, drives
        self._special = special
        self._folded: dict[str, bytes] | None = None
        self._resolved: dict[bytes, tuple[str, bytes]] = {}

    def of(self, ways: list[Target], folder: bytes) -> tuple[Meant, Target] | None:
        """The meaning of a target in a document of ``folder`` (absolute), and by which reading.

        None if it names no file.

        Args:
            ways: the ways of reading it, likeliest first.
        """
        first: tuple[Meant, Target] | None = None
        for way in ways:
            found = self._way(way, folder)
            if found.standing in (Standing.HELD, Standing.LOOSE) or (
                first is None and found.refused
            ):
                return found, way
            if first is None or (
                found.standing is Standing.AWAY and first[0].standing is Standing.MISSING
            ):
                first = found, way
        return first

    def _way(self, way: Target, folder: bytes) -> Meant:
        path = os.fsencode(way.path)
        if way.foreign:
            mapped = self._drives.mapped(path.lstrip(b"/"))
            return self._mapped(mapped, path) or self._nowhere(path, Standing.MISSING)
        absolute = path if way.absolute else folder + b"/" + path
        found = self.at(absolute)
        if (
            found.standing is Standing.MISSING
            and way.absolute
            and (mapped := self._drives.mapped(path))
        ):
            return self._mapped(mapped, path) or found
        return found

    def _mapped(self, mapped: tuple[bytes, bool] | None, path: bytes) -> Meant | None:
        if mapped is None:
            return None
        here, there = mapped
        return self.at(here) if there else self._nowhere(here, Standing.AWAY)

    def at(self, path: bytes, depth: int = 0) -> Meant:
        """The meaning of an absolute path."""
        above, _, name = path.rpartition(b"/")
        if name in (b"", b".", b".."):
            return Meant(Standing.MISSING, path, refused=tr("it is a folder"))
        kind, where = self._folder(above or b"/")
        if kind == "inside":
            return self._inside(where, name, depth)
        if kind == "outside":
            return self._outside(where, name, depth)
        return self._nowhere(
            where.rstrip(b"/") + b"/" + name, Standing.AWAY if kind == "away" else Standing.MISSING
        )

    def _folder(self, path: bytes) -> tuple[str, bytes]:
        """``("inside", place)``, ``("outside", real path)`` or ``("away" or "none", path)``."""
        if (known := self._resolved.get(path)) is None:
            known = self._resolved[path] = self._find_folder(_squeezed(path))
        return known

    def _find_folder(self, path: bytes) -> tuple[str, bytes]:
        if path == self.root and self._folders:
            return "inside", b""
        if path.startswith(self._below) and path[len(self._below) :] in self._folders:
            return "inside", path[len(self._below) :]
        if self._drives.is_away(path + b"/"):
            return "away", path
        real = os.path.realpath(path)
        if self._drives.is_away(real + b"/"):
            return "away", path
        if real == self.root and self._folders:
            return "inside", b""
        inner = real[len(self._below) :]
        there = _is_folder(real)
        if self._folders and real.startswith(self._below):
            if inner in self._folders or not there:
                return "inside", inner
            if (folded := self._folded_folder(inner)) is not None:
                return "inside", folded
        return ("outside", real) if there else ("none", path)

    def _folded_folder(self, inner: bytes) -> bytes | None:
        """The library's folder that the file system treats as equal to this one.

        Written in another case, or another normal form.
        """
        if self._folded is None:
            self._folded = {name_key(f): f for f in self._folders}
        place = self._folded.get(name_key(inner))
        if place is not None and _same_file(self._below + inner, self._below + place):
            return place
        return None

    def _folded_file(self, folder: bytes, name: bytes) -> bytes | None:
        """The library's file that the file system treats as equal to this one."""
        path = self._below + (folder + b"/" if folder else b"")
        if not os.path.lexists(path + name):
            return None
        key = name_key(name)
        try:
            alike = [n for n in os.listdir(path) if name_key(n) == key]
        except OSError:
            return None
        same = (n for n in alike if _same_file(path + n, path + name))
        return next(
            (p for n in same if (p := folder + b"/" + n if folder else n) in self._places), None
        )

    def _inside(self, folder: bytes, name: bytes, depth: int) -> Meant:
        place = folder + b"/" + name if folder else name
        path = self._below + place
        if place in self._folders:
            return Meant(Standing.MISSING, path, refused=tr("it is a folder"))
        if place not in self._places:
            folded = self._folded_file(folder, name)
            if folded is None:
                return self._nowhere(path, Standing.MISSING)
            place, path = folded, self._below + folded
        if place in self._special:
            return Meant(Standing.MISSING, path, refused=tr("it is a device or a pipe"))
        if (target := self._links.get(place)) is not None and depth < _MOST_LINKS:
            inner = self.at(os.path.join(self._below + folder, target), depth + 1)
            # A link in the library is a file of it; its target is found with the links.
            return inner if inner.refused else Meant(Standing.HELD, path, place)
        return Meant(Standing.HELD, path, place)

    def _outside(self, folder: bytes, name: bytes, depth: int) -> Meant:
        path = folder.rstrip(b"/") + b"/" + name
        try:
            status = os.lstat(path)
        except OSError:
            return self._nowhere(path, Standing.MISSING)
        if stat.S_ISLNK(status.st_mode):
            real = os.path.realpath(path)
            if depth < _MOST_LINKS:
                return self.at(real, depth + 1)
            return self._nowhere(path, Standing.MISSING)
        if not stat.S_ISREG(status.st_mode):
            what = tr("a folder") if stat.S_ISDIR(status.st_mode) else tr("a device or a pipe")
            return Meant(Standing.MISSING, path, refused=tr("it is {what}", what=what))
        if any(path.startswith(p + b"/") for p in _PSEUDO):
            return Meant(Standing.MISSING, path, refused=tr("it is not a file on a drive"))
        if not is_media(name):
            return Meant(Standing.MISSING, path, refused=tr("it is not media"))
        return Meant(Standing.LOOSE, path, status=status)

    @staticmethod
    def _nowhere(path: bytes, standing: Standing) -> Meant:
        name = path.rpartition(b"/")[2]
        return Meant(standing, path, refused="" if is_media(name) else tr("it is not media"))


def _same_file(one: bytes, other: bytes) -> bool:
    try:
        return os.path.samestat(os.lstat(one), os.lstat(other))
    except OSError:
        return False


def _is_folder(path: bytes) -> bool:
    try:
        return stat.S_ISDIR(os.stat(path).st_mode)
    except OSError:
        return False


def _squeezed(folder: bytes) -> bytes:
    """Without ``.``, double slashes and ``..``.

    The kernel resolves ``..``, because links may precede it.
    """
    if b"//" not in folder and b"/." not in folder:
        return folder
    return os.path.realpath(folder) if b"/.." in folder else os.path.normpath(folder)
