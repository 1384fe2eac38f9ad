"""What every format of document gives: the references in it, and exactly where each stands."""

from __future__ import annotations

from collections.abc import Container, Mapping
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType
from typing import Protocol

from fascis.documents.targets import readings
from fascis.files.errors import FascisError

LARGEST = 1 << 29  # bytes; a document beyond that is not read


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
    NAME = "name"  # by a bare name, to be found in the library
    ELSEWHERE = "elsewhere"  # by a URL that is no file: nothing that could be gathered


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
class Reference:
    """One mention of media in a document.

    Attributes:
        locator: ``(start, end)`` in the document's bytes of what would be replaced, and of nothing
            else.
        as_written: the target as the document has it, its escapes undone.
        means: how it names its media.
        sequence: the files in the folder that the target names, for a sequence of pictures.
    """

    locator: tuple[int, int]
    as_written: str
    means: Means = Means.PATH
    sequence: Sequence | None = None


@dataclass(frozen=True, slots=True)
class Length:
    """How long a reference's media is by its document, and where its use begins; in seconds.

    ``rate`` is in frames a second; 0 where the document counts no frames.
    """

    seconds: float
    begins: float = 0.0
    rate: float = 0.0


class DocumentFormat(Protocol):
    """One format. A new one is one new module and one line in the registry."""

    @property
    def name(self) -> str:
        """What it is called in the survey."""

    @property
    def extensions(self) -> frozenset[str]:
        """File name extensions, in lower case and without the dot."""

    @property
    def uris(self) -> bool:
        """True when its targets are URI references by its standard.

        Else a path may stand as it is.
        """

    def read(self, content: bytes) -> list[Reference]:
        """All references, in the order of the document.

        Raises:
            NotUnderstood: it is damaged, hostile, or another format.
        """

    def written(self, target: str, url: bool = False) -> bytes:
        """A path as it stands in a document of this format, with all that its locator spans.

        Args:
            url: as a URI, though it could stand as a path.
        """

    def literal(self, text: str) -> bytes:
        """A target's text exactly so, as it stands in a document of this format."""

    def can_be_plain(self, target: str) -> bool:
        """True when a path can stand in a document of this format as it is, not as a URI."""

    def lengths(self, content: bytes) -> list[Length | None]:
        """What :meth:`read` gives, in its order, as lengths.

        Empty where the format tells of none.
        """


def rewrite(
    format: DocumentFormat,
    content: bytes,
    targets: dict[tuple[int, int], str],
    before: list[Reference] | None = None,
    urls: Container[tuple[int, int]] = (),
    texts: Mapping[tuple[int, int], str] = MappingProxyType({}),
) -> bytes:
    """The document with some targets replaced, by their locators, and every other byte as it was.

    What comes out is read again: the same references, with the new targets where they were asked
    for and nowhere else.

    Args:
        before: what the format read in the same bytes, where that is known already.
        urls: the locators whose targets are written as URIs, as they were.
        texts: how some of the targets are spelled, to the letter.

    Raises:
        NotUnderstood: the document cannot be read, before or after.
        ValueError: a locator is not one of its references, or two overlap.
    """
    if before is None:
        before = format.read(content)
    unknown = targets.keys() - {r.locator for r in before if r.means is Means.PATH}
    if unknown:
        raise ValueError(f"no reference stands at {sorted(unknown)}")
    parts, at = [], 0
    for (start, end), target in sorted(targets.items()):
        if start < at:
            raise ValueError(f"two references overlap at byte {start}")
        text = texts.get((start, end))
        new = format.written(target, (start, end) in urls) if text is None else format.literal(text)
        parts += [content[at:start], new]
        at = end
    out = b"".join([*parts, content[at:]])
    after = format.read(out)
    same = len(before) == len(after) and all(
        targets[b.locator] in paths(format, a)
        if b.locator in targets
        else a.as_written == b.as_written
        for b, a in zip(before, after, strict=True)
    )
    if not same:
        raise NotUnderstood(
            "A target cannot be written so that it is read back the same; nothing was changed."
        )
    return out


def paths(format: DocumentFormat, reference: Reference) -> list[str]:
    """The paths that a reference may mean, the likeliest first.

    Empty when it names no file by a path.
    """
    if reference.means is not Means.PATH:
        return []
    return [way.path for way in readings(reference.as_written, format.uris)]
