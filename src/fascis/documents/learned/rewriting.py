"""Rewriting a document of unknown make: changing the cells, and proving the result."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fascis.documents.learned.changing import Changes, Copies, Paths, copies_of, copy_edits
from fascis.documents.learned.reading import Followed, Reading
from fascis.documents.learned.tables import Cell, Contents, Unreadable
from fascis.words.speech import tr


def copies_in(every: Sequence[Followed], before: Sequence[Paths]) -> list[Copies]:
    """Repeated values of the rows' paths, for each reading of a document."""
    used = {column for followed in every for column in followed.used()}
    return [copies_of(one, paths, used) for one, paths in zip(every, before, strict=True)]


def edits_for(
    every: Sequence[Followed],
    before: Sequence[Paths],
    after: Sequence[Paths],
    drives: Mapping[str, str] | None = None,
    known: Sequence[Copies] = (),
) -> dict[Cell, str]:
    """The edits that give rows their new paths.

    Args:
        every: all readings of a document, applied to it.
        before, after: for each of them, every row's present and new path.
        known: repeated values, if found already.

    Raises:
        Unreadable: the document cannot say so, or it is not sure what else would have to change.
    """
    edits: dict[Cell, str] = {}
    every_copies = known or copies_in(every, before)
    for followed, old, new, copies in zip(every, before, after, every_copies, strict=True):
        mine = Changes(followed, drives).make(old, new)
        if not mine:
            continue
        if copies.doubtful:
            raise Unreadable(
                tr(
                    "What it keeps in {doubtful} follows its paths in part, and it is not "
                    "known how.",
                    doubtful=copies.doubtful[0],
                )
            )
        mine |= copy_edits(copies.follow, followed.table, old, new)
        for cell, value in mine.items():
            if edits.setdefault(cell, value) != value:
                raise Unreadable(
                    tr("Two of its fields share a place, and are to say different things.")
                )
    return edits


def prove_paths(
    contents: Contents,
    readings: Sequence[Reading],
    after: Sequence[Paths],
    drives: Mapping[str, str] | None = None,
) -> None:
    """Reads a rewritten document: every path must be as planned.

    Args:
        after: for each reading, every row's new path.

    Raises:
        Unreadable: one is not.
    """
    for reading, wanted in zip(readings, after, strict=True):
        followed = Followed(contents, reading, drives)
        if len(followed.table) != len(wanted) or any(
            now != to for now, to in zip(followed.paths(), wanted, strict=True)
        ):
            raise Unreadable(tr("A path would not read back correctly."))
