"""Problems of a plan: how bad, what, which files, and what to do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from fascis.files.sizes import counted


class Severity(StrEnum):
    """How bad a problem is."""

    STOPS = "stops"
    DECISION = "decision"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Problem:
    """One problem.

    ``code`` is from the closed list in docs/formats.md; ``files`` are places, at most 1,000 of
    them.

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
WHY = {
    "left-out": "left out by the plan",
    "changed": "not as it was when it was copied",
    "appeared": "made since the survey",
    "open": "open in another program",
    "special": "neither a file nor a folder nor a link",
    "not-verified": "its copy is not verified",
    "link": "a link, which that drive cannot hold",
    "mount": "something else is mounted there",
    "not-permitted": "may not be deleted",
    "copy-missing": "its copy is missing",
    "copy-changed": "its copy was changed since it was verified",
    "open-not-known": "whether another program has it open cannot be known here",
    "damaged": "damaged where it lies",
    "not-empty": "the folder is not empty",
    "used-elsewhere": "others still need it",
}


OF_DESTINATION = frozenset(
    c
    for c in CODES
    if c.startswith(
        (
            "destination-",
            "name-",
            "names-",
            "drive-",
            "also-",
            "rules-",
            "times-",
            "backup-",
            "system-",
            "nearly-",
        )
    )
) | frozenset(
    (
        "same-drive",
        "same-disk",
        "same-library-there",
        "library-inside-destination",
        "not-enough-room",
        "file-too-large",
        "links-not-kept",
        "hard-links-not-kept",
        "permissions-not-kept",
        "attributes-not-kept",
        "holes-not-kept",
        "network-drive",
        "away",
        "not-holdable",
    )
)


def stops(problems: Sequence[Problem]) -> bool:
    """True when any stops the crossing whatever is decided."""
    return any(p.severity is Severity.STOPS for p in problems)


def needs_decision(problems: Sequence[Problem]) -> bool:
    """True when any asks for a decision."""
    return any(p.severity is Severity.DECISION for p in problems)


def stays_because(left: Mapping[str, Any]) -> str:
    """Why an original stays, in words, from its entry in ``left_behind``."""
    words, by = WHY.get(left["why"], left["why"]), left.get("by") or []
    more = f" and {counted(len(by) - 1, 'other')}" if len(by) > 1 else ""
    return f"{words}: {by[0]}{more}" if by else words
