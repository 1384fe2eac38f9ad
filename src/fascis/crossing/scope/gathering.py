"""Gathering: copied loose media gets a place in the library.

Equal content is stored once.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable
from pathlib import Path

from blake3 import blake3
from msgspec import Struct, field

from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import join, name_key, parent
from fascis.library.references.strands import tops_of
from fascis.library.references.uses import Outside, Uses
from fascis.library.standing import Standing
from fascis.library.survey import Survey

MEDIA_FOLDER = b"media"
_SAMPLE = 1 << 16
_CHUNK = 1 << 22


class Gathering(Struct):
    """Loose files that are copied.

    Attributes:
        items: ``(place in the new library, file)`` of stored files; only one of equal files.
        aliases: other paths by which documents may name a file of the new library; an absolute path
            for a found file that stays outside.
        left: loose files left outside by choice.
    """

    items: list[tuple[bytes, Outside]] = field(default_factory=list)
    aliases: dict[bytes, bytes] = field(default_factory=dict)
    left: list[Outside] = field(default_factory=list)

    def folders(self) -> list[bytes]:
        """Places of all their folders, parents first."""
        found = {above for place, _ in self.items for above in folders_above(place)}
        return sorted(found, key=lambda f: f.split(b"/"))


def below(folder: Path) -> bytes:
    """The real path of a folder, with a slash at its end."""
    return os.path.realpath(bytes(folder)).rstrip(b"/") + b"/"


def folders_above(place: bytes) -> Iterable[bytes]:
    """The folders above a place, the nearest first, without the top one."""
    above = parent(place)
    while above:
        yield above
        above = parent(above)


def gather(
    survey: Survey,
    uses: Uses,
    root: Path,
    goes: Callable[[Outside], bool],
    goes_inside: Callable[[bytes], bool],
    equals: dict[bytes, bytes],
) -> Gathering:
    """Finds a place for every loose file that is copied.

    Args:
        root: the library's folder.
        goes: which of the loose files are copied.
        goes_inside: which files of the library, by their place, are copied.
        equals: path → the path of an equal file that is stored for it, see :func:`find_equals`.
    """
    found = Gathering()
    inside = below(root)
    loose = uses.of(Standing.LOOSE)
    along = {o.path: o for o in loose if goes(o)}
    found.left = [o for o in loose if o.path not in along]
    stored = _stored(
        along, equals, lambda p: p.startswith(inside) and goes_inside(p.removeprefix(inside))
    )
    groups: dict[bytes, list[Outside]] = defaultdict(list)
    tops = tops_of(uses)
    for path, kept in stored.items():
        if path == kept:
            groups[tops[parent(path)]].append(along[path])
    outside = {o.path for o in uses.outside}
    taken = {name_key(p) for _, p in survey.files()} if groups else set()
    # A missing file keeps its place: documents that refer to it must not find another file.
    if groups:
        taken |= {
            name_key(p.removeprefix(inside))
            for p in (*outside, *uses.lost_names)
            if p.startswith(inside)
        }
    folders = {name_key(f.place) for f in survey.folders if f.place} if groups else set()
    for top, members in sorted(groups.items()):
        _place(found, top, members, taken, folders)
    places = {o.path: place for place, o in found.items}
    for path, kept in stored.items():
        found.aliases[path] = places[kept] if kept in places else kept.removeprefix(inside)
    for alias, path in uses.aliases.items():
        if path in found.aliases:
            found.aliases[alias] = found.aliases[path]
        elif path.startswith(inside) and path not in outside:
            found.aliases[alias] = path.removeprefix(inside)
        elif alias in uses.relinked:
            # It stays outside, and the copy refers to it there.
            found.aliases[alias] = path
    return found


def _stored(
    along: Collection[bytes], equals: dict[bytes, bytes], goes_inside: Callable[[bytes], bool]
) -> dict[bytes, bytes]:
    """For each copied path, the path that is stored for it.

    One that is copied too, or one in the library.
    """
    chosen: dict[bytes, bytes] = {}
    stored = {}
    for path in sorted(along):
        kept = equals.get(path, path)
        if kept not in along and not goes_inside(kept):
            # The file that would represent all of them stays: use another.
            kept = chosen.setdefault(kept, path)
        stored[path] = kept
    return stored


def _place(
    found: Gathering, top: bytes, members: list[Outside], taken: set[str], folders: set[str]
) -> None:
    """Gives the files of one source folder a folder with its name, without clashes in it."""
    name = top.rpartition(b"/")[2] or b"drive"
    number = 1
    while True:
        target = join(MEDIA_FOLDER, name if number == 1 else b"%s (%d)" % (name, number))
        placed = [(join(target, o.path[len(top) :].lstrip(b"/")), o) for o in members]
        keys = {name_key(p) for p, _ in placed}
        above = {name_key(a) for p, _ in placed for a in folders_above(p)}
        if len(keys) == len(placed) and not keys & (taken | folders) and not above & taken:
            break
        if len(keys) < len(placed) and number > 1:
            # They differ only in case, in one folder: a drive that treats them as equal reports it.
            break
        number += 1
    found.items += placed
    taken |= keys
    folders |= above


def find_equals(
    survey: Survey, uses: Uses, root: Path, control: Control = UNSTOPPED
) -> dict[bytes, bytes]:
    """Loose files with the content of another loose file, or of one in the library.

    Every loose file that has an equal is a key; its value is the path of the file that is stored
    for all of them. Files of one size are compared by samples, and if those are equal, by their
    whole content.
    """
    inside = below(root)
    loose = [o for o in uses.of(Standing.LOOSE) if o.size and not o.named]
    by_size: dict[int, list[bytes]] = defaultdict(list)
    for o in loose:
        by_size[o.size].append(o.path)
    held: dict[int, list[bytes]] = defaultdict(list)
    for row, place in survey.files():
        if survey.size[row] in by_size:
            held[survey.size[row]].append(inside + place)
    equals: dict[bytes, bytes] = {}
    for size, paths in by_size.items():
        candidates = sorted(held[size]) + sorted(paths)
        if len(candidates) < 2:
            continue
        mine = set(paths)
        for alike in _split(candidates, sampled, control):
            if not mine.isdisjoint(alike):
                for same in _split(alike, whole_digest, control):
                    equals |= {p: same[0] for p in same if p in mine}
    return equals


def _split(
    paths: list[bytes], digest: Callable[[bytes], bytes | None], control: Control
) -> list[list[bytes]]:
    """Groups of two or more with the same digest, in order.

    A file that cannot be read is equal to nothing.
    """
    groups: dict[bytes, list[bytes]] = defaultdict(list)
    for path in paths:
        if control.stopped:
            return []
        if (found := digest(path)) is not None:
            groups[found].append(path)
    return [g for g in groups.values() if len(g) > 1]


def _open(path: bytes) -> int:
    return os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)


def sampled(path: bytes) -> bytes | None:
    """A digest of the first, a middle and the last piece."""
    try:
        with open(_open(path), "rb", buffering=0) as file:
            size = os.fstat(file.fileno()).st_size
            at = (0, max(0, size // 2 - _SAMPLE // 2), max(0, size - _SAMPLE))
            return blake3(b"".join(os.pread(file.fileno(), _SAMPLE, o) for o in at)).digest()
    except OSError:
        return None


def whole_digest(path: bytes) -> bytes | None:
    """The digest of a file; None if it cannot be read."""
    try:
        hasher = blake3()
        with open(_open(path), "rb", buffering=0) as file:
            while part := file.read(_CHUNK):
                hasher.update(part)
        return hasher.digest()
    except OSError:
        return None
