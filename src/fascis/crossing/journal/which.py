"""Conditions that select entries of a journal.

Every condition has a name, and its numbers are used nowhere else.
"""

from __future__ import annotations

from enum import IntEnum, StrEnum

from fascis.crossing.model.fates import Fate
from fascis.crossing.model.small import SMALL_FILE
from fascis.crossing.model.states import CopyState, Origin
from fascis.library.survey import Kind


def _in(column: str, *values: IntEnum) -> str:
    return f"{column} IN ({','.join(str(int(v)) for v in values)})"


def _all(*conditions: str) -> str:
    return " AND ".join(f"({c})" for c in conditions)


_LIBRARY, _LOOSE = "e.outside IS NULL", "e.outside IS NOT NULL"
_FILE, _LINK = _in("e.kind", Kind.FILE), _in("e.kind", Kind.LINK)
_GOES, _OWN, _ALONG = (
    _in("e.fate", Fate.COPY),
    _in("e.fate", Fate.OWN),
    _in("e.fate", Fate.COPY, Fate.OWN),
)
_COPIED, _VERIFIED = _in("c.state", CopyState.COPIED), _in("c.state", CopyState.VERIFIED)
_NONE = "c.state IS NULL"
_NOT_VERIFIED = f"{_NONE} OR NOT {_VERIFIED}"
# Its copy is a file that existed before: never written, never removed.
_STOOD, _MADE_HERE = "e.stands IS NOT NULL", "e.stands IS NULL"
_GONE, _INTENDED, _STAYS = (
    _in("e.origin", o) for o in (Origin.GONE, Origin.INTENDED, Origin.STAYS)
)
_THERE = f"NOT {_GONE}"
# Files that vanished without Fascis have a reason.
_BY_US = "e.why IS NULL"


class Which(StrEnum):
    """A condition on ``entry`` (e) and its copy on one destination (c), as SQL."""

    # copying
    NOT_COPIED_YET = _all(_NONE, _ALONG, _FILE, _MADE_HERE)
    SMALL_NOT_COPIED_YET = _all(
        _all(_NONE, _GOES, _FILE, _LIBRARY, _MADE_HERE, "e.twin IS NULL"),
        # A file with holes is copied with its holes.
        f"e.size<={SMALL_FILE} AND e.allocated>=e.size",
    )
    NOT_READ_BACK_YET = _all(_COPIED, _FILE, _MADE_HERE)
    READ_BACK = _all(_VERIFIED, _FILE, _MADE_HERE)
    STOOD = _all(_STOOD, _GOES, _FILE)
    STOOD_NOT_COMPARED_YET = _all(_STOOD, _GOES, _FILE, f"{_NONE} OR {_COPIED}")
    # Files that existed before were proven then.
    PERHAPS_FROM_MEMORY = _all(_VERIFIED, "c.proven=0", "NOT (e.stands IS NOT NULL AND c.at=0)")
    NOT_PROVEN = _all(_VERIFIED, "c.proven=0", _FILE, _ALONG)
    SECOND_NAMES = _all("e.twin IS NOT NULL", _NOT_VERIFIED, _ALONG)
    LINKS_TO_MAKE = _all(_LINK, _ALONG, _NOT_VERIFIED)
    LINKS_MADE = _all(_LINK, _GOES, _VERIFIED)
    # In a folder that the library itself does not have.
    KEPT_ELSEWHERE = f"{_OWN} OR c.rewritten=1"
    WRITTEN_ANEW = "c.rewritten=1"
    # Made by this crossing, which may move and clear it.
    MADE_HERE = _all(_MADE_HERE, _ALONG, f"{_COPIED} OR {_VERIFIED}")

    # What happens to it.
    GOING = _GOES
    GOING_VERIFIED = _all(_GOES, _VERIFIED)
    GOING_NOT_VERIFIED = _all(_GOES, _NOT_VERIFIED)
    GOING_HINDERED = _all(_GOES, f"c.state>{int(CopyState.VERIFIED)}")
    GOING_SKIPPED = _all(_GOES, _in("c.state", CopyState.SKIPPED))
    GOING_WRITTEN_ANEW = _all(_GOES, "c.rewritten=1")
    HOLDING_UP = _all(
        _ALONG, f"{_NONE} OR NOT {_in('c.state', CopyState.VERIFIED, CopyState.SKIPPED)}"
    )
    LEFT_OUT = _in("e.fate", Fate.LEFT_OUT)
    DISCARDED = _in("e.fate", Fate.DISCARD)
    GATHERED = _all(_GOES, _LOOSE)
    GATHERED_VERIFIED = _all(_GOES, _LOOSE, _VERIFIED)

    # originals, in the library
    MAY_GO = _all(_LIBRARY, _ALONG, _VERIFIED, _THERE)
    MAY_GO_UNCOPIED = _all(_LIBRARY, _in("e.fate", Fate.DISCARD), _FILE, _THERE)
    FILES_THAT_GO = _all(
        _LIBRARY, _FILE, f"({_GOES} AND {_VERIFIED}) OR {_in('e.fate', Fate.DISCARD)}", _THERE
    )
    RECORDS_THAT_GO = _all(_LIBRARY, _FILE, _OWN, _VERIFIED, _THERE)
    BEING_DELETED = _all(_LIBRARY, _INTENDED)
    FILES_THERE = _all(_LIBRARY, _FILE, _THERE)
    STAYING = _all(
        _LIBRARY,
        _THERE,
        f"{_in('e.fate', Fate.LEFT_OUT, Fate.SPECIAL, Fate.UNHOLDABLE, Fate.DISCARD)} OR {_STAYS} "
        f"OR {_NOT_VERIFIED}",
    )
    DELETED = _GONE
    DELETED_BY_US = _all(_GOES, _LIBRARY, _GONE, _BY_US)
    DISCARDED_BY_US = _all(_in("e.fate", Fate.DISCARD), _GONE, _BY_US)

    # loose originals
    LOOSE = _LOOSE
    LOOSE_THERE = _all(_LOOSE, _THERE)
    LOOSE_MAY_GO = _all(_LOOSE, _VERIFIED, _THERE)
    LOOSE_BEING_DELETED = _all(_LOOSE, _INTENDED)
    LOOSE_DELETED_BY_US = _all(_LOOSE, _GONE, _BY_US)
