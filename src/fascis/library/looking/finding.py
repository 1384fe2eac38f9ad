"""Which of the visited folders are libraries.

A library is a folder with its records; or a document that names existing media, with the folder
that holds most of it; or such a document of unknown make. Folders that a program uses for itself
(hidden ones, caches, more program files than media) are not libraries.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import closing, suppress
from itertools import islice
from pathlib import Path

from msgspec import Struct, field

from fascis.documents.learned.tables import Unreadable
from fascis.documents.model import DocumentKind, Means, NotUnderstood, Reference, names_of
from fascis.documents.registry import kind_of
from fascis.drives.connected import Drives
from fascis.files.errors import FascisError
from fascis.files.names import parent
from fascis.library.identity import parse_identity
from fascis.library.looking.seeing import Seen
from fascis.library.references.reading import PathSource
from fascis.library.references.unknown import Names, recognised
from fascis.library.roles import is_media

# For one document: references that are followed, and parent folders that are tried.
_MOST_REFERENCES, _MOST_CLIMBED = 3000, 4
# The share of a document's media that lies in its library's folder.
_MOST_OF_IT = 0.8
_MOST_NAMES, _MOST_CANDIDATES, _LARGEST = 200_000, 2000, 512 << 20
_IDENTITY_BYTES = 1 << 20
_CACHES = frozenset((b"cache", b"caches", b"thumbnails", b"temp", b"tmp", b"trash"))
_CANNOT = (NotUnderstood, Unreadable, FascisError, OSError, MemoryError, RecursionError)


class Found(Struct):
    """A library that was found.

    Attributes:
        root: its folder; or its document if that is all.
        documents: its documents that name media.
        id: the id in its records; empty if it has none.
        unknown: it was found by a document of unknown make.
        media: for a single document, the media it names.
    """

    root: bytes
    kind: str
    documents: set[bytes] = field(default_factory=set)
    id: str = ""
    name: str = ""
    unknown: bool = False
    media: set[bytes] = field(default_factory=set)


class Finding:
    """Finds libraries among folders.

    Args:
        folders: all visited ones, by path; ``roots``: where the search started.
        wide: folders that contain everything and are not libraries: a home, the top of a drive.
        mounts: identity of a drive → where it is mounted.
    """

    def __init__(
        self,
        folders: Mapping[bytes, Seen],
        roots: Sequence[bytes],
        wide: Collection[bytes],
        drives: Drives,
        private: Path,
        mounts: Mapping[str, str],
    ) -> None:
        self._folders, self._wide, self._drives = folders, frozenset(wide), drives
        self._roots = roots
        self._private, self._mounts = private, mounts
        self._below: dict[bytes, tuple[int, int]] = {}
        self._candidates = 0
        self._names: dict[bytes, Names] = {}

    def _is_hidden(self, path: bytes) -> bool:
        """True for a folder that programs use for themselves, below the start of the search."""
        root = next((r for r in self._roots if path == r or path.startswith(r + b"/")), b"")
        parts = path[len(root) :].split(b"/")
        return any(part.startswith(b".") or part.lower() in _CACHES for part in parts)

    # -- while folders are seen --------------------------------------------------------------------

    def in_folder(self, seen: Seen) -> Iterator[Found]:
        """Signs of a library in one folder: its records and its documents."""
        if self._is_hidden(seen.path):
            return
        if seen.identity and (found := self._with_records(seen)):
            yield found
        for name in seen.documents:
            with suppress(*_CANNOT):
                found = self._of_document(seen, name)
                if found:
                    yield found

    def _with_records(self, seen: Seen) -> Found | None:
        try:
            with open(seen.path + b"/.fascis/identity.json", "rb") as file:
                identity = parse_identity(file.read(_IDENTITY_BYTES), seen.path)
        except (OSError, FascisError):
            return None
        kind = identity.kind
        return Found(seen.path, kind, id=identity.library_id, name=identity.name)

    def _of_document(self, seen: Seen, name: bytes) -> Found | None:
        """The library to which a document belongs; None if it names no existing media."""
        path = seen.path + b"/" + name
        with PathSource(path, self._private) as source:
            kind = kind_of(name, source.head())
            if kind is None or not kind.works:
                return None
            with kind.open(source) as document:
                references = islice(document.references(), _MOST_REFERENCES)
                named = {p for r in references for p in self._paths(kind, r, seen.path)}
        media = (p for p in named if is_media(p.rpartition(b"/")[2]))
        there = {p for p in media if Path(os.fsdecode(p)).is_file()}
        if not there and not (named and seen.media):
            return None
        root = self._holding(seen.path, there)
        if root is None:
            return Found(path, kind.library, {path}, media=there)
        return Found(root, kind.library, {path})

    def _paths(self, kind: DocumentKind, reference: Reference, folder: bytes) -> Iterator[bytes]:
        """The paths that a reference can mean."""
        if reference.means is Means.BELOW and reference.place is not None:
            top = reference.place
            above = top.path if top.drive_uuid is None else self._mounts.get(top.drive_uuid)
            if above is not None:
                if top.drive_uuid is not None:
                    above = os.path.join(above, top.path.strip("/"))
                yield os.path.normpath(os.fsencode(above + "/" + reference.as_written))
        elif reference.means is Means.NAME:
            yield folder + b"/" + os.fsencode(reference.as_written)
        elif reference.means is Means.PATH:
            for way in kind.readings(reference.as_written):
                for name in names_of(reference)[:50]:
                    path = os.path.join(folder, os.fsencode(way.path))
                    if reference.sequence:
                        path = path.rstrip(b"/") + b"/" + os.fsencode(name)
                    yield os.path.normpath(path)

    def _holding(self, folder: bytes, media: Collection[bytes]) -> bytes | None:
        """The folder that holds a document and most of its media; None if there is none."""
        if not media:
            return None if folder in self._wide else folder
        best, most, here = folder, 0, folder
        for _ in range(_MOST_CLIMBED):
            if here in self._wide or here not in self._folders:
                break
            inside = sum(path.startswith(here + b"/") for path in media)
            if inside > most:
                best, most = here, inside
            if inside >= _MOST_OF_IT * len(media):
                break
            here = parent(here)
        return best if most and best not in self._wide else None

    # -- when all are seen -------------------------------------------------------------------------

    def of_unknown_make(self, libraries: Collection[bytes]) -> Iterator[Found]:
        """Libraries with documents of unknown make, in folders that are not libraries yet.

        Args:
            libraries: the roots of those that were found.
        """
        for path in sorted(self._folders):
            seen = self._folders[path]
            if not seen.candidates or path in self._wide or self._is_hidden(path):
                continue
            if any(path == root or path.startswith(root + b"/") for root in libraries):
                continue
            region = self._region(path)
            if region is None:
                continue
            for name in seen.candidates:
                if self._candidates >= _MOST_CANDIDATES:
                    return
                self._candidates += 1
                with suppress(*_CANNOT):
                    if self._names_media(region, path, name):
                        yield Found(region, "library", {path + b"/" + name}, unknown=True)

    def _region(self, path: bytes) -> bytes | None:
        """The folder with media to which a document in this one may belong."""
        for folder in (path, parent(path)):
            if folder in self._wide or folder not in self._folders:
                continue
            media, programs = self._counts(folder)
            if media and programs <= media:
                return folder
        return None

    def _counts(self, folder: bytes) -> tuple[int, int]:
        """The number of media and program files in a folder and below it."""
        if not self._below:
            for path in sorted(self._folders, key=len, reverse=True):
                seen = self._folders[path]
                media, programs = self._below.get(path, (0, 0))
                media, programs = media + seen.media, programs + seen.programs
                self._below[path] = media, programs
                above = parent(path)
                known = self._below.get(above, (0, 0))
                self._below[above] = known[0] + media, known[1] + programs
        return self._below.get(folder, (0, 0))

    def _names_media(self, region: bytes, folder: bytes, name: bytes) -> bool:
        place = (folder + b"/" + name)[len(region) + 1 :]
        size = os.lstat(folder + b"/" + name).st_size
        if size > _LARGEST:
            return False
        names = self._names.get(region)
        if names is None:
            # Its files are listed once for all its documents.
            names = Names(region, lambda: islice(_places(region), _MOST_NAMES))
            self._names[region] = names
        with closing(self._drives.open(Path(os.fsdecode(region)))) as medium:
            # A confirmed make is recognised by the first bytes alone.
            return recognised(medium, place, size, names) is not False


def _places(region: bytes) -> Iterator[bytes]:
    for above, _, names in os.walk(region):
        inside = above[len(region) + 1 :]
        for name in names:
            yield inside + b"/" + name if inside else name


def merged(found: Collection[Found]) -> list[Found]:
    """Libraries once each: one inside another belongs to it, unless it has records."""
    by_root: dict[bytes, Found] = {}
    for one in sorted(found, key=lambda f: (len(f.root), not f.id)):
        root = one.root
        if root in by_root:
            _join(by_root[root], one)
            continue
        above = next((by_root[p] for p in _parents(root) if p in by_root), None)
        if above is not None and not one.id:
            _join(above, one)
        else:
            by_root[root] = one
    return list(by_root.values())


def _join(one: Found, other: Found) -> None:
    one.documents |= other.documents
    one.media |= other.media
    if one.kind in ("library", "") or other.kind == "photo catalog":
        one.kind = other.kind or one.kind
    one.unknown = one.unknown and other.unknown


def _parents(path: bytes) -> Iterator[bytes]:
    while len(path) > 1:
        path = parent(path)
        yield path
