"""What every kind of document provides: its references, their positions, and rewriting.

A kind recognises its documents by their content; the ending of a name is only a hint. An open
document streams its references, each with a locator that only its kind understands. The caller
gives each reference a new target; the result was read again, and has exactly these targets.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Hashable, Iterator, Mapping
from collections.abc import Sequence as Sequence_
from contextlib import AbstractContextManager
from enum import Enum, StrEnum
from pathlib import Path
from typing import BinaryIO, Protocol

from msgspec import Struct

from fascis.documents.targets import Syntax, Target
from fascis.files.errors import FascisError

# Bytes; a larger document is not read.
LARGEST = 1 << 29
# Bytes by which a document is recognised.
HEAD = 1 << 16

# The position of a reference; only its kind understands it.
Locator = Hashable


class NotUnderstood(FascisError):
    """A document cannot be read; ``str()`` is the sentence.

    Its references are not known; nothing was changed.

    Attributes:
        at: the byte at which reading failed, or None.
    """

    def __init__(self, sentence: str, at: int | None = None) -> None:
        super().__init__(sentence)
        self.at = at


class Means(StrEnum):
    """How a reference names its media."""

    PATH = "path"  # By a path or a file URL.
    # By a bare name, to be found in the library.
    NAME = "name"
    # By a path below a top folder of a drive.
    BELOW = "below"
    # A folder below a top folder, which contains other references.
    FOLDER = "folder"
    # By a URL that is not a file: nothing to gather.
    ELSEWHERE = "elsewhere"


class KnownBy(Enum):
    """How a document is recognised as unchanged since it was read."""

    DIGEST = "digest"
    # Size, time and inode: it is too large, or changes too often, to be read for that.
    LOOK = "look"


class Sequence(Struct, frozen=True):
    """A numbered sequence of pictures in one folder: prefix, number with leading zeros, suffix."""

    prefix: str
    suffix: str
    first: int
    step: int
    padding: int
    frames: int

    def names(self) -> list[str]:
        """The file names, in order."""
        numbers = (self.first + i * self.step for i in range(self.frames))
        return [
            f"{self.prefix}{'-' if n < 0 else ''}{abs(n):0{self.padding}d}{self.suffix}"
            for n in numbers
        ]


class Place(Struct, frozen=True):
    """A top folder of a document.

    Its path from the drive's root, or absolute if no drive is named.
    """

    drive_uuid: str | None
    path: str


class Remembered(Struct, frozen=True):
    """What a document stores about a file: size in bytes, time in ns, digest, capture time.

    0 and empty mean unknown.
    """

    size: int = 0
    mtime_ns: int = 0
    digest: bytes = b""
    captured_at: str = ""


NOTHING = Remembered()


class Reference(Struct, frozen=True):
    """One reference to media in a document.

    Attributes:
        locator: the part of the document that would be replaced.
        as_written: the target in the document, without escapes.
        means: how it names its media.
        sequence: the files in the folder that the target names, for a sequence of pictures.
        place: the top folder from which its path counts, if any.
        within: the locator of its folder, if it moves with that.
        number: its own number, if that is not its position in the document.
        last: what the document stores about the file.
    """

    locator: Locator
    as_written: str
    means: Means = Means.PATH
    sequence: Sequence | None = None
    place: Place | None = None
    within: Locator = None
    number: int | None = None
    last: Remembered = NOTHING


class Change(Struct, frozen=True):
    """The new target of a reference.

    Attributes:
        target: the path, relative to the document or absolute; below ``place`` if there is one.
        text: its exact spelling, where that matters.
        as_url: it is written as a URL although a path would do.
        place: the top folder from which the path counts, for a reference below such.
    """

    target: str
    text: str | None = None
    as_url: bool = False
    place: Place | None = None


Wanted = Callable[[int, Reference], Change | None]
"""Asked for every reference, in order, with its number: what it says from now on; None to stay."""


class Length(Struct, frozen=True):
    """The length of a reference's media by its document, and where its use begins; in seconds.

    ``rate`` is in frames a second; 0 if the document counts no frames.
    """

    seconds: float
    begins: float = 0.0
    rate: float = 0.0


class Source(Protocol):
    """The location of a document, with the files beside it. Nothing there is opened for writing."""

    @property
    def size(self) -> int:
        """In bytes."""

    def head(self) -> bytes:
        """Its first bytes, at most ``HEAD``.

        Raises:
            EnvironmentTrouble: it cannot be read.
        """

    def stream(self) -> AbstractContextManager[BinaryIO]:
        """Its bytes from the first on; can be requested again.

        Raises:
            EnvironmentTrouble: it cannot be read.
        """

    def look(self) -> bytes:
        """What shows that it is the same and unchanged; empty if it does not exist."""

    def private_copy(self) -> Path:
        """A copy with its journals for this program alone; it is removed with the source.

        Raises:
            EnvironmentTrouble: it cannot be read, or keeps changing.
        """

    def private_folder(self) -> Path:
        """An empty folder for this program alone; it is removed with the source."""

    def link_target(self) -> bytes:
        """The target of a link."""


class Members(Struct, frozen=True):
    """The files of one folder in a document: many, without an object for each.

    Attributes:
        folder: the folder's own reference.
        numbers, names: for each file, the number of its reference, and its name.
        locator: returns a reference's locator, by its number.
    """

    folder: Reference
    numbers: Sequence_[int]
    names: Sequence_[str]
    locator: Callable[[int], Locator]


class ByLocator(Struct, frozen=True):
    """New targets for a document by locator; all others stay."""

    changes: Mapping[Locator, Change]

    def __call__(self, _number: int, reference: Reference) -> Change | None:
        """The new target of one reference."""
        return self.changes.get(reference.locator)


class OpenDocument(AbstractContextManager["OpenDocument"], Protocol):
    """A document that is open for reading."""

    @property
    def seen(self) -> bytes:
        """Its state when it was read, by its kind's ``known_by``."""

    def references(self) -> Iterator[Reference]:
        """All references, in the order of the document; can be requested again.

        Raises:
            NotUnderstood: it is damaged, hostile, or of another kind.
        """

    def members(self) -> Iterator[Members]:
        """The same by folder, for kinds that name only files below folders.

        Empty for all others.

        Raises:
            NotUnderstood: as :meth:`references`.
        """

    def lengths(self) -> list[Length | None]:
        """The length of each reference's media; empty if the kind has none."""

    def picture(self, number: int) -> bytes | None:
        """The preview of a reference's target stored in it, as JPEG."""

    def retargeted(self, wanted: Wanted, title: str | None = None) -> bytes | Path | None:
        """The document with some references changed, proven by reading it again.

        A file is in the source's private folder. None if nothing changes.

        Args:
            wanted: called for every reference.
            title: the document's new title, for kinds that have one.

        Raises:
            NotUnderstood: it cannot be read, before or after; the document is as it was.
        """


