"""What needs attention in a crossing: a code, its severity, the drive, and a sentence.

Journals store the sentence as a person saw it.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Self

from fascis.crossing.model.states import CopyState
from fascis.files.codes import Severity
from fascis.files.names import shown
from fascis.words.speech import tr


class On(StrEnum):
    """Which drive a notice concerns."""

    SOURCE = "source"
    DESTINATION = "destination"


class Notice(StrEnum):
    """One thing that can need attention while files are copied and read back.

    Attributes:
        severity: whether it needs a decision or is only information.
        on: the drive it concerns.
        words: the sentence after the file's place; some have a field.
    """

    severity: Severity
    on: On
    words: str

    def __new__(
        cls, code: str, severity: Severity = Severity.NOTE, on: On = On.SOURCE, words: str = ""
    ) -> Self:
        """A string with attributes."""
        member = str.__new__(cls, code)
        member._value_ = code
        member.severity, member.on, member.words = severity, on, words
        return member

    UNREADABLE = (
        "unreadable",
        Severity.DECISION,
        On.SOURCE,
        tr("it cannot be read; the other files are copied. Its original is kept"),
    )
    CHANGING = (
        "changing",
        Severity.DECISION,
        On.SOURCE,
        tr("it keeps changing while it is copied; close the program that writes to it"),
    )
    VANISHED = (
        "vanished",
        Severity.DECISION,
        On.SOURCE,
        tr("it was there when the plan was made, and is gone now"),
    )
    DAMAGED = (
        "damaged-at-source",
        Severity.DECISION,
        On.SOURCE,
        tr(
            "its size and time are those on record, but its content is not: it is "
            "damaged at the source. It is copied only if you decide so; its original "
            "is never deleted"
        ),
    )
    LIST_MISMATCH = (
        "list-mismatch",
        Severity.DECISION,
        On.SOURCE,
        tr(
            "a hash list says otherwise: it changed since that list was made. It is "
            "copied only if you decide so; its original is never deleted"
        ),
    )
    MISMATCH = (
        "mismatch",
        Severity.DECISION,
        On.DESTINATION,
        tr("read back wrong three times; this drive is unreliable. The original is untouched"),
    )
    READ_BACK_WRONG = (
        "read-back-wrong",
        Severity.NOTE,
        On.DESTINATION,
        tr("read back wrong {times}, copied again, now equal. Watch this drive"),
    )
    CHANGED = (
        "changed-since-survey",
        Severity.NOTE,
        On.SOURCE,
        tr("changed since it was surveyed; the copy is the newer one"),
    )
    TAKEN_DAMAGED = (
        "taken-damaged",
        Severity.NOTE,
        On.SOURCE,
        tr(
            "it is damaged at the source (its content is not the one on record); it "
            "was copied as it is, and its original is kept"
        ),
    )
    ZEROS = (
        "zeros",
        Severity.NOTE,
        On.SOURCE,
        tr("it contains nothing but zeros, and so does its copy: check that this is intended"),
    )
    ATTRIBUTES_LOST = (
        "attributes-lost",
        Severity.NOTE,
        On.DESTINATION,
        tr("extended attributes of it were not kept, because this drive cannot hold them: {names}"),
    )


HINDRANCE = {
    CopyState.UNREADABLE: Notice.UNREADABLE,
    CopyState.CHANGING: Notice.CHANGING,
    CopyState.VANISHED: Notice.VANISHED,
    CopyState.DAMAGED: Notice.DAMAGED,
    CopyState.MISMATCH: Notice.MISMATCH,
}
"""Why a file has no verified copy, by the state of its copy."""


def hindrance_sentence(place: bytes, why: Notice) -> str:
    """One sentence on a file that could not be copied."""
    return f"{shown(place)}: {why.words}."
