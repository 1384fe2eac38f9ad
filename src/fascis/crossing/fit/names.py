"""Keeping names apart.

A name that a destination cannot store, or would treat as equal to another, is changed in the copy.
The originals keep their names. The inventory records what was renamed, with the earlier name, and
documents follow; a later crossing to a drive that can store the old names restores them. A file
that something knows by its name alone (a frame of a sequence, a clip that an edit list names)
cannot be renamed: choose another drive, or leave it out.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Mapping, Sequence
from itertools import compress

from msgspec import Struct, field

from fascis.crossing.fit.meeting import Meeting
from fascis.crossing.model.fates import Fate
from fascis.crossing.scope.gathering import Gathering
from fascis.documents.registry import is_companion
from fascis.drives.rules import LAST_CODE, Rules
from fascis.files.names import join, parent
from fascis.library.own import OWN
from fascis.library.references.uses import Uses
from fascis.library.survey import Survey
from fascis.words.speech import tr

GOES = (Fate.COPY, Fate.OWN, Fate.UNHOLDABLE)
_MOST_TRIES = 1_000


class Apart(Struct):
    """Names that differ in the copy. Places are those of the library as it is now.

    Attributes:
        folders: folder → its own name there.
        files: file → its name there.
        before: folder or file → its place before an earlier crossing, as recorded.
        refused: renamed because the destination cannot store the name: place → reason.
        doubled: renamed because its name would be equal to another.
        returned: files that get their earlier names back.
        cannot: must be renamed and cannot be: place → reason.
        bases: folder → its full place there, if that does not follow from the folder above it.
        stands: file → the place of an equal existing file that counts as its copy.
        taken: renamed because another file has its name there.
        with_taken: files that are left out together with these: sidecars too.
        arriving: folders of the library that are made there, or merged.
    """

    folders: dict[bytes, bytes] = field(default_factory=dict)
    files: dict[bytes, bytes] = field(default_factory=dict)
    before: dict[bytes, bytes] = field(default_factory=dict)
    refused: dict[bytes, str] = field(default_factory=dict)
    doubled: list[bytes] = field(default_factory=list)
    returned: list[bytes] = field(default_factory=list)
    cannot: dict[bytes, str] = field(default_factory=dict)
    bases: dict[bytes, bytes] = field(default_factory=dict)
    stands: dict[bytes, bytes] = field(default_factory=dict)
    taken: list[bytes] = field(default_factory=list)
    with_taken: set[bytes] = field(default_factory=set)
    arriving: set[bytes] = field(default_factory=set)

    def __bool__(self) -> bool:
        return bool(self.renames or self.stands)

    @property
    def renames(self) -> bool:
        """True if something has, or had, another name than in the library."""
        return bool(self.folders or self.files or self.before or self.bases)

    def folder(self, place: bytes) -> bytes:
        """The place of a library's folder in the copy."""
        if not (self.folders or self.bases):
            return place
        if (base := self.bases.get(place)) is not None:
            return base
        if not place:
            return place
        return join(self.folder(parent(place)), self.folders.get(place, place.rpartition(b"/")[2]))

    def called_before(self, place: bytes) -> bytes:
        """The place a file would have in the copy if nothing had been renamed."""
        recorded = self.before.get(place)
        if recorded is not None or not self.bases:
            return place if recorded is None else recorded
        return join(self._unchanged(parent(place)), place.rpartition(b"/")[2])

    def _unchanged(self, folder: bytes) -> bytes:
        if (base := self.bases.get(folder)) is not None:
            return base
        if not folder:
            return folder
        return join(self._unchanged(parent(folder)), folder.rpartition(b"/")[2])

    def there(self, place: bytes) -> bytes:
        """The place of a library's file in the copy."""
        return join(self.folder(parent(place)), self.files.get(place, place.rpartition(b"/")[2]))


