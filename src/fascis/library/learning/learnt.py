"""What was learnt of one document: plain, so that a child process can say it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from fascis.documents.learned.reading import Reading
from fascis.documents.learned.search import Gone, Left
from fascis.files.names import shown
from fascis.words.speech import tr


@dataclass(slots=True)
class Field:
    """One place where a document keeps paths, with all their pieces.

    Attributes:
        where: its columns, from the left, as they are called in the document.
        values: how many paths stand there; ``found`` of them lead to files, to ``files`` different
            ones.
        examples: some paths, as they are written and where they lead.
        dead: a path that leads nowhere, if there is one.
        gone: nothing is where it says, and one move would explain that.
        contested_by: the numbers of other fields that say the same.
        sure: it may be taken without a person.
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
        """As a child says it."""
        return asdict(self) | {"reading": self.reading.as_json()}

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> Field:
        """As it was said."""
        gone = said["gone"]
        return cls(
            **{
                **said,
                "reading": Reading.from_json(said["reading"]),
                "examples": [(written, leads) for written, leads in said["examples"]],
                "gone": Gone(**gone) if gone else None,
            }
        )


@dataclass(slots=True)
class Learnt:
    """What was learnt of one document.

    Attributes:
        container: what it is packed in; nothing where it could not be opened.
        fields: where it keeps its paths.
        left: what looks like paths and is left as it is.
        verdict: ``readable``, ``uncertain``, or ``refused``; ``why`` in a sentence.
        state: ``none``, ``proposed``, or ``confirmed``.
        shape: what documents of its make have in common; ``marks`` what their first bytes have.
        filled: the columns that say something.
        told: its fields are those that somebody confirmed elsewhere.
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
        """As a child says it; all but which document it is."""
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
        """As it was said."""
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
        """Paths in all its fields; of fields that say the same those of one."""
        return sum(f.values for f in self._each())

    @property
    def found(self) -> int:
        """Of these, how many lead to files."""
        return sum(f.found for f in self._each())

    def _each(self) -> list[Field]:
        every = enumerate(self.fields)
        return [f for n, f in every if all(other > n for other in f.contested_by)]

    def told_shortly(self) -> str:
        """A sentence about what a person may do with it."""
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
