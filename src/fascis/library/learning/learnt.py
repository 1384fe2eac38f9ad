"""The result of learning one document, in plain values for a child process."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict

from fascis.documents.learned.reading import Reading
from fascis.documents.learned.search import Gone, Left
from fascis.files.names import shown
from fascis.words.speech import tr


class Field(Struct):
    """One place where a document keeps paths, with all their pieces.

    Attributes:
        where: its columns, from the left, by their names in the document.
        values: the number of paths; ``found`` of them lead to files, ``files`` different ones.
        examples: some paths, as written and where they lead.
        dead: a path that leads nowhere, if there is one.
        gone: no path exists, and one folder move would explain that.
        contested_by: the numbers of other fields with the same content.
        sure: it can be used without asking a person.
    """

    where: str
    reading: Reading
    values: int
    found: int
    files: int
    examples: list[tuple[str, str]] = field(default_factory=list)
    dead: str = ""
    gone: Gone | None = None
    contested_by: list[int] = field(default_factory=list)
    sure: bool = False

    def as_json(self) -> dict[str, Any]:
        """For a child's output."""
        gone = asdict(self.gone) if self.gone else None
        return asdict(self) | {"reading": self.reading.as_json(), "gone": gone}

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> Field:
        """From a child's output."""
        gone = said["gone"]
        return cls(
            **{
                **said,
                "reading": Reading.from_json(said["reading"]),
                "examples": [(written, leads) for written, leads in said["examples"]],
                "gone": Gone(**gone) if gone else None,
            }
        )


class Learnt(Struct):
    """The result for one document.

    Attributes:
        container: its container; empty if it could not be opened.
        fields: where it keeps its paths.
        left: columns that look like paths and are not used.
        verdict: ``readable``, ``uncertain``, or ``refused``; ``why`` in a sentence.
        state: ``none``, ``proposed``, or ``confirmed``.
        shape: common to all documents of its make; ``marks``: common parts of their first bytes.
        filled: the columns that are not empty.
        told: somebody confirmed its fields elsewhere.
    """

    document: Path
    container: str = ""
    fields: list[Field] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)
    verdict: str = "refused"
    why: str = ""
    state: str = "none"
    shape: bytes = b""
    marks: tuple[bytes, ...] = ()
    filled: frozenset[str] = frozenset()
    told: bool = False

    def as_json(self) -> dict[str, Any]:
        """For a child's output; without the document's path."""
        return {
            "container": self.container,
            "fields": [one.as_json() for one in self.fields],
            "left": [asdict(one) for one in self.left],
            "verdict": self.verdict,
            "why": self.why,
            "state": self.state,
            "shape": self.shape.hex(),
            "marks": [mark.hex() for mark in self.marks],
            "filled": sorted(self.filled),
            "told": self.told,
        }

    @classmethod
    def from_json(cls, document: Path, said: Mapping[str, Any]) -> Learnt:
        """From a child's output."""
        return cls(
            document,
            said["container"],
            [Field.from_json(one) for one in said["fields"]],
            [Left(**one) for one in said["left"]],
            said["verdict"],
            said["why"],
            said["state"],
            bytes.fromhex(said["shape"]),
            tuple(map(bytes.fromhex, said["marks"])),
            frozenset(said["filled"]),
            said["told"],
        )

    @property
    def values(self) -> int:
        """Paths in all its fields; of fields with the same content, those of one."""
        return sum(f.values for f in self._each())

    @property
    def found(self) -> int:
        """How many of these lead to files."""
        return sum(f.found for f in self._each())

    def _each(self) -> list[Field]:
        every = enumerate(self.fields)
        return [f for n, f in every if all(other > n for other in f.contested_by)]

    def told_shortly(self) -> str:
        """A sentence about what a person can do."""
        if self.verdict == "refused" or not self.fields:
            return self.why
        words = tr(
            "{found} of {values} paths that it keeps lead to files",
            found=self.found,
            values=self.values,
        )
        return tr(
            "{words}: fascis learn {name} shows where, and asks.",
            words=words,
            name=shown(self.document.name),
        )
