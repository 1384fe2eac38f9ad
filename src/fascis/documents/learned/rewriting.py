"""A document of unknown make, written anew: the cells change, and it is proven."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Protocol

from fascis.documents.learned.changing import Changes, copies_of, copy_edits, used_columns
from fascis.documents.learned.reading import Followed, Reading
from fascis.documents.learned.tables import Cell, Contents, Unreadable


class Rewritable(Contents, Protocol):
    """A document that can be written anew."""

    def rewritten(self, edits: Mapping[Cell, str]) -> bytes | Path:
        """With some cells changed, and proven: nothing else is."""


def edits_for(
    contents: Contents,
    readings: Sequence[Reading],
    wanted: Sequence[Mapping[int, str]],
    drives: Mapping[str, str] | None = None,
) -> dict[Cell, str]:
    """The edits that make rows lead elsewhere.

    Args:
        wanted: for each reading, row → its path from now on.

    Raises:
        Unreadable: the document cannot say so, or it is not sure what else would have to change.
    """
    every = [Followed(contents, reading, drives) for reading in readings]
    used = {column for followed in every for column in used_columns(followed)}
    edits: dict[Cell, str] = {}
    for followed, some in zip(every, wanted, strict=True):
        if not some:
            continue
        mine = Changes(followed, drives).make(some)
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
    before: Sequence[Sequence[str | None]],
    wanted: Sequence[Mapping[int, str]],
    drives: Mapping[str, str] | None = None,
) -> None:
    """Reads a document that was written anew: every path is as it was to be.

    Args:
        before: the paths of all rows, for each reading.

    Raises:
        Unreadable: one is not.
    """
    for reading, old, new in zip(readings, before, wanted, strict=True):
        now = Followed(contents, reading, drives).paths
        if len(now) != len(old):
            raise Unreadable("It would have other rows than before.")
        for row, (was, is_now) in enumerate(zip(old, now, strict=True)):
            if is_now != new.get(row, was):
                raise Unreadable("A path would not be read back as it was to be.")
