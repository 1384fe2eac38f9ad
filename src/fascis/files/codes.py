"""Every code of a problem, a refusal or an original that stays.

The lists in docs/formats.md are these; a test compares them.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Self

from fascis.words.speech import tr


class Severity(StrEnum):
    """How bad a problem is."""

    STOPS = "stops"
    DECISION = "decision"
    NOTE = "note"


class Scope(StrEnum):
    """What a problem concerns."""

    LIBRARY = "library"
    DESTINATION = "destination"
    CROSSING = "crossing"


class Code(StrEnum):
    """What is wrong, for programs; the sentence beside it is for people.

    Attributes:
        severity: its severity, unless the caller sets another.
        scope: what it concerns; choosing another destination solves problems of a destination.
    """

    severity: Severity
    scope: Scope

    def __new__(cls, code: str, severity: Severity, scope: Scope) -> Self:
        """A string with two attributes."""
        member = str.__new__(cls, code)
        member._value_ = code
        member.severity, member.scope = severity, scope
        return member

    LIBRARY_MISSING = "library-missing", Severity.STOPS, Scope.LIBRARY
    LIBRARY_NOT_A_FOLDER = "library-not-a-folder", Severity.STOPS, Scope.LIBRARY
    LIBRARY_EMPTY = "library-empty", Severity.STOPS, Scope.LIBRARY
    LIBRARY_UNREADABLE = "library-unreadable", Severity.STOPS, Scope.LIBRARY
    IDENTITY_DAMAGED = "identity-damaged", Severity.STOPS, Scope.LIBRARY
    DESTINATION_MISSING = "destination-missing", Severity.STOPS, Scope.DESTINATION
    DESTINATION_NOT_A_FOLDER = "destination-not-a-folder", Severity.STOPS, Scope.DESTINATION
    DESTINATION_NOT_PERMITTED = "destination-not-permitted", Severity.STOPS, Scope.DESTINATION
    DESTINATION_READ_ONLY = "destination-read-only", Severity.STOPS, Scope.DESTINATION
    DESTINATION_INSIDE_LIBRARY = "destination-inside-library", Severity.STOPS, Scope.DESTINATION
    DESTINATION_IN_A_LIBRARY = "destination-in-a-library", Severity.STOPS, Scope.DESTINATION
    LIBRARY_INSIDE_DESTINATION = "library-inside-destination", Severity.STOPS, Scope.DESTINATION
    SAME_DRIVE = "same-drive", Severity.STOPS, Scope.DESTINATION
    SAME_DISK = "same-disk", Severity.DECISION, Scope.DESTINATION
    ALSO_SAME_DRIVE = "also-same-drive", Severity.STOPS, Scope.DESTINATION
    ALSO_SAME_DISK = "also-same-disk", Severity.DECISION, Scope.DESTINATION
    DESTINATION_EXISTS = "destination-exists", Severity.STOPS, Scope.DESTINATION
    SAME_LIBRARY_THERE = "same-library-there", Severity.DECISION, Scope.DESTINATION
    NAME_NOT_USABLE = "name-not-usable", Severity.STOPS, Scope.DESTINATION
    NOT_ENOUGH_ROOM = "not-enough-room", Severity.STOPS, Scope.DESTINATION
    NO_ROOM_FOR_JOURNAL = "no-room-for-journal", Severity.STOPS, Scope.LIBRARY
    FILE_TOO_LARGE = "file-too-large", Severity.STOPS, Scope.DESTINATION
    NAME_NOT_POSSIBLE = "name-not-possible", Severity.DECISION, Scope.DESTINATION
    NAME_TAKEN = "name-taken", Severity.DECISION, Scope.DESTINATION
    NAMES_BECOME_ONE = "names-become-one", Severity.DECISION, Scope.DESTINATION
    NAMES_GIVEN_BACK = "names-given-back", Severity.NOTE, Scope.DESTINATION
    NOT_HOLDABLE = "not-holdable", Severity.NOTE, Scope.DESTINATION
    RULES_ASSUMED = "rules-assumed", Severity.NOTE, Scope.DESTINATION
    TIMES_NOT_KEPT = "times-not-kept", Severity.NOTE, Scope.DESTINATION
    LINKS_NOT_KEPT = "links-not-kept", Severity.DECISION, Scope.DESTINATION
    HARD_LINKS_NOT_KEPT = "hard-links-not-kept", Severity.NOTE, Scope.DESTINATION
    PERMISSIONS_NOT_KEPT = "permissions-not-kept", Severity.NOTE, Scope.DESTINATION
    ATTRIBUTES_NOT_KEPT = "attributes-not-kept", Severity.NOTE, Scope.DESTINATION
    TIMES_COARSER = "times-coarser", Severity.NOTE, Scope.DESTINATION
    HOLES_NOT_KEPT = "holes-not-kept", Severity.NOTE, Scope.DESTINATION
    SPECIAL_FILES = "special-files", Severity.NOTE, Scope.LIBRARY
    NESTED_MOUNTS = "nested-mounts", Severity.DECISION, Scope.LIBRARY
    LIBRARY_OPEN = "library-open", Severity.STOPS, Scope.LIBRARY
    DOCUMENT_PROTECTED = "document-protected", Severity.STOPS, Scope.CROSSING
    DOCUMENT_CHANGED = "document-changed", Severity.STOPS, Scope.CROSSING
    NOT_RELINKED = "not-relinked", Severity.STOPS, Scope.CROSSING
    BUSY = "busy", Severity.STOPS, Scope.CROSSING
    NOTHING_TO_UNDO = "nothing-to-undo", Severity.STOPS, Scope.CROSSING
    OPEN_NOT_KNOWN = "open-not-known", Severity.NOTE, Scope.LIBRARY
    NETWORK_DRIVE = "network-drive", Severity.NOTE, Scope.DESTINATION
    BACKUP_DRIVE = "backup-drive", Severity.DECISION, Scope.DESTINATION
    SYSTEM_DRIVE = "system-drive", Severity.NOTE, Scope.DESTINATION
    DRIVE_ERRORS = "drive-errors", Severity.DECISION, Scope.DESTINATION
    DRIVE_SILENT = "drive-silent", Severity.STOPS, Scope.DESTINATION
    DRIVE_TWINS = "drive-twins", Severity.STOPS, Scope.DESTINATION
    NEARLY_FULL_AFTER = "nearly-full-after", Severity.NOTE, Scope.DESTINATION
    DISCARD_NOT_POSSIBLE = "discard-not-possible", Severity.NOTE, Scope.LIBRARY
    REFERENCES_MISSING = "references-missing", Severity.DECISION, Scope.LIBRARY
    REFERENCES_AWAY = "references-away", Severity.DECISION, Scope.LIBRARY
    NOT_UNDERSTOOD = "not-understood", Severity.DECISION, Scope.LIBRARY
    NOT_MEDIA = "not-media", Severity.NOTE, Scope.LIBRARY
    NOT_GATHERED = "not-gathered", Severity.NOTE, Scope.LIBRARY
    IN_TWO_PLACES = "in-two-places", Severity.NOTE, Scope.CROSSING
    USED_ELSEWHERE = "used-elsewhere", Severity.NOTE, Scope.LIBRARY
    WOULD_BREAK = "would-break", Severity.STOPS, Scope.LIBRARY
    USED_LEFT_OUT = "used-left-out", Severity.DECISION, Scope.CROSSING
    NOT_ALL_LOOKED_AT = "not-all-looked-at", Severity.NOTE, Scope.LIBRARY
    OUT_OF_BALANCE = "out-of-balance", Severity.STOPS, Scope.CROSSING
    NESTED_SUBVOLUMES = "nested-subvolumes", Severity.NOTE, Scope.LIBRARY
    PART_NOT_THERE = "part-not-there", Severity.STOPS, Scope.LIBRARY
    JOURNAL_UNMERGED = "journal-unmerged", Severity.DECISION, Scope.LIBRARY
    CANNOT_SET_ASIDE = "cannot-set-aside", Severity.STOPS, Scope.LIBRARY
    HELD_BY_ANOTHER = "held-by-another", Severity.STOPS, Scope.CROSSING
    AWAY = "away", Severity.STOPS, Scope.DESTINATION
    UNREADABLE = "unreadable", Severity.DECISION, Scope.CROSSING
    CHANGING = "changing", Severity.DECISION, Scope.CROSSING
    VANISHED = "vanished", Severity.DECISION, Scope.CROSSING
    MISMATCH = "mismatch", Severity.DECISION, Scope.CROSSING
    DAMAGED_AT_SOURCE = "damaged-at-source", Severity.DECISION, Scope.CROSSING
    COPY_IS_AHEAD = "copy-is-ahead", Severity.DECISION, Scope.CROSSING
    LIST_MISMATCH = "list-mismatch", Severity.DECISION, Scope.CROSSING
    DRIVE_FULL = "drive-full", Severity.STOPS, Scope.DESTINATION
    DRIVE_GONE = "drive-gone", Severity.STOPS, Scope.DESTINATION
    INTERRUPTED = "interrupted", Severity.STOPS, Scope.CROSSING
    NOT_PROVEN = "not-proven", Severity.STOPS, Scope.CROSSING
    ONLY_COMPARED = "only-compared", Severity.STOPS, Scope.CROSSING
    COPY_CHANGED = "copy-changed", Severity.STOPS, Scope.CROSSING
    CHANGED_SINCE_SURVEY = "changed-since-survey", Severity.STOPS, Scope.CROSSING
    WORKED_IN_SINCE = "worked-in-since", Severity.STOPS, Scope.CROSSING
    NOT_LOOKED = "not-looked", Severity.STOPS, Scope.CROSSING
    NOT_CONFIRMED = "not-confirmed", Severity.DECISION, Scope.CROSSING
    WRONG_STATE = "wrong-state", Severity.STOPS, Scope.CROSSING
    NOT_PERMITTED = "not-permitted", Severity.STOPS, Scope.CROSSING
    JOURNAL_DAMAGED = "journal-damaged", Severity.STOPS, Scope.CROSSING
    TROUBLE = "trouble", Severity.STOPS, Scope.CROSSING


class Stays(StrEnum):
    """Why an original stays where it is.

    Attributes:
        words: the same for people.
    """

    words: str

    def __new__(cls, code: str, words: str = "") -> Self:
        """A string with words."""
        member = str.__new__(cls, code)
        member._value_ = code
        member.words = words
        return member

    LEFT_OUT = "left-out", tr("left out by the plan")
    CHANGED = "changed", tr("changed since it was copied")
    APPEARED = "appeared", tr("added since the survey")
    OPEN = "open", tr("open in another program")
    SPECIAL = "special", tr("not a file, folder or link")
    NOT_VERIFIED = "not-verified", tr("its copy is not verified")
    LINK = "link", tr("a link, which that drive cannot store")
    MOUNT = "mount", tr("something else is mounted there")
    NOT_PERMITTED = "not-permitted", tr("you have no permission to delete it")
    COPY_MISSING = "copy-missing", tr("its copy is missing")
    COPY_CHANGED = "copy-changed", tr("its copy was changed since it was verified")
    OPEN_NOT_KNOWN = (
        "open-not-known",
        tr("Fascis cannot tell whether another program has it open"),
    )
    DAMAGED = "damaged", tr("damaged at the source")
    NOT_EMPTY = "not-empty", tr("the folder is not empty")
    USED_ELSEWHERE = "used-elsewhere", tr("still used by others")
