"""Copying later changes.

Files that changed at the old place after the library settled are copied, verified and moved in.
This is an amendment in the journal, never a change of the plan. A copy is replaced only if it is
still as this crossing made it; if a person changed it, it stays, and this is reported.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing
from typing import Any

from msgspec.structs import replace

from fascis.crossing.arrival.arriving import Arriving
from fascis.crossing.arrival.landing.landing import Landing
from fascis.crossing.arrival.records import write_lists
from fascis.crossing.arrival.rewriting import Rewriting
from fascis.crossing.fit.names import allot_more
from fascis.crossing.journal.amendment import Found
from fascis.crossing.journal.copies import Copies, Item, as_it_was
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import CopySeen, Fidelity, Look, look_at_copy
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.changes import Differences
from fascis.crossing.places.clearing import SUPERSEDED
from fascis.crossing.places.places import Places
from fascis.crossing.places.putting import make_parents
from fascis.drives.rules import Rules
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of, digest_of_bytes
from fascis.files.disk.medium import Medium, move, remove_own
from fascis.files.errors import Refused, told
from fascis.files.names import join, parent, shown
from fascis.library.own import OWN
from fascis.library.roles import Role, RoleRule
from fascis.library.survey import Kind, kind_of
from fascis.words.speech import tr, trn

OLD = SUPERSEDED


def amendment(
    copies: Copies,
    source: Medium,
    differences: Differences,
    rule: RoleRule,
    leave_out: frozenset[Role],
    rules: Sequence[Rules],
) -> tuple[list[int], list[Found], list[Found]]:
    """The content of an amendment: changed entries, new folders and new entries.

    Only reads.

    Args:
        rules: of every destination; new files with names that one cannot store get other names.

    Raises:
        EnvironmentTrouble: the old place does not answer.
    """
    changed = []
    for place in differences.changed:
        item = copies.at(place)
        if item and item.stood:
            raise Refused(
                Code.COPY_CHANGED,
                tr(
                    "{place} changed after an identical file at the new place was "
                    "counted as its copy. That file is not changed. Leave the newer "
                    "file where it is.",
                    place=shown(place),
                ),
                (place,),
            )
        if (
            item
            and item.fate is Fate.COPY
            and (item.outside or kind_of(_status(source, place).st_mode) is item.kind)
            and item.kind is not Kind.SPECIAL
        ):
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
            kind, fate = Kind.LINK, Fate.COPY if any(r.links for r in rules) else Fate.UNHOLDABLE
        elif not stat.S_ISREG(status.st_mode):
            kind, fate = Kind.SPECIAL, Fate.SPECIAL
        entries.append(Found(place, status, kind, role, fate))
        while above and above not in folders:
            folders[above] = Found(above, _status(source, above))
            above = parent(above)
    known = {f for f, _ in copies.journal.folders()}
    new_folders = [f for p, f in sorted(folders.items()) if p not in known]
    return changed, _apart(copies, new_folders, rules), _apart(copies, entries, rules)


def _apart(copies: Copies, found: list[Found], rules: Sequence[Rules]) -> list[Found]:
    """New files, with other names in the copy if the destinations cannot store theirs."""
    by_folder: dict[bytes, list[Found]] = {}
    for f in found:
        by_folder.setdefault(parent(f.place), []).append(f)
    out = []
    for folder, some in by_folder.items():
        names = [f.place.rpartition(b"/")[2] for f in some]
        there = allot_more(copies.journal.names_there(folder), names, rules)
        out += [replace(f, there=there.get(n)) for f, n in zip(some, names, strict=True)]
    return out


def _status(source: Medium, place: bytes) -> os.stat_result:
    try:
        return source.status(place)
    except OSError as error:
        raise told(error, tr("look at"), place) from error


def move_in(arriving: Arriving, source: Medium, rewriting: Rewriting) -> None:
    """Moves copied and verified changes into the library.

    Can be called again after any interruption.

    Raises:
        Refused: a copy that would be superseded was changed by somebody; it stays.
        EnvironmentTrouble: the destination failed.
    """
    copies, places, medium = arriving.copies, arriving.places, arriving.medium
    keeps, clock = arriving.keeps, arriving.clock
    act = copies.open_act("bring-along") or copies.intend(
        "bring-along", shown(str(places.target)), clock()
    )
    old = join(places.staging, OLD)
    amending = copies.amending
    try:
        if not medium.exists(old):
            medium.make_folder(old)
        rewriting.documents(medium, places.staged_library, frozenset(amending))
        folders, _ = copies.journal.renamed()
        for id, before in amending.items():
            item = copies.item(id)
            _parents(folders, source, medium, places.name, parent(item.place))
            if item.kind is Kind.LINK:
                if keeps.links and item.copy is not CopyState.VERIFIED:
                    _make_way_for_link(places, medium, item, before, source, rewriting)
                    rewriting.link(source, medium, places.name, item)
            elif item.copy is CopyState.VERIFIED:
                for place, was in _moved(item, before, places.crossing):
                    aside = join(old, b"%d" % id if place == item.there else b"%d-as-it-was" % id)
                    make_parents(medium, places.name, join(places.name, place))
                    if medium.exists(join(places.staged_library, place)):
                        _supersede(places, medium, place, was, aside, keeps)
        medium.sync()
        write_lists(arriving)
        arriving.landing.clear()
    except OSError as error:
        raise told(error, tr("bring along"), places.name) from error
    brought = trn("{n} file brought along", "{n} files brought along", len(copies.amending))
    copies.journal.conclude(act, brought, clock())
    copies.put("amending", {})


def _moved(
    item: Item, before: list[Any] | None, crossing: str
) -> Iterator[tuple[bytes, list[Any] | None]]:
    """The places that a changed item takes, and how this crossing's file there looked.

    A rewritten document takes two: one for its verified copy, which is kept, and one for the
    rewritten document.
    """
    # In journals before version 7.
    each = 5 if before and len(before) % 5 == 0 else 3
    copy, anew = (before[:each], before[each:] or None) if before else (None, None)
    if item.rewritten:
        yield as_it_was(item.there, crossing), copy if anew else None
    yield item.there, anew or copy


def take_back(copies: Copies, places: Places, medium: Medium, landing: Landing) -> None:
    """Gives up copying changes: copies that were already replaced return to their paths.

    The staging folder is cleared.

    Raises:
        EnvironmentTrouble: the destination failed.
    """
    try:
        for id in copies.amending:
            place = copies.item(id).there
            for name, there in (
                (b"%d", place),
                (b"%d-as-it-was", as_it_was(place, places.crossing)),
            ):
                old, final = join(join(places.staging, OLD), name % id), join(places.name, there)
                if medium.exists(old) and not medium.exists(final):
                    move(medium, old, final)
        medium.sync()
        landing.clear()
    except OSError as error:
        raise told(error, tr("undo"), places.name) from error


def _supersede(
    places: Places,
    medium: Medium,
    place: bytes,
    before: list[Any] | None,
    old: bytes,
    keeps: Fidelity,
) -> None:
    final = join(places.name, place)
    if medium.exists(final):
        if before is None or not _still_ours(medium, final, before, keeps):
            raise _changed_at_both(place)
        move(medium, final, old)
    move(medium, join(places.staged_library, place), final)


def _changed_at_both(place: bytes) -> Refused:
    return Refused(
        Code.COPY_CHANGED,
        tr(
            "{place} changed at the old place and at the new one. Neither was changed "
            "by Fascis. Rename one of them, then continue.",
            place=shown(place),
        ),
    )


def _make_way_for_link(
    places: Places,
    medium: Medium,
    item: Item,
    before: list[Any] | None,
    source: Medium,
    rewriting: Rewriting,
) -> None:
    """Sets a link of this crossing aside that a newer one replaces.

    Anything else stays, and is reported.
    """
    target = source.read_link(item.place)
    # It may have been made before the interruption, without a record.
    to_be = {target, rewriting.rewritten(item, target)}
    old = join(places.staging, OLD)
    kept = join(places.name, as_it_was(item.there, places.crossing))
    places_of = [
        (join(places.name, item.there), join(old, b"%d" % item.id)),
        (kept, join(old, b"%d-as-it-was" % item.id)),
    ]
    for final, aside in places_of:
        if not medium.exists(final):
            continue
        if _is_link_to(medium, final, to_be) and (before is None or medium.exists(aside)):
            remove_own(medium, final)  # Made before the interruption.
        elif before and _was_link(
            medium, final, kept, before, lambda target: rewriting.rewritten(item, target)
        ):
            move(medium, final, aside)
        else:
            raise _changed_at_both(item.there)


def _is_link_to(medium: Medium, place: bytes, targets: set[bytes]) -> bool:
    return stat.S_ISLNK(medium.status(place).st_mode) and medium.read_link(place) in targets


def _was_link(
    medium: Medium,
    final: bytes,
    kept: bytes,
    before: list[Any],
    rewritten: Callable[[bytes], bytes],
) -> bool:
    """True for a link as this crossing made it.

    Its target is the one that was copied, or rewritten from the one that is kept.
    """
    copied = kept if medium.exists(kept) else final
    if not stat.S_ISLNK(medium.status(copied).st_mode):
        return False
    target = medium.read_link(copied)
    if digest_of_bytes(target).hex() != before[-1].lower():
        return False
    return copied == final or _is_link_to(medium, final, {rewritten(target)})


def _still_ours(medium: Medium, place: bytes, before: list[Any], keeps: Fidelity) -> bool:
    """True if a copy is as this crossing made it.

    By its size and times or, where these are not enough, by its content.
    """
    look = look_at_copy(
        CopySeen(*before[:4]) if len(before) == 5 else CopySeen(*before),
        medium.status(place),
        keeps,
    )
    if look is not Look.TOUCHED or len(before) != 5:
        return look is Look.SAME
    with closing(medium.open(place)) as file:
        return digest_of(file) == bytes.fromhex(before[4])


def _parents(
    other: Mapping[bytes, bytes], source: Medium, medium: Medium, root: bytes, folder: bytes
) -> None:
    """Makes the folders above a new file, with their names in the copy.

    ``other`` has those that differ.
    """
    parts = folder.split(b"/") if folder else []
    for i in range(len(parts)):
        inner = b"/".join(parts[: i + 1])
        there = join(root, other.get(inner, inner))
        if not medium.exists(there):
            medium.make_folder(there)
            medium.set_folder_status(there, source.status(inner), False)
