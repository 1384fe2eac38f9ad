"""What could be copied with a library: bytes beside each choice."""

from __future__ import annotations

from msgspec import Struct

from fascis.crossing.scope.selection import StrandKey
from fascis.desktop.strands.woven import Woven
from fascis.library.roles import Role
from fascis.library.standing import Standing


class Along(Struct, frozen=True):
    """What could be copied, each as files and bytes.

    Used, loose, roles that can be made again, unused, strands taken out.
    """

    used: tuple[int, int]
    loose: tuple[int, int]
    remakeable: list[tuple[Role, int, int]]
    unused: tuple[int, int]
    without: tuple[int, int]


def along_of(woven: Woven, without: frozenset[StrandKey]) -> Along:
    """What could be copied, by strands; for a part, only its files. Pure."""
    sums: dict[str, list[int]] = {name: [0, 0] for name in ("used", "loose", "unused", "without")}
    roles: dict[Role, list[int]] = {}
    for s in woven.strands:
        _, role, standing = s.key
        if s.key in without:
            there = sums["without"]
        elif standing is Standing.LOOSE:
            there = sums["loose"]
        elif not standing.inside:
            continue
        elif role.remakeable:
            there = roles.setdefault(role, [0, 0])
        else:
            there = sums["unused" if standing is Standing.UNUSED else "used"]
        there[0] += s.along_files if woven.ticked else s.files
        there[1] += s.along_bytes if woven.ticked else s.bytes
    remakeable = sorted(((r, f, b) for r, (f, b) in roles.items()), key=lambda x: -x[2])
    used, loose, unused, out = ((f, b) for f, b in sums.values())
    return Along(used, loose, remakeable, unused, out)
