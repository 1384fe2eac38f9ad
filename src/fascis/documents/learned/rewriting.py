"""A document of unknown make, written anew: the cells change, and it is proven."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import zip_longest

from fascis.documents.learned.changing import Changes, Wanted, copies_of, copy_edits
from fascis.documents.learned.reading import Followed, Reading
from fascis.documents.learned.tables import Cell, Contents, Unreadable

# No path: one of the two has more rows.
_NONE = "\0"


def edits_for(
    contents: Contents,
    readings: Sequence[Reading],
    wanted: Sequence[Wanted],
    drives: Mapping[str, str] | None = None,
) -> dict[Cell, str]:
    """The edits that make rows lead elsewhere.

    Args:
        wanted: for each reading, where each row is to lead.

    Raises:
        Unreadable: the document cannot say so, or it is not sure what else would have to change.
    """
    every = [Followed(contents, reading, drives) for reading in readings]
    used = {column for followed in every for column in followed.used()}
    edits: dict[Cell, str] = {}
    for followed, some in zip(every, wanted, strict=True):
        mine = Changes(followed, drives).make(some)
        if not mine:
            continue
        copies = copies_of(contents, followed, used)
        if copies.doubtful:
            raise Unreadable(
                f"What it keeps in {copies.doubtful[0]} follows its paths in part, and it is not "
                "known how."
            )
        mine |= copy_edits(copies.follow, followed.table, followed, some)
        for cell, value in mine.items():
            if edits.setdefault(cell, value) != value:
                raise Unreadable(
                    "Two of its fields share a place, and are to say different things."
                )
    return edits


def prove_paths(
    contents: Contents,
    readings: Sequence[Reading],
    before: Sequence[Iterable[str | None]],
    wanted: Sequence[Wanted],
    drives: Mapping[str, str] | None = None,
) -> None:
    """Reads a document that was written anew: every path is as it was to be.

    Args:
        before: the paths of all rows, for each reading.

    Raises:
        Unreadable: one is not.
    """
    for reading, old, new in zip(readings, before, wanted, strict=True):
        now = Followed(contents, reading, drives).paths()
        for row, (was, is_now) in enumerate(zip_longest(old, now, fillvalue=_NONE)):
            if is_now != (was if was is None else new(row, was)):
                raise Unreadable("A path would not be read back as it was to be.")
