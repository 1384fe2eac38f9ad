"""Possible readings: every document of a library that is not understood is examined.

Nobody has to start this. The results are proposed, and stored in the register; a document is
examined again when it changes. Until somebody confirms a result, it stays not understood.
"""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict

from fascis.documents.registry import kind_named
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import EnvironmentTrouble
from fascis.library.learning.asking import Step, learn_all
from fascis.library.learning.learnt import Learnt
from fascis.library.references.uses import Uses
from fascis.workspace import Workspace


class Proposal(Struct, frozen=True):
    """The question about one document.

    Attributes:
        verdict, why: as in :class:`~fascis.library.learning.learnt.Learnt`.
        fields: the number of places with paths; ``values`` paths in all, ``found`` lead to files.
    """

    verdict: str
    why: str
    fields: int
    values: int
    found: int

    @classmethod
    def of(cls, learnt: Learnt) -> Proposal:
        """A summary of what was learnt."""
        return cls(learnt.verdict, learnt.why, len(learnt.fields), learnt.values, learnt.found)

    @property
    def asks(self) -> bool:
        """True if a confirmation would make the document understood."""
        return self.verdict != "refused" and self.fields > 0


def proposals(
    workspace: Workspace,
    root: Path,
    uses: Uses,
    control: Control = UNSTOPPED,
    step: Step = lambda _step, _number: None,
) -> dict[bytes, Proposal]:
    """Possible readings for documents of a surveyed library that are not understood, by place.

    Raises:
        Cancelled: ``control`` was stopped.
    """
    places = [place for place, _ in uses.not_understood if kind_named(place) is None]
    looks = {place: _look(root, place) for place in places}
    before = workspace.register.proposed() if workspace.register.path.exists() else {}
    found: dict[bytes, Proposal] = {}
    new: list[bytes] = []
    for place, look in looks.items():
        known = before.get(_path(root, place))
        if look and known and known[0] == look:
            found[place] = Proposal(**json.loads(known[1]))
        elif look:
            new.append(place)
    for place, learnt in zip(new, _learnt(workspace, root, new, control, step), strict=True):
        if isinstance(learnt, EnvironmentTrouble):
            continue
        found[place] = Proposal.of(learnt)
        said = json.dumps(asdict(found[place]))
        workspace.register.put_proposed(_path(root, place), looks[place], said)
    return found


def _learnt(
    workspace: Workspace, root: Path, places: Sequence[bytes], control: Control, step: Step
) -> list[Learnt | EnvironmentTrouble]:
    paths = [Path(os.fsdecode(_path(root, place))) for place in places]
    return learn_all(workspace, paths, [root], control, step)


def _path(root: Path, place: bytes) -> bytes:
    return os.path.join(bytes(root), place)


def _look(root: Path, place: bytes) -> str:
    """Shows whether a document changed; empty if it does not exist."""
    try:
        status = os.lstat(_path(root, place))
    except OSError:
        return ""
    return f"{status.st_size}:{status.st_mtime_ns}"
