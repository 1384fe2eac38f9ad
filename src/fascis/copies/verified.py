"""Verifying a library where it stands, and remembering when that was and what was found."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from fascis.crossing.copying.verifying import Verification, verify
from fascis.crossing.scope.surveyed import survey_library
from fascis.files.control import Control
from fascis.files.disk.medium import Medium, read_small
from fascis.files.errors import Damaged, EnvironmentTrouble
from fascis.files.hash_lists import HashList
from fascis.files.names import join, place_text
from fascis.library.identity import OWN, read_identity
from fascis.library.known.places import id_at
from fascis.library.standing import Standing
from fascis.workspace import Workspace

RECEIPTS = OWN + b"/receipts"
_LARGEST_RECEIPT = 64 << 20


@dataclass(slots=True)
class Verified:
    """What was found of one library.

    Attributes:
        at: in seconds since 1970.
        unresolved: what its documents refer to and is not there, though its drive is; what was left
            out by choice is not among it.
    """

    root: Path
    found: Verification
    at: float
    unresolved: list[str] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """True when nothing is damaged, missing, or referred to in vain."""
        return self.found.sound and not self.unresolved

    def as_json(self) -> dict[str, Any]:
        """As the command line gives it."""
        names = ("edited", "damaged", "missing", "unlisted")
        return {
            "library": place_text(bytes(self.root)),
            "files": self.found.files,
            "bytes": self.found.bytes,
            "matching": self.found.matching,
            **{n: [place_text(p) for p in getattr(self.found, n)] for n in names},
            "list_mismatch": [place_text(p) for p in self.found.list_mismatch],
            "list_missing": [place_text(p) for p in self.found.list_missing],
            "list_missing_files": self.found.list_missing_files,
            "references_unresolved": self.unresolved,
            "proven": self.found.proven,
            "verified_at": datetime.fromtimestamp(self.at, UTC).isoformat(),
        }


def verify_at(
    workspace: Workspace,
    root: Path,
    control: Control,
    beat: Callable[[int, int, int], None] = lambda _f, _b, _of: None,
    gentle: bool = False,
    lists: Sequence[HashList] = (),
) -> Verified:
    """Reads a library or a copy of one again, and remembers what was found. Writes nothing there.

    Args:
        beat: is told how many files and bytes were read, and of how many bytes.
        lists: hash lists of others that are compared too.
        gentle: leaves the drive to others half of the time.

    Raises:
        Damaged: it has no manifest, or one that cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    drive = workspace.drives.at(root)
    with closing(workspace.drives.open(root)) as medium:
        found = verify(medium, root, control, beat, drive, gentle, lists)
        left_out = roles_left_out(medium)
        identity = read_identity(medium, root)
    at = workspace.clock()
    surveyed = survey_library(workspace, root, None, control, looks=False)
    missing = [o for o in surveyed.uses.of(Standing.MISSING) if o.role.value not in left_out]
    unresolved = [place_text(o.path.removeprefix(surveyed.below)) for o in missing]
    library = identity.library_id if identity else id_at(workspace.register, root)
    if library and workspace.register.path.exists():
        damaged = len(found.damaged) + len(found.missing)
        workspace.register.put_verified(
            library, root, drive.uuid, found.proven, found.files, damaged
        )
    return Verified(root, found, at, unresolved)


def roles_left_out(medium: Medium) -> set[str]:
    """The roles that were left out, or discarded, by choice in the crossings of a library.

    From its receipts; nothing where these cannot be read.
    """
    found: set[str] = set()
    try:
        names = medium.names(RECEIPTS) if medium.exists(RECEIPTS) else []
    except OSError:
        return found
    for name in names:
        if not name.endswith(b".json"):
            continue
        try:
            said = json.loads(read_small(medium, join(RECEIPTS, name), _LARGEST_RECEIPT))
            for part in ("left_out", "discarded"):
                found |= {str(role) for role in said[part]["roles"]}
        except (OSError, EnvironmentTrouble, Damaged, ValueError, KeyError, TypeError):
            continue
    return found
