"""The header of a crossing's plan, as its journal keeps it: written once, read by all."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, ValidationError

from fascis.crossing.model.afterwards import After
from fascis.drives.rules import Answers
from fascis.files.names import fsname, join, shown
from fascis.library.identity import OWN


def _text(value: object) -> str:
    if not isinstance(value, str):
        raise ValueError("no text")
    return value


Text = Annotated[str, PlainValidator(_text)]
"""Text that may hold a file's name of any bytes.

Those that are not UTF-8 are lone surrogates, which a plain ``str`` refuses here.
"""


class _Facts(BaseModel):
    model_config = ConfigDict(extra="allow", frozen=True, populate_by_name=True, defer_build=True)


class DriveFacts(_Facts):
    """What is kept of a drive.

    How it is told, where it was mounted, and what it said of itself when it was asked.
    """

    uuid: str
    label: Text
    filesystem: str = ""
    stand_in: bool = False
    mount: Text = "/"
    answers: dict[str, Any] | None = None

    def said(self) -> Answers | None:
        """What it said when the crossing began; None when it was not asked."""
        return Answers.from_json(self.answers) if self.answers else None


class Goal(_Facts):
    """One destination: how the library lands there, and the drive.

    ``path`` is the folder that it is to stand in, ``name`` its own folder's name there. What lands
    in a folder that is there has no name: its places count from ``path``. ``inner`` is where a
    person finds it then, as a place in that folder, and ``library`` the id of the library that the
    folder is, where its records are amended. ``updates`` is True where that is a copy of what
    crosses, which is brought up to it.
    """

    landing: Literal["new-folder", "existing-folder"] = "new-folder"
    path: Text
    name: Text
    inner: Text = ""
    library: str = ""
    updates: bool = False
    drive: DriveFacts

    @property
    def stands(self) -> bool:
        """True when the folder that it lands in is one that was there before."""
        return self.landing == "existing-folder"

    @property
    def joins(self) -> bool:
        """True when it becomes part of what stands there, and is no library of its own."""
        return self.stands and not self.updates

    @property
    def told(self) -> str:
        """Where a person finds what crossed, to be told."""
        return "/".join(shown(part) for part in (self.path, self.name or self.inner) if part)


class PartFacts(_Facts):
    """The projects and folders that cross, where that is not the whole library."""

    projects: list[Text]
    folders: list[Text]

    def holds(self, place: bytes) -> bool:
        """True for what lies in one of its folders: what appears there belongs to it."""
        if place == OWN or place.startswith(OWN + b"/"):
            return False
        return any(place.startswith(join(fsname(f), b"")) for f in self.folders)


class UpdateFacts(_Facts):
    """How many files an update of a copy adds, changes, moves, removes and leaves as they are."""

    added: int = 0
    changed: int = 0
    moved: int = 0
    removed: int = 0
    unchanged: int = 0

    @property
    def changes(self) -> int:
        """How many files become others."""
        return self.added + self.changed + self.moved + self.removed


class SplitFacts(_Facts):
    """The split that a crossing is one part of.

    Attributes:
        id: the split's.
        number, of: which of how many parts it is, from 0.
        after: what comes when all parts are verified.
        before_bytes, parts_bytes: the length of the library, and of all parts together.
        stays_files, stays_bytes: what no part has.
    """

    id: str
    number: int
    of: int
    after: After = After.KEEP
    before_bytes: int = 0
    parts_bytes: int = 0
    stays_files: int = 0
    stays_bytes: int = 0


class Header(_Facts):
    """The facts of a plan.

    Later versions add to it: what an older journal does not have, has its value here.

    Attributes:
        crossing, token: the crossing's id, and the secret that proves what it made.
        library_id, whole_id: the library's id; of a part that of the library that it was a part of.
        name, called: its name at the new place, and as it is known.
        source, real_source: the folder that it is taken from, as it was named, and without links.
        follows: documents that stay are led to the new place before home is there.
        split: the split that it is a part of.
        also: documents and libraries that are looked at besides the known ones before originals go.
        of_catalog: the catalog whose folder it is, or nothing.
        update: what an update of a copy changes in it.
        restores: documents get the bytes that they had before, where these are right there.
        landmarks: ``(path, encoding, size, mtime_ns)`` of some of its files, to know its folder by.
        mounts: where each drive was mounted, by its UUID.
        document: the name of a single document, or nothing.
        destinations: the first is to be home.
        planned_at: in seconds since 1970; ``estimate`` in seconds.
        loose_drives: on which drive each folder of loose files was.
        decisions: sentences of what was decided before the start.
    """

    crossing: str
    token: str
    library_id: str
    whole_id: str = ""
    part: PartFacts | None = None
    split: SplitFacts | None = None
    also: list[Text] = []
    of_catalog: Text = ""
    update: UpdateFacts | None = None
    restores: bool = False
    folders_out: list[Text] = []
    frees: int = 0
    follows: bool = False
    lacks: int = 0
    name: Text
    called: Text = ""
    kind: str = "library"
    source: Text
    source_drive: DriveFacts
    root_inode: int = 0
    stable_inodes: bool = True
    landmarks: list[tuple[Text, str, int, int]] = []
    real_source: Text = ""
    named: bool = False
    mounts: dict[str, Text] = {}
    document: Text = ""
    references: dict[str, Any] = {}
    loose_too: bool = False
    loose_drives: dict[str, str] = {}
    destinations: list[Goal] = Field(min_length=1)
    after: After = After.KEEP
    leave_out: list[str] = []
    discard: list[str] = []
    planned_at: float
    estimate: float = 0.0
    consent: bool = False
    identity: dict[str, Any] | None = None
    decisions: list[Text] = []

    @property
    def trusts(self) -> bool:
        """True for an update: what stays in the copy is taken from its lists, not read."""
        return self.update is not None and not self.restores

    @property
    def whole(self) -> str:
        """The id of the library that it is, or that it is a part of."""
        return self.whole_id or self.library_id

    @property
    def real_root(self) -> Path:
        """The folder it is taken from, without links on the way."""
        return Path(self.real_source or self.source)

    def target(self, number: int) -> str:
        """Where the library is to stand on one destination, to be told."""
        return self.destinations[number].told

    def as_json(self) -> dict[str, Any]:
        """As the journal and the staging folder keep it."""
        return self.model_dump(mode="python", by_alias=True)


def parse_header(text: str | None) -> Header | None:
    """A header from its text; None where the plan was not written.

    The first ones knew one destination only, and before version 8 a library had one name for all.

    Raises:
        ValueError: it makes no sense.
    """
    if not text:
        return None
    said = json.loads(text)
    if not isinstance(said, dict) or not said:
        raise ValueError("the plan's header is not understood")
    if "destinations" not in said and "destination" in said:
        said["destinations"] = [
            {"path": said.pop("destination"), "drive": said.pop("destination_drive", None)}
        ]
    destinations = said.get("destinations")
    for goal in destinations if isinstance(destinations, list) else ():
        if isinstance(goal, dict) and "name" in said:
            goal.setdefault("name", said["name"])
    try:
        return Header.model_validate(said)
    except ValidationError as error:
        raise ValueError("the plan's header is not understood") from error
