"""Verifying a library at its path, and storing when, and with which result."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from threading import Event
from typing import Any

from msgspec import Struct, field

from fascis.copies.verifying.verifying import Verification, verify
from fascis.files.control import Control, Within
from fascis.files.disk.medium import Medium, read_small
from fascis.files.errors import Damaged, EnvironmentTrouble
from fascis.files.hash_lists import HashList
from fascis.files.names import join, place_text
from fascis.library.identity import read_identity
from fascis.library.known.places import id_at
from fascis.library.own import OWN
from fascis.library.standing import Standing
from fascis.workspace import Workspace

RECEIPTS = OWN + b"/receipts"
_LARGEST_RECEIPT = 64 << 20


class Verified(Struct):
    """The result of verifying one library.

    Attributes:
        at: in seconds since 1970.
        unresolved: files that its documents refer to and that are missing although their drive is
            connected, except those left out by choice.
    """

    root: Path
    found: Verification
    at: float
    unresolved: list[str] = field(default_factory=list)

    @property
    def sound(self) -> bool:
        """True if nothing is damaged or missing, and every reference leads to a file."""
        return self.found.sound and not self.unresolved

    def as_json(self) -> dict[str, Any]:
        """As the command line shows it."""
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
    """Reads a library or a copy again, and stores the result. Writes nothing there.

    Args:
        beat: called with the files and bytes read so far, and the bytes in all.
        lists: other hash lists to compare with.
        gentle: leaves the drive free half of the time.

    Raises:
        Damaged: it has no manifest, or one that cannot be understood.
        EnvironmentTrouble: the drive failed.
    """
    drive = workspace.drives.at(root, measured=False)
    beside, reads = Within(control), Event()

    def tell(files: int, done: int, of: int) -> None:
        reads.set()
        beat(files, done, of)

    def look() -> list[str]:
        # First give the drive something to do.
        reads.wait()
        return _unresolved(workspace, root, left_out, beside)

    with closing(workspace.drives.open(root)) as medium, ThreadPoolExecutor(1, "survey") as thread:
        left_out = roles_left_out(medium)
        looking = thread.submit(look)
        try:
            found = verify(medium, root, control, tell, drive, gentle, lists)
        except BaseException:
            beside.stop()
            raise
        finally:
            reads.set()
        identity = read_identity(medium, root)
        unresolved = looking.result()
    at = workspace.clock()
    library = identity.library_id if identity else id_at(workspace.register, root)
    if library and workspace.register.path.exists():
        damaged = len(found.damaged) + len(found.missing)
        workspace.register.put_verified(
            library, root, drive.uuid, found.proven, found.files, damaged
        )
    return Verified(root, found, at, unresolved)


def _unresolved(
    workspace: Workspace, root: Path, left_out: set[str], control: Control
) -> list[str]:
    """Files that a library's documents refer to and that are missing."""
    # This imports half of the program; files are being read meanwhile.
    from fascis.crossing.scope.surveyed import survey_library

    surveyed = survey_library(workspace, root, None, control, looks=False)
    missing = [o for o in surveyed.uses.of(Standing.MISSING) if o.role.value not in left_out]
    return [place_text(o.path.removeprefix(surveyed.below)) for o in missing]


def roles_left_out(medium: Medium) -> set[str]:
    """The roles that were left out, or discarded, by choice in the crossings of a library.

    From its receipts; empty if these cannot be read.
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
