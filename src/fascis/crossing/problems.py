"""Problems of a plan: how bad, what, which files, and what to do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum


class Severity(StrEnum):
    """How bad a problem is."""

    STOPS = "stops"
    DECISION = "decision"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Problem:
    """One problem. ``code`` is from the closed list in docs/formats.md; ``files`` are places, at most 1,000 of them.

    ``brief`` says it in a few words, where there is no room for the sentence.
    """

    severity: Severity
    code: str
    sentence: str
    remedy: str = ""
    files: tuple[bytes, ...] = ()
    brief: str = ""


CODES = (
    "library-missing",
    "library-not-a-folder",
    "library-empty",
    "library-unreadable",
    "identity-damaged",
    "destination-missing",
    "destination-not-a-folder",
    "destination-not-permitted",
    "destination-read-only",
    "destination-inside-library",
    "destination-in-a-library",
    "library-inside-destination",
    "same-drive",
    "same-disk",
    "also-same-drive",
    "also-same-disk",
    "destination-exists",
    "same-library-there",
    "name-not-usable",
    "not-enough-room",
    "no-room-for-journal",
    "file-too-large",
    "name-not-possible",
    "names-become-one",
    "names-given-back",
    "not-holdable",
    "rules-assumed",
    "times-not-kept",
    "links-not-kept",
    "hard-links-not-kept",
    "permissions-not-kept",
    "attributes-not-kept",
    "times-coarser",
    "holes-not-kept",
    "special-files",
    "nested-mounts",
    "library-open",
    "document-protected",
    "document-changed",
    "not-relinked",
    "busy",
    "nothing-to-undo",
    "open-not-known",
    "network-drive",
    "backup-drive",
    "system-drive",
    "drive-errors",
    "drive-silent",
    "drive-twins",
    "nearly-full-after",
    "discard-not-possible",
    "references-missing",
    "references-away",
    "not-understood",
    "not-media",
    "not-gathered",
    "in-two-places",
    "used-elsewhere",
    "would-break",
    "used-left-out",
    "not-all-looked-at",
    "out-of-balance",
    "nested-subvolumes",
    "part-not-there",
    "journal-unmerged",
    "cannot-set-aside",
    "held-by-another",
    "away",
    "unreadable",
    "changing",
    "vanished",
    "mismatch",
    "damaged-at-source",
    "drive-full",
    "drive-gone",
    "interrupted",
    "not-proven",
    "only-compared",
    "copy-changed",
    "changed-since-survey",
    "worked-in-since",
    "not-looked",
    "not-confirmed",
    "wrong-state",
    "not-permitted",
    "journal-damaged",
    "trouble",
)
WHY = (
    "left-out",
    "changed",
    "appeared",
    "open",
    "special",
    "not-verified",
    "link",
    "mount",
    "not-permitted",
    "copy-missing",
    "damaged",
    "not-empty",
    "used-elsewhere",
)


OF_DESTINATION = frozenset(
    c
    for c in CODES
    if c.startswith(("destination-", "name-", "names-", "drive-", "also-", "rules-", "times-", "backup-", "system-", "nearly-"))
) | frozenset(
    (
        "same-drive", "same-disk", "same-library-there", "library-inside-destination", "not-enough-room", "file-too-large",
        "links-not-kept", "hard-links-not-kept", "permissions-not-kept", "attributes-not-kept", "holes-not-kept", "network-drive",
        "away", "not-holdable",
    )
)  # fmt: skip


def stops(problems: Sequence[Problem]) -> bool:
    """True when any stops the crossing whatever is decided."""
    return any(p.severity is Severity.STOPS for p in problems)


def needs_decision(problems: Sequence[Problem]) -> bool:
    """True when any asks for a decision."""
    return any(p.severity is Severity.DECISION for p in problems)