def keep_apart(
    survey: Survey,
    uses: Uses,
    fates: Sequence[int],
    gathering: Gathering,
    rules: Sequence[Rules],
    before: Mapping[bytes, bytes],
    meeting: Meeting | None = None,
) -> Apart:
    """Finds new names for everything that the destinations cannot store under its name.

    Writes nothing; reads only what ``meeting`` reads.

    Args:
        rules: of every destination; a name must be possible on all of them.
        before: place → its place before an earlier crossing renamed it, see the inventory.
        meeting: existing files, for a landing in an existing folder.
    """
    found = Apart()
    fixed = _Fixed(survey, uses, gathering)
    tree = _tree(survey, fates, gathering)
    if meeting:
        _keep_apart_there(found, tree, rules, before, fixed, meeting)
    else:
        for folder, (subfolders, names) in tree.items():
            allot = _Folder(found, folder, rules, before, fixed)
            # Fascis's own folder will be there: nothing else may have an equal name.
            if not folder:
                subfolders = [n for n in subfolders if n != OWN]
                allot.taken = {allot.key(OWN)} & {allot.key(n) for n in (*subfolders, *names)}
            allot.run(subfolders, names)
    found.before = {
        p: b
        for p, b in before.items()
        if p in found.before or p in found.files or p in found.folders
    }
    return found


_Tree = dict[bytes, tuple[list[bytes], list[bytes]]]


def _keep_apart_there(
    found: Apart,
    tree: _Tree,
    rules: Sequence[Rules],
    before: Mapping[bytes, bytes],
    fixed: _Fixed,
    meeting: Meeting,
) -> None:
    """The same for files that arrive in an existing folder: folders merge, equal files count once.

    Each folder after the one above it, whose name decides where it arrives.
    """
    found.bases = dict(meeting.bases)
    found.arriving = _arriving(tree, meeting)
    taken: dict[bytes, set[bytes]] = {}
    # A folder with its own place has no name in the folder above it.
    named = found.arriving.difference(meeting.bases)
    for folder in _in_order(found.arriving, meeting.bases):
        allot = _Folder(found, folder, rules, before, fixed)
        there = found.folder(folder)
        # Two folders of the library may become one there.
        allot.taken = taken.setdefault(there, {allot.key(OWN)} if not there else set())
        subfolders, names = tree.get(folder, ([], []))
        allot.meet(meeting, there, [n for n in subfolders if join(folder, n) in named], names)


def _arriving(tree: _Tree, meeting: Meeting) -> set[bytes]:
    """The folders of the library from which something arrives, without those merely above one."""
    bases = [base for base in meeting.bases if base]
    found = set(meeting.bases)
    whole = not bases
    for folder in sorted(tree, key=lambda f: -f.count(b"/")):
        if folder in meeting.folders or tree[folder][1]:
            below = whole or any((folder + b"/").startswith(base + b"/") for base in bases)
            inner = (join(folder, name) for name in tree[folder][0])
            if (
                below
                or tree[folder][1]
                or any(f in found and f not in meeting.bases for f in inner)
            ):
                found.add(folder)
    return {f for f in found if f.partition(b"/")[0] != OWN}


def _in_order(folders: Iterable[bytes], bases: Mapping[bytes, bytes]) -> list[bytes]:
    """Folders with their own place first, and each after the one above it."""

    def rank(folder: bytes) -> tuple[bool, int, bytes]:
        own = any(base and (folder + b"/").startswith(base + b"/") for base in bases)
        return not own, folder.count(b"/") if folder else -1, folder

    return sorted(folders, key=rank)


def allot_more(
    taken: Iterable[bytes], names: Sequence[bytes], rules: Sequence[Rules]
) -> dict[bytes, bytes]:
    """Names for files that appeared in one folder after the plan, beside the names taken."""
    found = Apart()
    folder = _Folder(found, b"", rules, {}, _Fixed(Survey(), Uses(), Gathering()))
    folder.taken = {folder.key(n) for n in taken}
    folder.run([], list(names))
    return found.files


class _Fixed:
    """Files that something knows by their name alone."""

    def __init__(self, survey: Survey, uses: Uses, gathering: Gathering) -> None:
        self._survey, self._rows = survey, uses.keeps_name
        self._loose = {place for place, o in gathering.items if o.frame}
        self._places: set[bytes] | None = None

    def __contains__(self, place: bytes) -> bool:
        if self._places is None:
            if self._rows:
                self._places = {p for row, _, p in self._survey.rows() if row in self._rows}
            else:
                self._places = set()
        return place in self._places or place in self._loose


