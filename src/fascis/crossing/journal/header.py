"""The header of a crossing's plan, as stored in its journal: written once, then only read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, ValidationError

from fascis.crossing.model.afterwards import After
from fascis.drives.rules import Answers
from fascis.files.names import fsname, join, shown
from fascis.library.own import OWN


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
    """Stored facts about a drive.

    Its name for messages, where it was mounted, and the results of its test.
    """

    uuid: str
    label: Text
    filesystem: str = ""
    stand_in: bool = False
    mount: Text = "/"
    answers: dict[str, Any] | None = None

    def said(self) -> Answers | None:
        """The results of its test when the crossing started; None if it was not tested."""
        return Answers.from_json(self.answers) if self.answers else None


class Goal(_Facts):
    """One destination: how the library lands there, and the drive.

    ``path`` is the folder that will contain it, ``name`` the name of its own folder there. In an
    existing folder there is no name, and places count from ``path``; ``inner`` is then the place in
    that folder where a person finds it, and ``library`` the id of the library whose records are
    amended. ``updates`` is True if that is a copy of the same library, which is updated.
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
        """True if it lands in a folder that existed before."""
        return self.landing == "existing-folder"

    @property
    def joins(self) -> bool:
        """True if it becomes part of an existing library or folder."""
        return self.stands and not self.updates

    @property
    def told(self) -> str:
        """The path where a person finds the copy, for messages."""
        return "/".join(shown(part) for part in (self.path, self.name or self.inner) if part)


class PartFacts(_Facts):
    """The projects and folders that are copied, if not the whole library."""

    projects: list[Text]
    folders: list[Text]

    def holds(self, place: bytes) -> bool:
        """True for a place in one of its folders: new files there belong to it."""
        if place == OWN or place.startswith(OWN + b"/"):
            return False
        return any(place.startswith(join(fsname(f), b"")) for f in self.folders)


class UpdateFacts(_Facts):
    """How many files an update of a copy adds, changes, moves, removes and leaves."""

    added: int = 0
    changed: int = 0
    moved: int = 0
    removed: int = 0
    unchanged: int = 0

    @property
    def changes(self) -> int:
        """How many files change."""
        return self.added + self.changed + self.moved + self.removed


class SplitFacts(_Facts):
    """The split to which a crossing belongs.

    Attributes:
        id: the split's.
        number, of: which of how many parts it is, from 0.
        after: what happens when all parts are verified.
        before_bytes, parts_bytes: the length of the library, and of all parts together.
        stays_files, stays_bytes: files in no part.
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

    Later versions add to it: a missing value in an older journal has its default here.

    Attributes:
        crossing, token: the crossing's id, and the secret that proves what it made.
        library_id, whole_id: the library's id; for a part, the id of the whole library.
        name, called: its name at the new place, and its known name.
        source, real_source: its folder as it was named, and without links.
        follows: documents that stay are updated before home moves.
        split: the split that it is a part of.
        also: documents and libraries checked besides the known ones before originals are deleted.
        of_catalog: the catalog whose folder it is, or nothing.
        update: what an update of a copy changes in it.
        restores: documents get their earlier bytes, where these are right.
        landmarks: ``(path, encoding, size, mtime_ns)`` of some of its files, by which its folder is
            recognised.
        mounts: where each drive was mounted, by its UUID.
        document: the name of a single document, or nothing.
        destinations: the first becomes home.
        planned_at: in seconds since 1970; ``estimate`` in seconds.
        loose_drives: on which drive each folder of loose files was.
        decisions: sentences about decisions before the start.
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
        """True for an update: unchanged files of the copy are taken from its lists, not read."""
        return self.update is not None and not self.restores

    @property
    def whole(self) -> str:
        """The id of the library or, for a part, of the whole library."""
        return self.whole_id or self.library_id

    @property
    def real_root(self) -> Path:
        """The source folder, with links resolved."""
        return Path(self.real_source or self.source)

    def target(self, number: int) -> str:
        """The path of the library on one destination, for messages."""
        return self.destinations[number].told

    def as_json(self) -> dict[str, Any]:
        """As stored in the journal and the staging folder."""
        return self.model_dump(mode="python", by_alias=True)


def parse_header(text: str | None) -> Header | None:
    """A header from its text; None if the plan was not written.

    The first versions had only one destination, and before version 8 a library had one name for
    all.

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
