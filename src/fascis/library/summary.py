"""What the register keeps of a survey, enough to draw a library."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fascis.library.roles import Role
from fascis.library.survey import Survey


def summary_of(survey: Survey) -> dict[str, object]:
    """A survey's totals by role, the last change and the count of links, JSON-like."""
    totals = survey.totals()
    return {
        "roles": {r.value: list(t) for r, t in totals.items() if t[0]},
        "last_change_ns": max(survey.mtime_ns, default=0),
    }


@dataclass(frozen=True, slots=True)
class Summary:
    """A summary read back: files, bytes, bytes on the drive; of which remakeable (on the drive); last change in ns."""

    files: int
    bytes: int
    allocated: int
    remakeable: int
    roles: dict[Role, tuple[int, int, int]]
    last_change_ns: int


def parse_summary(kept: dict[str, object]) -> Summary | None:
    """Reads a summary; None when nothing usable is kept."""
    raw: Any = kept.get("roles")
    if not isinstance(raw, dict):
        return None
    try:
        roles = {Role(k): (int(v[0]), int(v[1]), int(v[2])) for k, v in raw.items()}
        last = int(str(kept.get("last_change_ns", 0)))
    except (ValueError, TypeError, IndexError):
        return None
    f, b, a = (sum(t[i] for t in roles.values()) for i in range(3))
    return Summary(f, b, a, sum(t[2] for r, t in roles.items() if r.remakeable), roles, last)