def _tree(
    survey: Survey, fates: Sequence[int], gathering: Gathering
) -> dict[bytes, tuple[list[bytes], list[bytes]]]:
    """The names in every folder that is copied: its folders and its other entries."""
    tree: dict[bytes, tuple[list[bytes], list[bytes]]] = {b"": ([], [])}
    for folder in survey.folders:
        goes = [fate in GOES for fate in fates[folder.first : folder.end]]
        names = compress(survey.names_in(folder), goes)
        tree.setdefault(folder.place, ([], []))[1].extend(names)
    for place, _ in gathering.items:
        tree.setdefault(parent(place), ([], []))[1].append(place.rpartition(b"/")[2])
    for place in gathering.folders():
        tree.setdefault(place, ([], []))
    for place in list(tree):
        if place:
            tree.setdefault(parent(place), ([], []))[0].append(place.rpartition(b"/")[2])
    return tree


class _Equal(Struct):
    """Files that exist there already: file → place there, and the forms of their names."""

    stands: dict[bytes, bytes] = field(default_factory=dict)
    equal_keys: set[bytes] = field(default_factory=set)


class _Folder:
    """Names in one folder of the copy."""

    def __init__(
        self,
        found: Apart,
        folder: bytes,
        rules: Sequence[Rules],
        before: Mapping[bytes, bytes],
        fixed: _Fixed,
    ) -> None:
        self._found, self._folder, self._rules, self._before, self._fixed = (
            found,
            folder,
            rules,
            before,
            fixed,
        )
        self._folding = [r for r in rules if r.folds_case]
        self.taken: set[bytes] = set()
        # Renamed because another file has the name, or together with one that is.
        self._makes_way: set[bytes] = set()
        self._numbers: dict[bytes, int] = {}

    def key(self, name: bytes) -> bytes:
        """Names with the same key are equal on some destination."""
        for rules in self._folding:
            name = rules.fold(name)
        return name

    def run(self, subfolders: list[bytes], names: list[bytes]) -> None:
        """Gives everything in it a name."""
        everything = subfolders + names
        if not self.taken and not self._before and self._all_fine(everything):
            return
        wanted = {n: self._wanted(n) for n in everything}
        # Files that cannot be renamed keep a name that others want too.
        order = sorted(names, key=lambda n: (not self._is_fixed(n), n))
        doubtful = self._doubtful(wanted, [*sorted(subfolders), *order])
        groups = [g for g in self._groups(names) if not doubtful.isdisjoint(g)]
        # Files that belong together are renamed together.
        together = {n for g in groups for n in g}
        for name in subfolders:
            if name not in doubtful:
                self._settle(name, wanted[name], True)
        for name in names:
            if name not in together:
                self._settle(name, wanted[name], False)
        for name in sorted(doubtful.intersection(subfolders)):
            self._allot([name], wanted, True)
        for group in groups:
            self._allot(group, wanted, False)

    def meet(
        self, meeting: Meeting, there: bytes, subfolders: list[bytes], names: list[bytes]
    ) -> None:
        """Gives a name to everything that arrives in an existing folder.

        A folder of the same name is merged; an equal file counts as the copy; any other existing
        file keeps its name.
        """
        standing = meeting.standing(there)
        merged = {}
        for name in subfolders:
            other = standing.get(self.key(self._wanted(name)))
            if other and other.mergeable:
                merged[name] = other.name
        taken = self._names_taken(meeting, there, names)
        held = {
            key
            for key, other in standing.items()
            if other.name not in merged.values() and key not in taken.equal_keys
        }
        self.taken |= held
        for name, other_name in merged.items():
            self._merge(name, other_name)
        self._found.stands |= taken.stands
        rest = [n for n in names if join(self._folder, n) not in taken.stands]
        folders = [n for n in subfolders if n not in merged]
        self._tell_taken(held, folders, rest)
        self.taken |= taken.equal_keys
        self.run(folders, rest)

    def _names_taken(self, meeting: Meeting, there: bytes, names: list[bytes]) -> _Equal:
        """Which of the arriving files exist there already, whole groups at a time.

        A photo and its sidecar stay together: if the name of one is taken, both arrive.
        """
        standing, equal = meeting.standing(there), _Equal()
        for group in self._groups(names) if standing or meeting.looks_elsewhere else ():
            met = [(n, standing.get(self.key(self._wanted(n)))) for n in group]
            same = {
                n: join(there, other.name)
                for n, other in met
                if other and meeting.equal(join(self._folder, n), join(there, other.name), other)
            }
            if any(other and n not in same for n, other in met):
                continue
            if not same and len(group) == 1 and not self._is_fixed(group[0]):
                place = join(self._folder, group[0])
                if (elsewhere := meeting.equal_elsewhere(place)) is not None:
                    equal.stands[place] = elsewhere
                continue
            for n, place in same.items():
                equal.stands[join(self._folder, n)] = place
                equal.equal_keys.add(self.key(place.rpartition(b"/")[2]))
        return equal

    def _merge(self, name: bytes, other: bytes) -> None:
        """Merges a folder with an existing one, under the existing one's name."""
        self.taken.add(self.key(other))
        if name != other:
            self._found.folders[join(self._folder, name)] = other

    def _tell_taken(self, held: set[bytes], folders: list[bytes], names: list[bytes]) -> None:
        """Records that another file has the name, and what belongs to it."""
        for name in folders:
            if self.key(self._wanted(name)) in held:
                self._makes_way.add(name)
                self._found.taken.append(join(self._folder, name))
                self._found.with_taken.add(join(self._folder, name))
        for group in self._groups(names):
            mine = [n for n in group if self.key(self._wanted(n)) in held]
            if mine:
                self._makes_way.update(group)
            self._found.taken += [join(self._folder, n) for n in mine]
            self._found.with_taken |= {join(self._folder, n) for n in mine}
            if any(not is_companion(n) for n in mine):
                companions = [n for n in group if is_companion(n)]
                self._found.with_taken |= {join(self._folder, n) for n in companions}

    def _all_fine(self, names: list[bytes]) -> bool:
        if any(rules.refused_names(names) for rules in self._rules):
            return False
        if not self._folding:
            return True
        together = b"/".join(names)
        if together.isascii():
            return len(set(together.upper().split(b"/"))) == len(names) or not names
        return len({self.key(n) for n in names}) == len(names)

    def _wanted(self, name: bytes) -> bytes:
        """Its name before an earlier crossing, if known, otherwise its own."""
        recorded = self._before.get(join(self._folder, name))
        return recorded.rpartition(b"/")[2] if recorded and not self._is_fixed(name) else name

    def _is_fixed(self, name: bytes) -> bool:
        return join(self._folder, name) in self._fixed

    def _why(self, name: bytes) -> str | None:
        return next((why for rules in self._rules if (why := rules.refuses_name(name))), None)

    def _doubtful(self, wanted: dict[bytes, bytes], order: list[bytes]) -> set[bytes]:
        """Files that may not get the name they want.

        Refused there, or equal to another name, of which the first keeps it.
        """
        found, seen = set(), set(self.taken)
        for name in order:
            key = self.key(wanted[name])
            if key in seen or self._why(wanted[name]):
                found.add(name)
            else:
                seen.add(key)
        return found

    def _groups(self, names: list[bytes]) -> list[list[bytes]]:
        """Files that belong together by their names.

        A photo with its sidecars, a database with its journals.
        """
        there, groups = set(names), dict[bytes, list[bytes]]()
        for name in sorted(names):
            groups.setdefault(_stem(name, there), []).append(name)
        return list(groups.values())

    def _allot(self, group: list[bytes], wanted: dict[bytes, bytes], folder: bool) -> None:
        stem = _stem(group[0], set(group)) if not folder else group[0]
        same = all(wanted[n] == n for n in group)
        first = b"/".join(
            self._changed(wanted[n], b"" if folder or not same else n[len(stem) :], 1)
            for n in group
        )
        # If many want one name, each does not try all numbers of those before it.
        begin = self._numbers.get(first, 1)
        for number in range(begin, begin + _MOST_TRIES):
            new = {
                n: self._changed(wanted[n], b"" if folder or not same else n[len(stem) :], number)
                for n in group
            }
            keys = {self.key(n) for n in new.values()}
            if (
                len(keys) == len(group)
                and not keys & self.taken
                and not any(map(self._why, new.values()))
            ):
                break
            if number >= 2 and len(group) > 1 and len({self.key(n) for n in group}) < len(group):
                self._one_by_one(group, wanted)
                return
        else:
            for name in group:
                self._found.cannot[join(self._folder, name)] = tr("it cannot have another name")
            return
        self._numbers[first] = number + 1
        for name in group:
            self._settle(name, new[name], folder)

    def _one_by_one(self, group: list[bytes], wanted: dict[bytes, bytes]) -> None:
        """Files of one stem whose names are equal: each is handled by itself.

        A sidecar of that stem then has two photos.
        """
        if sidecar := next((n for n in group if is_companion(n)), None):
            for name in group:
                self._found.cannot[join(self._folder, name)] = tr(
                    "{decode} belongs to several", decode=sidecar.decode(errors="replace")
                )
            return
        for name in group:
            self._allot([name], wanted, False)

    def _changed(self, name: bytes, ending: bytes, number: int) -> bytes:
        """A name that can be stored.

        ``ending`` stays at its end, with a number above 1 before it.
        """
        if number == 1 and not self._why(name):
            return name
        stem = name[: len(name) - len(ending)] if ending and name.endswith(ending) else name
        if not ending and b"." in name.lstrip(b"."):
            stem, dot, extension = name.rpartition(b".")
            ending = dot + extension
        mark = f" ({number})" if number > 1 else ""
        return _plain(stem, mark, ending, self._rules)

    def _settle(self, name: bytes, new: bytes, folder: bool) -> None:
        place = join(self._folder, name)
        self.taken.add(self.key(new))
        if place in self._before:
            self._found.before[place] = self._before[place]
        if new == name:
            return
        if not folder and self._is_fixed(name):
            self._found.cannot[place] = tr(
                "the documents that use it can only find it by this name"
            )
            return
        (self._found.folders if folder else self._found.files)[place] = new
        if new == self._wanted(name):
            self._found.returned.append(place)
        elif why := self._why(name):
            self._found.refused[place] = why
        elif name not in self._makes_way:
            self._found.doubled.append(place)


