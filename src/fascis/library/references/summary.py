"""What the register stores of a survey, enough to draw a library."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, field

from fascis.library.references.strands import strands
from fascis.library.references.strands import totals as standing_totals
from fascis.library.references.uses import Uses
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.library.survey import Survey


def summary_of(survey: Survey, uses: Uses | None = None) -> dict[str, object]:
    """Totals by role and standing, the last change, documents not understood; JSON-like."""
    totals = survey.totals()
    standing = standing_totals(survey, uses) if uses else {}
    return {
        "standing": {s.value: list(t) for s, t in standing.items()},
        "unused": list(_unused(survey, uses)) if uses else [0, 0],
        "not_understood": len(uses.not_understood) if uses else 0,
        "roles": {r.value: list(t) for r, t in totals.items() if t[0]},
        "last_change_ns": max(survey.mtime_ns, default=0),
    }


def _unused(survey: Survey, uses: Uses) -> tuple[int, int]:
    mine = [
        s for s in strands(survey, uses) if s.standing is Standing.UNUSED and not s.role.remakeable
    ]
    return sum(s.files for s in mine), sum(s.bytes for s in mine)


class Summary(Struct, frozen=True):
    """A stored summary: files, bytes, bytes on the drive; how many of these can be made again.

    Last change in ns. ``standing`` has files and bytes of each, including those outside; empty for
    a survey that did not read documents. ``unused`` counts files that nothing refers to and that
    cannot be made again.
    """

    files: int
    bytes: int
    allocated: int
    remakeable: int
    roles: dict[Role, tuple[int, int, int]]
    last_change_ns: int
    standing: dict[Standing, tuple[int, int]] = field(default_factory=dict)
    not_understood: int = 0
    unused: tuple[int, int] = (0, 0)


def parse_summary(kept: dict[str, object]) -> Summary | None:
    """Reads a summary; None if nothing usable is stored."""
    raw: Any = kept.get("roles")
    if not isinstance(raw, dict):
        return None
    try:
        roles = {Role(k): (int(v[0]), int(v[1]), int(v[2])) for k, v in raw.items()}
        last = int(str(kept.get("last_change_ns", 0)))
        raw_standing: Any = kept.get("standing") or {}
        standing = {Standing(k): (int(v[0]), int(v[1])) for k, v in raw_standing.items()}
        raw_unused: Any = kept.get("unused") or (0, 0)
        unused = int(raw_unused[0]), int(raw_unused[1])
        unknown = int(str(kept.get("not_understood", 0)))
    except (ValueError, TypeError, IndexError, AttributeError):
        return None
    f, b, a = (sum(t[i] for t in roles.values()) for i in range(3))
    return Summary(
        f,
        b,
        a,
        sum(t[2] for r, t in roles.items() if r.remakeable),
        roles,
        last,
        standing,
        unknown,
        unused,
    )
