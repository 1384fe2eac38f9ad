"""What every kind of document gives: its references, where each stands, and how it is rewritten.

A kind recognises its documents by their content; how a name ends is a hint only. An open document
tells its references as a stream, each with a locator that only its kind understands. Whoever wants
a reference to lead elsewhere says so reference by reference; what comes out was read again, and
says what was asked for, and nothing else.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Hashable, Iterator, Mapping
from collections.abc import Sequence as Sequence_
from contextlib import AbstractContextManager
from dataclasses import dataclass
from enum import Enum, StrEnum
from pathlib import Path
from typing import BinaryIO, Protocol

from fascis.documents.targets import Syntax, Target
from fascis.files.errors import FascisError

# Bytes; a document beyond that is not read.
LARGEST = 1 << 29
# Bytes by which a document is recognised.
HEAD = 1 << 16

# Where a reference stands; only its kind understands it.
Locator = Hashable


class NotUnderstood(FascisError):
    """A document cannot be read; ``str()`` is the sentence.

    What it refers to is not known; nothing was changed.

    Attributes:
        at: the byte where it stops making sense, or None.
    """

    def __init__(self, sentence: str, at: int | None = None) -> None:
        super().__init__(sentence)
        self.at = at


class Means(StrEnum):
    """How a reference names its media."""

    PATH = "path"  # by a path or a file URL
    # By a bare name, to be found in the library.
    NAME = "name"
    # By a path below a top folder of a drive.
    BELOW = "below"
    # A folder below a top folder, in which other references are.
    FOLDER = "folder"
    # By a URL that is no file: nothing that could be gathered.
    ELSEWHERE = "elsewhere"


class KnownBy(Enum):
    """What tells that a document is the same and unchanged since it was read."""

    DIGEST = "digest"
    # Size, time and inode: it is too large, or too lively, to be read for that.
    LOOK = "look"


@dataclass(frozen=True, slots=True)
class Sequence:
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


@dataclass(frozen=True, slots=True)
class Place:
    """A top folder of a document.

    Its path from the drive's root, or absolute where no drive is named.
    """

    drive_uuid: str | None
    path: str


@dataclass(frozen=True, slots=True)
class Remembered:
    """What a document remembers of a file: size in bytes, time in ns, digest, capture time.

    0 and nothing stand for what it does not know.
    """

    size: int = 0
    mtime_ns: int = 0
    digest: bytes = b""
    captured_at: str = ""


NOTHING = Remembered()


@dataclass(frozen=True, slots=True)
class Reference:
    """One mention of media in a document.

    Attributes:
        locator: what of the document would be replaced, and nothing else.
        as_written: the target as the document has it, its escapes undone.
        means: how it names its media.
        sequence: the files in the folder that the target names, for a sequence of pictures.
        place: the top folder from which its path counts, for one below such.
        within: the locator of the folder that it is in, for one that goes where that goes.
        number: by which it is known again, where its position in the document is not its number.
        last: what the document remembers of the file.
    """

    locator: Locator
    as_written: str
    means: Means = Means.PATH
    sequence: Sequence | None = None
    place: Place | None = None
    within: Locator = None
    number: int | None = None
    last: Remembered = NOTHING


@dataclass(frozen=True, slots=True)
class Change:
    """What a reference says from now on.

    Attributes:
        target: the path, relative to the document or absolute; below ``place`` where there is one.
        text: how it is spelled, to the letter, where that matters.
        as_url: it is written as a URL, though it could stand as a path.
        place: the top folder from which the path counts, for a reference below such.
    """

    target: str
    text: str | None = None
    as_url: bool = False
    place: Place | None = None


Wanted = Callable[[int, Reference], Change | None]
"""Asked for every reference, in order, with its number: what it says from now on; None to stay."""


@dataclass(frozen=True, slots=True)
class Length:
    """How long a reference's media is by its document, and where its use begins; in seconds.

    ``rate`` is in frames a second; 0 where the document counts no frames.
    """

    seconds: float
    begins: float = 0.0
    rate: float = 0.0


class Source(Protocol):
    """Where a document lies, with what lies beside it. Nothing is ever opened there for writing."""

    @property
    def size(self) -> int:
        """In bytes."""

    def head(self) -> bytes:
        """Its first bytes, at most ``HEAD``.

        Raises:
            EnvironmentTrouble: it cannot be read.
        """

    def stream(self) -> AbstractContextManager[BinaryIO]:
        """Its bytes from the first on; may be asked for again.

        Raises:
            EnvironmentTrouble: it cannot be read.
        """

    def look(self) -> bytes:
        """What tells that it is the same and unchanged; nothing for one that is not there."""

    def private_copy(self) -> Path:
        """A copy with its journals, for this program alone, which goes with the source.

        Raises:
            EnvironmentTrouble: it cannot be read, or keeps changing.
        """

    def private_folder(self) -> Path:
        """An empty folder for this program alone, which goes with the source."""

    def link_target(self) -> bytes:
        """What a link says."""


@dataclass(frozen=True, slots=True)
class Members:
    """What a document says lies in one of its folders: many files, without an object for each.

    Attributes:
        folder: the folder's own reference.
        numbers, names: of each file in it the number that a reference to it has, and its name.
        locator: gives where a reference stands, by its number.
    """

    folder: Reference
    numbers: Sequence_[int]
    names: Sequence_[str]
    locator: Callable[[int], Locator]


@dataclass(frozen=True, slots=True)
class ByLocator:
    """What is wanted of a document, by what stands there: nothing else of it changes."""

    changes: Mapping[Locator, Change]

    def __call__(self, _number: int, reference: Reference) -> Change | None:
        """What one reference is to say."""
        return self.changes.get(reference.locator)


class OpenDocument(AbstractContextManager["OpenDocument"], Protocol):
    """A document that is open for reading."""

    @property
    def seen(self) -> bytes:
        """What it was when it was read, by its kind's ``known_by``."""

    def references(self) -> Iterator[Reference]:
        """All references, in the order of the document; may be asked for again.

        Raises:
            NotUnderstood: it is damaged, hostile, or of another kind.
        """

    def members(self) -> Iterator[Members]:
        """The same by folder, for kinds that name files below folders and no others.

        Nothing for all others.

        Raises:
            NotUnderstood: as :meth:`references`.
        """

    def lengths(self) -> list[Length | None]:
        """How long the media of each reference is; empty where the kind tells of none."""

    def picture(self, number: int) -> bytes | None:
        """The small picture that it keeps of what a reference leads to, as JPEG."""

    def retargeted(self, wanted: Wanted, title: str | None = None) -> bytes | Path | None:
        """The document with some references leading elsewhere, proven by reading it again.

        A file is in the source's private folder. None when nothing changes.

        Args:
            wanted: asked for every reference.
            title: what the document calls itself from now on, for kinds that have such a thing.

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
        """True when the first bytes (at most ``HEAD``) are of such a document and of no other."""

    def open(self, source: Source) -> OpenDocument:
        """Opens a document.

        Raises:
            NotUnderstood: it is damaged, hostile, or of another kind.
            EnvironmentTrouble: it cannot be read.
        """

    def readings(self, as_written: str) -> list[Target]:
        """The ways to read a target, the likeliest first; empty when it names no file."""

    def spellings(self, target: str) -> Iterator[str]:
        """The ways to write a path so that it is read back, the usual one first."""

    def owners(self, names: Collection[bytes]) -> dict[bytes, list[bytes]]:
        """Of a companion: which of the names in one folder are such, and whom each belongs to."""


def paths(kind: DocumentKind, reference: Reference) -> list[str]:
    """The paths that a reference may mean, the likeliest first.

    Empty when it names no file by a path.
    """
    if reference.means is not Means.PATH:
        return []
    return [way.path for way in kind.readings(reference.as_written)]


def names_of(reference: Reference) -> list[bytes]:
    """The names within a reference's target: of its frames, or one empty one."""
    if reference.sequence is None:
        return [b""]
    return [os.fsencode(name) for name in reference.sequence.names()]


class NobodysWork:
    """What kinds have in common in which nobody works: links, sidecars."""

    journals: tuple[bytes, ...] = ()
    syntax = Syntax.EXACT
    known_by = KnownBy.DIGEST
    is_file = True
    works = False
    companion = False
    stays_absolute = False
    library = "library"

    def owners(self, names: Collection[bytes]) -> dict[bytes, list[bytes]]:
        """None: it stands for itself."""
        return {}


class Works(NobodysWork):
    """What kinds have in common in which a person works: projects, timelines, catalogs."""

    syntax = Syntax.TEXT
    works = True
    library = "editing library"  # for programs
