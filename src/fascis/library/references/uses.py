"""A library's references, and what uses its files; found by :mod:`.finding`."""

from __future__ import annotations

import os
from array import array

from msgspec import Struct, field

from fascis.documents.model import DocumentKind, Sequence
from fascis.files.times import ctime_of, mtime_of
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.words.speech import tr


class Document(Struct):
    """One document.

    ``place`` is in the library; ``path`` is absolute for one outside, which is then loose media
    itself. ``trouble`` is why it is not understood; ``unnamed`` counts names (of an edit list) that
    no single file of the library has. ``seen`` is its state when it was read, by its kind's
    ``known_by``.
    """

    place: bytes
    kind: DocumentKind
    references: int = 0
    path: bytes = b""
    trouble: str = ""
    unnamed: int = 0
    seen: bytes = b""

    @property
    def format(self) -> str:
        """The name of its kind."""
        return self.kind.name


class Outside(Struct):
    """A used file outside the library's folder, or a missing one.

    Size in bytes, times in ns. ``path`` is absolute. ``size``, ``mtime_ns`` and ``digest`` of a
    missing file are its last known ones, or 0. ``named``: it must keep its name and its neighbours,
    as a frame, a sidecar, or a catalog's photo. ``frame``: it is a frame of a sequence, known by
    its name alone.
    """

    path: bytes
    standing: Standing
    role: Role
    size: int = 0
    digest: bytes = b""
    allocated: int = 0
    mtime_ns: int = 0
    ctime_ns: int = 0
    device: int = 0
    inode: int = 0
    mode: int = 0
    links: int = 1
    named: bool = False
    frame: bool = False
    used_by: set[int] = field(default_factory=set)

    @classmethod
    def there(cls, path: bytes, standing: Standing, role: Role, status: os.stat_result) -> Outside:
        """An existing one, as it is now."""
        return cls(
            path,
            standing,
            role,
            size=status.st_size,
            allocated=status.st_blocks * 512,
            mtime_ns=mtime_of(status),
            ctime_ns=ctime_of(status),
            device=status.st_dev,
            inode=status.st_ino,
            mode=status.st_mode,
            links=status.st_nlink,
        )


class LostReference(Struct, frozen=True):
    """One reference to a file that is missing or away.

    Attributes:
        document: its number in ``Uses.documents``.
        at: the number of the reference in the document, from 0, or its own number if its kind has
            one.
        path: of the lost file, as in ``Uses.outside``; for a sequence, the folder that should
            contain it.
        sequence: for a sequence of pictures; ``frames`` are the names of the lost ones.
        captured: when the photo was taken (ISO 8601), from a catalog.
    """

    document: int
    at: int
    path: bytes
    sequence: Sequence | None = None
    frames: tuple[bytes, ...] = ()
    captured: str = ""


# A lead to no file: the reference names none, or its target is not followed.
NOWHERE = -1


def led_outside(index: int) -> int:
    """The lead to a path of ``Uses.led_paths``, and the reverse.

    The path of a lead below ``NOWHERE``.
    """
    return -2 - index


class Leads(Struct):
    """Where every reference of one document led when it was read, in the document's order.

    Attributes:
        of: one number for each reference, or each frame of a sequence: the row of a file of the
            library, ``NOWHERE``, or :func:`led_outside` of a path.
        photos: the references' own numbers, if they have any, one for each lead.
    """

    of: array[int] = field(default_factory=lambda: array("q"))
    photos: array[int] | None = None


class Uses(Struct):
    """The files used by the documents of a surveyed library.

    Attributes:
        documents: in the order they were read.
        outside: loose, away and missing files.
        used_by: row of the survey → numbers of the documents that use it; without unused rows.
        standing: the standing of every row of the survey, as its index in ``STANDINGS``.
        not_media: ``(document, target as written, why)`` of references that are not followed.
        orphans: sidecars in the library without a photo.
        aliases: other paths that documents use for a file: absolute path → the real one.
        unknown: places of documents of unknown formats.
        databases: places of databases that are not known catalogs; it is not known whether they
            refer to media.
        sources: folders that catalogs name as places of photos (real paths).
        lost: references to files that are missing or away.
        lost_names: other paths that documents use for a lost file, as in ``aliases``.
        relinked: lost files that were found: paths in the documents → present paths.
        keeps_name: rows of files that a document names without a path: frames of a sequence, clips
            of an edit list.
        leads: where every reference led, by the place of its document (absolute path outside);
            links too.
        led_paths: the absolute paths outside the library in these leads, including missing ones.
    """

    documents: list[Document] = field(default_factory=list)
    outside: list[Outside] = field(default_factory=list)
    used_by: dict[int, tuple[int, ...]] = field(default_factory=dict)
    standing: bytearray = field(default_factory=bytearray)
    not_media: list[tuple[int, str, str]] = field(default_factory=list)
    orphans: list[bytes] = field(default_factory=list)
    aliases: dict[bytes, bytes] = field(default_factory=dict)
    unknown: list[bytes] = field(default_factory=list)
    databases: list[bytes] = field(default_factory=list)
    sources: set[bytes] = field(default_factory=set)
    lost: list[LostReference] = field(default_factory=list)
    lost_names: dict[bytes, bytes] = field(default_factory=dict)
    relinked: dict[bytes, bytes] = field(default_factory=dict)
    keeps_name: set[int] = field(default_factory=set)
    leads: dict[bytes, Leads] = field(default_factory=dict)
    led_paths: list[bytes] = field(default_factory=list)

    def of(self, standing: Standing) -> list[Outside]:
        """The files outside with this standing."""
        return [o for o in self.outside if o.standing is standing]

    @property
    def not_understood(self) -> list[tuple[bytes, str]]:
        """``(place, why)`` of documents whose references are not known."""
        return [(d.place or d.path, d.trouble) for d in self.documents if d.trouble] + [
            (place, tr("its format is not known")) for place in self.unknown
        ]
