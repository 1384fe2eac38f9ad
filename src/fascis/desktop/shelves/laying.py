"""The positions of libraries on a shelf: never beyond its end, or beyond the used share. Pure."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from fascis.library.known.shelves import OnShelf

LEAST_BLOCK = 28
GAP = 2.0
# Libraries narrower than a block each get at least this much of their common width.
LEAST_SLICE = 7.0
# The width of a library of unknown size.
NEW_BLOCK = 96.0


class Laid(Struct, frozen=True):
    """One library and its position, in pixels; ``narrow`` shares its width with others."""

    standing: OnShelf
    x: float
    width: float
    narrow: bool


class Layout(Struct, frozen=True):
    """The contents of a shelf: the width of other files, the libraries, and their end."""

    other: float
    laid: list[Laid]
    end: float


def lay_out(
    standings: Sequence[OnShelf], other: int, capacity: int, start: float, length: float
) -> Layout:
    """Gives each library its share of a shelf.

    Libraries that would be narrower than a block stand side by side in one, as wide as all of them
    together. What must be widened takes its room from the others, so that everything ends at the
    used share, or as near as possible.

    Args:
        other: bytes of other files.
        capacity: of the drive, in bytes.
        start, length: of the shelf, in pixels.
    """
    scale = length / max(capacity, 1)
    wanted = {s.id: NEW_BLOCK if s.says else s.size * scale for s in standings}
    wide = [s for s in standings if wanted[s.id] >= LEAST_BLOCK]
    narrow = [s for s in standings if wanted[s.id] < LEAST_BLOCK]
    rest = other * scale if other > 0.001 * capacity else 0.0
    true = sum(wanted[s.id] for s in narrow)
    shared = max(true, LEAST_BLOCK, LEAST_SLICE * len(narrow)) if narrow else 0.0
    shared = min(shared, max(true, length / 3))
    gaps = GAP * (len(wide) + bool(narrow) + bool(rest))
    full = min(length, sum(wanted.values()) + rest)
    least = [3.0] * bool(rest) + [float(LEAST_BLOCK)] * len(wide)
    room = max(full - shared - gaps, sum(least))
    fitted = _fitted([rest] * bool(rest) + [wanted[s.id] for s in wide], least, room)
    other_width = fitted.pop(0) if rest else 0.0
    x = start + (other_width + GAP if rest else 0.0)
    laid = []
    for standing, width in zip(wide, fitted, strict=True):
        laid.append(Laid(standing, x, width, False))
        x += width + GAP
    each = _slices([wanted[s.id] for s in narrow], shared)
    for standing, width in zip(narrow, each, strict=True):
        laid.append(Laid(standing, x, width, True))
        x += width
    return Layout(other_width, laid, x)


def _fitted(wanted: list[float], least: list[float], room: float) -> list[float]:
    """Widths that do not exceed the room: whatever is widened takes from the others."""
    fixed: set[int] = set()
    while True:
        free = room - sum(least[n] for n in fixed)
        loose = sum(w for n, w in enumerate(wanted) if n not in fixed)
        squeeze = min(1.0, free / loose) if loose else 1.0
        small = {n for n, w in enumerate(wanted) if n not in fixed and w * squeeze < least[n]}
        if not small:
            return [least[n] if n in fixed else w * squeeze for n, w in enumerate(wanted)]
        fixed |= small


def _slices(wanted: list[float], shared: float) -> list[float]:
    """Divides a width by the wanted widths, so that each part is visible."""
    if not wanted:
        return []
    least = min(LEAST_SLICE, shared / len(wanted))
    spare = shared - least * len(wanted)
    total = sum(wanted) or 1.0
    return [least + spare * w / total for w in wanted]