class DocumentKind(Protocol):
    """One kind of document. A new one is one new module and one line in the registry."""

    name: str
    """What it is called in the survey."""

    extensions: frozenset[str]
    """How its names end, in lower case and without the dot."""

    journals: tuple[bytes, ...]
    """How files end that lie beside it and are part of it."""

    syntax: Syntax
    """How its targets are written."""

    known_by: KnownBy
    """What tells that a document was not changed."""

    is_file: bool
    """False where the entry of a folder is the document, and no file: a link."""

    works: bool
    """True where a person's work is in it; what a library consists of are such documents."""

    companion: bool
    """True where it belongs to the files beside it that have its name, and goes where they go."""

    stays_absolute: bool
    """True where an absolute path stays one in a copy: its program may know no other."""

    library: str
    """What a library is called that has such a document."""

    def recognises(self, head: bytes) -> bool:
        """True if the first bytes (at most ``HEAD``) belong to such a document and to no other."""

    def open(self, source: Source) -> OpenDocument:
        """Opens a document.

        Raises:
            NotUnderstood: it is damaged, hostile, or of another kind.
            EnvironmentTrouble: it cannot be read.
        """

    def readings(self, as_written: str) -> list[Target]:
        """The ways of reading a target, likeliest first; empty if it names no file."""

    def spellings(self, target: str) -> Iterator[str]:
        """The ways of writing a path so that it can be read back, the usual one first."""

    def owners(self, names: Collection[bytes]) -> dict[bytes, list[bytes]]:
        """For companions: which of the names in one folder are companions, and whose."""


def paths(kind: DocumentKind, reference: Reference) -> list[str]:
    """The paths that a reference can mean, likeliest first.

    Empty if it names no file by a path.
    """
    if reference.means is not Means.PATH:
        return []
    return [way.path for way in kind.readings(reference.as_written)]


def names_of(reference: Reference) -> list[bytes]:
    """The names within a reference's target: those of its frames, or one empty one."""
    if reference.sequence is None:
        return [b""]
    return [os.fsencode(name) for name in reference.sequence.names()]


class NobodysWork:
    """Common to kinds that nobody edits: links, sidecars."""

    journals: tuple[bytes, ...] = ()
    syntax = Syntax.EXACT
    known_by = KnownBy.DIGEST
    is_file = True
    works = False
    companion = False
    stays_absolute = False
    library = "library"

    def owners(self, names: Collection[bytes]) -> dict[bytes, list[bytes]]:
        """None: it belongs to nothing else."""
        return {}


class Works(NobodysWork):
    """Common to kinds that a person edits: projects, timelines, catalogs."""

    syntax = Syntax.TEXT
    works = True
    library = "editing library"  # for programs
