"""Files that stay because something that stays needs them."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable, Mapping, Set

from msgspec import Struct, field
from msgspec.structs import replace

from fascis.documents.model import Sequence
from fascis.documents.registry import companions
from fascis.files.names import name_key, shown
from fascis.library.references.uses import Uses
from fascis.library.survey import Survey


class Lead(Struct):
    """The files to which one reference leads: absolute paths; for a sequence its frames."""

    sequence: Sequence | None = None
    files: list[bytes] = field(default_factory=list)


class Needed(Struct):
    """The files that are needed, and who needs them.

    Attributes:
        by: absolute path → the documents that need it: their absolute paths (empty if only the
            register knows), and their names for messages.
        leads: document → the numbers of its references that lead there, if that was requested.
        unknown: libraries whose needs are not known: away and never surveyed, or with an unreadable
            document.
        bounds: how far the search got, if it did not finish; otherwise empty.
        away: libraries that cannot be seen now, with stored needs: their names, and the ids for
            forgetting them.
    """

    by: dict[bytes, dict[bytes, str]] = field(default_factory=dict)
    leads: dict[bytes, dict[int, Lead]] = field(default_factory=dict)
    unknown: set[str] = field(default_factory=set)
    bounds: str = ""
    away: dict[str, str] = field(default_factory=dict)

    def add(self, path: bytes, document: bytes, told: str) -> None:
        """Records one need."""
        self.by.setdefault(path, {})[document] = told

    def without(self, led: Mapping[bytes, Collection[bytes]]) -> Needed:
        """What is still needed when these documents lead elsewhere, each for some of its files."""
        kept = {
            path: {d: told for d, told in who.items() if path not in led.get(d, ())}
            for path, who in self.by.items()
        }
        return replace(self, by={path: who for path, who in kept.items() if who})

    def who(self, path: bytes, goes: Callable[[bytes], bool]) -> list[str]:
        """Who needs a file, by its absolute path.

        Args:
            goes: whether a document is deleted itself: then it needs nothing.
        """
        found = self.by.get(path, {})
        return sorted(
            {told for document, told in found.items() if not (document and goes(document))}
        )


def kept_for_others(
    needed: Needed,
    goes: Callable[[bytes], bool],
    names_in: Callable[[bytes], Collection[bytes]],
    there: Set[bytes] = frozenset(),
) -> dict[bytes, list[str]]:
    """Originals that stay because something that stays needs them: absolute path → who.

    A document that stays needs the files it refers to, and so on; a sidecar stays with its photo.

    Args:
        goes: whether the file of an absolute path would be deleted.
        names_in: the names of the files in a folder (absolute).
        there: absolute paths of existing files, which makes it faster.
    """
    kept: dict[bytes, list[str]] = {}
    names = _Names(names_in)

    def still_goes(path: bytes) -> bool:
        return goes(path) and path not in kept

    asked = [(path, path) for path in needed.by if goes(path)]
    for path in needed.by.keys() - there:
        if not goes(path) and (real := names.as_named(path, goes)) is not None:
            asked.append((path, real))
    while True:
        more: dict[bytes, list[str]] = {}
        for path, real in asked:
            if real not in kept and (who := needed.who(path, still_goes)):
                more[real] = who
        for path, who in list(more.items()):
            folder, _, name = path.rpartition(b"/")
            for sidecar in names.companions_of(folder, name):
                beside = folder + b"/" + sidecar
                if beside not in kept and goes(beside):
                    more.setdefault(beside, who)
        if not more:
            return kept
        kept |= more


def sidecars_of_what_stays(
    sidecars: Iterable[bytes], goes: Callable[[bytes], bool], kept: Mapping[bytes, list[str]]
) -> dict[bytes, list[str]]:
    """Sidecars that would be deleted although a photo or clip that stays uses them too.

    Absolute path → whose they are.

    Args:
        sidecars: absolute paths; those that stay are skipped.
        goes: whether the file of an absolute path would be deleted.
        kept: the files that stay.
    """
    found: dict[bytes, list[str]] = {}
    whose: dict[bytes, dict[bytes, list[bytes]]] = {}
    for sidecar in sidecars:
        folder, _, name = sidecar.rpartition(b"/")
        if folder not in whose:
            try:
                whose[folder] = companions(sorted(os.listdir(folder or b"/")))
            except OSError:
                whose[folder] = {}
        beside = (folder + b"/" + photo for photo in whose[folder].get(name, ()))
        stays = [shown(photo) for photo in beside if not goes(photo) or photo in kept]
        if stays and goes(sidecar) and sidecar not in kept:
            found[sidecar] = stays
    return found


def add_named(needed: Needed, uses: Uses, survey: Survey, top: bytes) -> None:
    """Adds files that a library's edit lists need by name alone.

    Args:
        top: the library's real folder, with a slash at its end.
    """
    named = [
        (place, leads) for place, leads in uses.leads.items() if place.lower().endswith(b".edl")
    ]
    if not named:
        return
    places = {row: place for row, _, place in survey.rows()}
    for document, leads in named:
        path = document if document.startswith(b"/") else top + document
        for row in leads.of:
            if row in places:
                needed.add(top + places[row], path, shown(document))


class _Names:
    """The names in folders, sorted once for each folder."""

    def __init__(self, names_in: Callable[[bytes], Collection[bytes]]) -> None:
        self._names_in = names_in
        self._there: dict[bytes, frozenset[bytes]] = {}
        self._by_key: dict[bytes, dict[str, list[bytes]]] = {}
        self._companions: dict[bytes, dict[bytes, list[bytes]]] = {}

    def as_named(self, path: bytes, goes: Callable[[bytes], bool]) -> bytes | None:
        """The file to which a path in another case or form leads, if the drive ignores these."""
        folder, _, name = path.rpartition(b"/")
        if folder not in self._there:
            self._there[folder] = frozenset(self._names_in(folder))
        if not self._there[folder] or name in self._there[folder]:
            # A name that exists exactly cannot be another one too.
            return None
        alike = (folder + b"/" + n for n in self._alike(folder, name))
        return next((p for p in alike if goes(p) and _same(p, path)), None)

    def _alike(self, folder: bytes, name: bytes) -> list[bytes]:
        if folder not in self._by_key:
            keys: dict[str, list[bytes]] = {}
            for one in self._there[folder]:
                keys.setdefault(name_key(one), []).append(one)
            self._by_key[folder] = keys
        return self._by_key[folder].get(name_key(name), [])

    def companions_of(self, folder: bytes, name: bytes) -> list[bytes]:
        """The sidecars in a folder that belong to one of its files."""
        if folder not in self._companions:
            found: dict[bytes, list[bytes]] = {}
            for sidecar, owners in companions(self._names_in(folder)).items():
                for owner in owners:
                    found.setdefault(owner, []).append(sidecar)
            self._companions[folder] = found
        return self._companions[folder].get(name, [])


def _same(one: bytes, other: bytes) -> bool:
    try:
        return os.path.samestat(os.lstat(one), os.lstat(other))
    except OSError:
        return False
