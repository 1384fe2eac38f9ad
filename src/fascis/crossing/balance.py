"""The balance of originals and copy: what was checked, what was found on either side. Figures from surveys and the journal."""

from __future__ import annotations

import stat
from dataclasses import dataclass, field

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal import CopyState, Origin
from fascis.crossing.places import open_copy
from fascis.crossing.states import State
from fascis.crossing.still import Differences
from fascis.files.errors import FascisError
from fascis.files.names import place_text, shown
from fascis.files.sizes import number
from fascis.library.identity import OWN


@dataclass(frozen=True, slots=True)
class Check:
    """One line of the scales: figures of both sides as text, the verdict, and whether it is well."""

    name: str
    originals: str
    copy: str
    verdict: str
    well: bool
    detail: str = ""


@dataclass(slots=True)
class Balance:
    """All checks, failed ones first. ``weights`` are strand bytes on (originals, copy), largest first.

    ``newer`` became newer at the old place and is not decided; ``left`` stays there by decision.
    """

    checks: list[Check]
    weights: list[tuple[int, int]]
    newer: list[bytes] = field(default_factory=list)
    trouble: str = ""
    left: list[bytes] = field(default_factory=list)

    @property
    def even(self) -> bool:
        """True when nothing failed."""
        return not self.trouble and all(c.well for c in self.checks)


def _count_copy(crossing: Crossing) -> tuple[int, int]:
    """``(files, bytes)`` found in the copy now, Fascis's own folder left out."""
    medium = open_copy(crossing.workspace, crossing.places, crossing.journal)
    files = total = 0
    try:
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for status in folder.stats:
                if stat.S_ISREG(status.st_mode):
                    files += 1
                    total += status.st_size
    finally:
        medium.close()
    return files, total


def weigh(crossing: Crossing) -> Balance:
    """Looks at both places again and compares. Writes nothing. May take as long as two surveys."""
    journal = crossing.journal
    planned_files, planned_bytes = journal.going()
    verified_files, verified_bytes = journal.verified()
    released = crossing.state is State.RELEASED
    skipped = journal.count_copies([CopyState.SKIPPED])
    trouble = ""
    differences = Differences()
    copy_files = copy_bytes = 0
    try:
        copy_files, copy_bytes = _count_copy(crossing)
        if not released:
            differences = crossing.look_again()
    except FascisError as error:
        trouble = str(error)
    expected_files, expected_bytes = planned_files, planned_bytes
    if skipped:
        gone = journal.sums("e.fate=0 AND c.state=7")
        expected_files, expected_bytes = expected_files - gone[0], expected_bytes - gone[1]
    decided = set(journal.value("left_newer", []))
    fresh = crossing.goes_along(differences).newer
    newer = [p for p in fresh if place_text(p) not in decided]
    left = [p for p in fresh if place_text(p) in decided]
    gone_now = list(differences.gone)
    checks = [
        _newer(newer),
        _even("Files", expected_files, copy_files),
        _even("Bytes", expected_bytes, copy_bytes),
        _even(
            "Contents, read back from the drive" if journal.proven() else "Contents, read back, perhaps from memory",
            expected_files,
            verified_files,
            well=verified_files == expected_files and verified_bytes == expected_bytes,
        ),
    ]
    if skipped:
        checks.append(Check("Left behind by your choice, they stay", number(skipped), "0", "not copied", True))
    if gone_now:
        checks.append(
            Check("No longer at the old place", number(len(gone_now)), "", "copied before", True, shown(gone_now[0]))
        )
    if left:
        checks.append(
            Check("Newer, left there by your choice", number(len(left)), "", "they stay", True, shown(left[0]))
        )
    looked = journal.value("looked_at")
    checks.append(Check("Looked at by you", "", "yes" if looked else "not yet", "", True))
    checks.sort(key=lambda c: c.well)
    weights = [(s.bytes, s.verified_bytes) for s in journal.strands()]
    return Balance(checks, weights, newer, trouble, left)


def _newer(newer: list[bytes]) -> Check:
    names = ", ".join(shown(p) for p in newer[:3]) + (" …" if len(newer) > 3 else "")
    verdict = "to be decided" if newer else "none"
    return Check("Newer at the old place", number(len(newer)), "", verdict, not newer, names)


def _even(name: str, originals: int, copy: int, well: bool | None = None) -> Check:
    same = originals == copy if well is None else well
    return Check(name, number(originals), number(copy), "equal" if same else "not equal", same)


@dataclass(frozen=True, slots=True)
class Deleting:
    """What a release would delete now, and what would stay; ``frees`` is what it takes on the drive, in bytes."""

    places: list[bytes]
    files: int
    bytes: int
    frees: int
    stays: list[tuple[str, int, int]]


def deleting(crossing: Crossing, newer: list[bytes]) -> Deleting:
    """The exact list of originals that a release would delete, from the journal and the last look."""
    journal, fresh = crossing.journal, set(newer)
    places, total, frees = [], 0, 0
    for item in journal.items("e.kind=0 AND e.fate=0 AND c.state=2 AND e.origin<>2"):
        if item.place in fresh or item.origin is Origin.GONE:
            continue
        places.append(item.place)
        total += (item.seen or (item.size,))[0]
        frees += item.allocated if item.twin is None else 0
    stays = []
    for words, condition in (
        ("left out by the plan", "e.fate=1"),
        ("not copied", "e.fate=0 AND (c.state IS NULL OR c.state<>2)"),
    ):
        files, size = journal.sums(condition)
        if files:
            stays.append((words, files, size))
    if newer:
        stays.append(("newer at the old place", len(newer), 0))
    return Deleting(places, len(places), total, frees, stays)
