"""Bringing along: what became newer at the old place after the library settled is copied, verified and moved in.

It is an amendment in the journal, never an edit of the plan. A copy that it supersedes goes only when it is still what
this crossing made; whatever a person changed in the copy stays, and is told.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable

from fascis.crossing.copies import Copied, Copies, CopyState, Item
from fascis.crossing.copying import Fidelity, copy_seen_of, same_copy
from fascis.crossing.journal import Fate, Found
from fascis.crossing.places import Places, move
from fascis.crossing.settle import clear_staging, write_lists
from fascis.crossing.still import Differences
from fascis.files.digest import digest_of_bytes
from fascis.files.errors import Refused, told
from fascis.files.medium import Medium
from fascis.files.names import join, parent, shown
from fascis.files.walk import open_folder
from fascis.library.identity import OWN
from fascis.library.roles import Role, RoleRule
from fascis.library.survey import Kind

OLD = b"superseded"


def amendment(
    copies: Copies, source: Medium, differences: Differences, rule: RoleRule, leave_out: frozenset[Role], links: bool
) -> tuple[list[int], list[Found], list[Found]]:
    """What an amendment consists of: entries that changed, folders and entries that appeared. Reads only.

    Raises:
        EnvironmentTrouble: the old place does not answer.
    """
    changed = []
    for place in differences.changed:
        item = next((i for i in copies.in_folder(parent(place)) if i.place == place), None)
        if item and item.kind is Kind.FILE and item.fate is Fate.COPY and stat.S_ISREG(_status(source, place).st_mode):
            changed.append(item.id)
    folders: dict[bytes, Found] = {}
    entries = []
    for place in differences.appeared:
        if place == OWN or place.startswith(OWN + b"/"):
            continue
        status = _status(source, place)
        above = parent(place)
        role = rule.of_folder(above) or rule.of_name(place.rpartition(b"/")[2])
        kind, fate = Kind.FILE, Fate.LEFT_OUT if role in leave_out else Fate.COPY
        if stat.S_ISLNK(status.st_mode):
            kind, fate = Kind.LINK, Fate.COPY if links else Fate.UNHOLDABLE
        elif not stat.S_ISREG(status.st_mode):
            kind, fate = Kind.SPECIAL, Fate.SPECIAL
        entries.append(Found(place, status, kind, role, fate))
        while above and above not in folders:
            folders[above] = Found(above, _status(source, above))
            above = parent(above)
    return changed, sorted(folders.values(), key=lambda f: f.place), entries


def _status(source: Medium, place: bytes) -> os.stat_result:
    try:
        return source.status(place)
    except OSError as error:
        raise told(error, "look at", place) from error


def move_in(
    copies: Copies, places: Places, source: Medium, medium: Medium, keeps: Fidelity, clock: Callable[[], float]
) -> None:
    """Moves what was brought along and verified into the library. May be called again after any interruption.

    Raises:
        Refused: a copy that would be superseded was changed by somebody; it stays.
        EnvironmentTrouble: the destination failed.
    """
    act = copies.open_act("bring-along") or copies.intend("bring-along", shown(str(places.target)), clock())
    old = join(places.staging, OLD)
    try:
        if not medium.exists(old):
            medium.make_folder(old)
        for id, before in copies.amending.items():
            item = copies.item(id)
            _parents(source, medium, places.name, parent(item.place))
            if item.kind is Kind.LINK:
                if keeps.links:
                    _link(copies, source, medium, item, join(places.name, item.place))
            elif item.copy is CopyState.VERIFIED and medium.exists(join(places.staged_library, item.place)):
                _supersede(places, medium, item, before, join(old, b"%d" % id), keeps.stable_inodes)
        medium.sync()
        own = open_folder(medium.handle, join(places.name, OWN))
        try:
            write_lists(own, copies)
        finally:
            os.close(own)
        clear_staging(medium, places)
    except OSError as error:
        raise told(error, "bring along", places.name) from error
    copies.journal.conclude(act, f"{len(copies.amending)} brought along", clock())
    copies.put("amending", {})


def take_back(copies: Copies, places: Places, medium: Medium) -> None:
    """Gives up bringing along: copies that were superseded half-way go back to their place; the staging folder is cleared.

    Raises:
        EnvironmentTrouble: the destination failed.
    """
    try:
        for id in copies.amending:
            old, final = join(join(places.staging, OLD), b"%d" % id), join(places.name, copies.item(id).place)
            if medium.exists(old) and not medium.exists(final):
                move(medium, old, final)
        medium.sync()
        clear_staging(medium, places)
    except OSError as error:
        raise told(error, "take back", places.name) from error


def _supersede(places: Places, medium: Medium, item: Item, before: list[int] | None, old: bytes, stable: bool) -> None:
    final = join(places.name, item.place)
    if medium.exists(final):
        ours = before is not None and same_copy((before[0], before[1], before[2]), medium.status(final), stable)
        if not ours:
            raise Refused(
                "copy-changed",
                f"{shown(item.place)} was changed at the old place and at the new one. Neither was touched; set one of them"
                " aside under another name, then go on.",
            )
        move(medium, final, old)
    move(medium, join(places.staged_library, item.place), final)


def _parents(source: Medium, medium: Medium, root: bytes, folder: bytes) -> None:
    parts = folder.split(b"/") if folder else []
    for i in range(len(parts)):
        inner = b"/".join(parts[: i + 1])
        if not medium.exists(join(root, inner)):
            medium.make_folder(join(root, inner))
            medium.set_folder_status(join(root, inner), source.status(inner), False)


def _link(copies: Copies, source: Medium, medium: Medium, item: Item, final: bytes) -> None:
    status, target = source.status(item.place), source.read_link(item.place)
    if not medium.exists(final):
        medium.make_link(target, final)
        medium.set_link_time(final, status)
    if medium.read_link(final) == target:
        seen = (status.st_size, status.st_mtime_ns, status.st_ctime_ns, item.inode)
        copy = copy_seen_of(medium.status(final))
        copies.record_copies([Copied(item.id, CopyState.COPIED, digest_of_bytes(target), seen, copy)])
        copies.record_verified([(item.id, True)])