def _stem(name: bytes, there: set[bytes]) -> bytes:
    owner = name.rpartition(b".")[0]
    if is_companion(name) and owner in there:
        name = owner
    return name.rpartition(b".")[0] or name


def _plain(stem: bytes, mark: str, ending: bytes, rules: Sequence[Rules]) -> bytes:
    """A name that every destination can store.

    Characters that cannot be stored become an underscore; a name that is too long is shortened
    before its ending.
    """
    reserved = frozenset().union(*(r.reserved for r in rules))
    text, end = _as_text(stem, rules, reserved), _as_text(ending, rules, reserved)
    if any(
        r.devices and r.refuses_name(_part(text, end).encode("utf-8", "surrogateescape"))
        for r in rules
    ):
        first, dot, rest = text.partition(".")
        text = f"{first}_{dot}{rest}"
    trailing = "".join(r.trailing for r in rules)
    if trailing and (text + mark + end)[-1:] in set(trailing):
        whole = text + mark + end
        kept = whole.rstrip(trailing)
        text, mark, end = kept + "_" * (len(whole) - len(kept)), "", ""
    while text and _too_long(text + mark + end, rules):
        text = text[:-1]
    while end and _too_long(text + mark + end, rules):
        end = end[:-1]
    return (text + mark + end).encode("utf-8", "surrogateescape")


def _part(text: str, end: str) -> str:
    """The part of a name that makes it a device's name."""
    return (text + end).partition(".")[0]


def _as_text(name: bytes, rules: Sequence[Rules], reserved: frozenset[str]) -> str:
    unicode_only = any(r.unicode_only for r in rules)
    largest = min(r.largest_code for r in rules)
    text = name.decode("utf-8", "surrogateescape")
    if largest < LAST_CODE:
        text = "".join(
            c if ord(c) <= largest or "\udc80" <= c <= "\udcff" else _plainer(c, largest)
            for c in text
        )
    return "".join(
        "_" if c in reserved or (unicode_only and "\udc80" <= c <= "\udcff") else c for c in text
    )


def _plainer(c: str, largest: int) -> str:
    """A letter without what a character set lacks: its accents, or unchanged (Unicode NFKD)."""
    return "".join(x for x in unicodedata.normalize("NFKD", c) if ord(x) <= largest) or "_"


def _too_long(text: str, rules: Sequence[Rules]) -> bool:
    for r in rules:
        if r.utf16_names and len(text.encode("utf-16-le", "surrogatepass")) > 510:
            return True
        if not r.utf16_names and len(text.encode("utf-8", "surrogateescape")) > 255:
            return True
    return False
