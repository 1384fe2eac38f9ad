"""Writing documents and links of a copy anew, so that they lead to the new places.

The bytes before are kept as they were.

What is copied and verified is never changed: it goes to ``.fascis/as-it-was/<crossing>/``, and what
is written from it,
with nothing but target strings replaced, takes its place. Nothing here looks at the old place
again: where a path leads
is told by the plan: by where each reference led when it was made, and for documents of which that
is not known by their paths.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from fascis.crossing.arrival.spelling import Spelling, leads_of
from fascis.crossing.arrival.whither import Whither
from fascis.crossing.journal.copies import Copied, Copies, Item, arrives_at, as_it_was, own_place
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import copy_seen_of, seen_of
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.arrived import Arrived, place_from, relative
from fascis.crossing.places.places import Places, fidelity
from fascis.crossing.places.putting import Like, make_parents, put
from fascis.crossing.scope.surveyed import JOURNALS
from fascis.documents.catalog import Catalog, Place, move_folders
from fascis.documents.model import DocumentFormat, Means, NotUnderstood, rewrite
from fascis.documents.registry import format_of
from fascis.documents.targets import Target
from fascis.drives.model import Drive
from fascis.files.digest import digest_of_bytes
from fascis.files.medium import Medium, as_stream, move, remove_own
from fascis.files.names import join, parent
from fascis.files.private import make_private
from fascis.library.catalogs import placed
from fascis.library.reading import read_document
from fascis.library.roles import CATALOG, document_endings
from fascis.library.survey import Kind

_CHUNK = 1 << 22


class Rewriting:
    """Writes documents and links of one destination anew.

    May be called again after any interruption.
    """

    def __init__(self, copies: Copies, places: Places, drive: Drive, cache: Path) -> None:
        self._copies, self._places, self._drive, self._cache = copies, places, drive, cache
        self._known: Whither | None = None
        self._arrived: Arrived | None = None

    @property
    def arrived(self) -> Arrived:
        """What the copy has; found when it is first asked for."""
        if self._arrived is None:
            rules = self._drive.rules
            self._arrived = Arrived(self._copies, rules.fold if rules.folds_case else bytes)
        return self._arrived

    @property
    def whither(self) -> Whither:
        """Where paths lead; found when it is first asked for."""
        if self._known is None:
            self._known = Whither(self._copies, self._places)
        return self._known

    # -- documents ---------------------------------------------------------------------------------

    def documents(self, medium: Medium, root: bytes, only: frozenset[int] | None = None) -> None:
        """Writes every document below ``root`` anew whose targets change.

        Args:
            only: these entries, no others. What of them was moved on from ``root`` already is left
                alone.

        Raises:
            EnvironmentTrouble: the destination failed. An ``OSError`` is the caller's to translate.
        """
        for item in documents_of(self._copies):
            if (only is None or item.id in only) and medium.exists(self._as_copied(root, item)):
                if item.place.lower().endswith(b"." + CATALOG):
                    self._catalog(medium, root, item)
                else:
                    self._document(medium, root, item)

    def _document(self, medium: Medium, root: bytes, item: Item) -> None:
        format = format_of(item.place)
        assert format
        try:
            content = read_document(medium, self._as_copied(root, item))
            new = self._new_content(format, content, item)
        except NotUnderstood:
            return  # told of in the survey: it is carried as a file
        if new is None:
            return
        self._keep_as_it_was(medium, root, item)
        self._put(medium, root, item, new)

    def _new_content(self, format: DocumentFormat, content: bytes, item: Item) -> bytes | None:
        references = format.read(content)
        led = self._copies.journal.led(item.id)
        known = led if led and led.seen == item.digest else None
        spelling = Spelling(format, item, self.whither, self.arrived, known)
        targets: dict[tuple[int, int], str] = {}
        texts: dict[tuple[int, int], str] = {}
        leads = leads_of(known, references) if known else [None] * len(references)
        for reference, lead in zip(references, leads, strict=True):
            if (
                reference.means is Means.PATH
                and (new := spelling.new_target(reference, lead)) is not None
            ):
                target, text = new
                targets[reference.locator] = target
                if text is not None:
                    texts[reference.locator] = text
        return rewrite(format, content, targets, references, texts=texts) if targets else None

    def _as_copied(self, root: bytes, item: Item) -> bytes:
        """Where the copied bytes are: at their place, or set aside already."""
        return join(root, arrives_at(item, self._places.crossing))

    def _keep_as_it_was(self, medium: Medium, root: bytes, item: Item) -> None:
        """Moves the copied bytes aside, where they stay as what was verified."""
        if (
            not item.rewritten
        ):  # cut off between these two, the next run finds nothing there and copies it again
            kept = join(root, as_it_was(item.there, self._places.crossing))
            self._copies.begin_rewriting(item.id)
            make_parents(medium, root, kept)
            move(medium, join(root, item.there), kept)

    def _put(self, medium: Medium, root: bytes, item: Item, content: bytes | Path) -> None:
        kept = join(root, as_it_was(item.there, self._places.crossing))

        def fill(out: BinaryIO) -> None:
            if isinstance(content, bytes):
                out.write(content)
                return
            with open(content, "rb") as file:
                while part := file.read(_CHUNK):
                    out.write(part)

        seen, digest = put(
            medium, join(root, item.there), fill, Like.of(medium, kept, fidelity(self._drive))
        )
        self._copies.record_derived(item.id, seen, digest)

    # -- catalogs ----------------------------------------------------------------------------------

    def _catalog(self, medium: Medium, root: bytes, item: Item) -> None:
        """A catalog is changed in a private copy, with its journals.

        These are then part of it, and kept as they were.
        """
        beside = [j for end in JOURNALS if (j := self._copies.at(item.place + end))]
        if any(j.kind is not Kind.FILE for j in beside):
            return  # not understood, and told of in the survey
        journals = [j for j in beside if j.copy is CopyState.VERIFIED]
        parts = {
            os.fsdecode(i.place[len(item.place) :]): self._as_copied(root, i)
            for i in (item, *journals)
        }
        with private_copy(medium, parts, self._cache) as copy:
            name = self._places.header.name if self._names_catalog(item) else None
            try:
                moves, photos = self._moves(copy)
                if not moves and not photos and name is None:
                    return
                move_folders(copy, moves, name, photos)
            except NotUnderstood:
                return  # told of in the survey
            for journal in journals:
                self._keep_as_it_was(medium, root, journal)
            self._keep_as_it_was(medium, root, item)
            self._put(medium, root, item, copy)

    def _names_catalog(self, item: Item) -> bool:
        """True when the catalog is the library, and the person gave it another name."""
        header = self._places.header
        return bool(header.named) and os.fsdecode(item.place) == header.document

    def _moves(
        self, copy: Path
    ) -> tuple[dict[int, tuple[Place, str]], dict[int, tuple[Place, str, str]]]:
        """Folders with their new places.

        Photos that were found elsewhere and go there without their folder.
        """
        with closing(Catalog(copy)) as catalog:
            mounts = self._places.header.mounts
            places = {p.id: old_folder(p, mounts) for p in catalog.places()}
            folders = list(catalog.folders())
            gathered = self._gathered_folders()
            moves = {}
            olds: dict[int, bytes] = {}
            left: dict[int, tuple[bytes, str]] = {}
            for id, place_id, path in folders:
                above = places.get(place_id)
                if above is None:
                    continue
                old = os.path.normpath(above + b"/" + os.fsencode(path))
                new = self._new_folder(old, gathered)
                if new is None:
                    left[id] = old, path
                else:
                    moves[id], olds[id] = self._placed(new, path), old
            photos = self._found_photos(catalog, left, moves)
            return moves, {**photos, **self._renamed_photos(catalog, olds, moves)}

    def _renamed_photos(
        self, catalog: Catalog, olds: dict[int, bytes], moves: dict[int, tuple[Place, str]]
    ) -> dict[int, tuple[Place, str, str]]:
        """Photos whose folder is in the library, and whose own name is another one there."""
        found = {}
        for photo in catalog.photos() if self.whither.renames_files else ():
            if photo.folder_id in olds:
                place = self.whither.place_of(
                    olds[photo.folder_id] + b"/" + os.fsencode(photo.path.rpartition("/")[2])
                )
                if place is not None and (new := self.whither.there(place)) != place:
                    name = new.rpartition(b"/")[2]
                    if name != place.rpartition(b"/")[2]:
                        found[photo.id] = (*moves[photo.folder_id], os.fsdecode(name))
        return found

    def _found_photos(
        self,
        catalog: Catalog,
        left: dict[int, tuple[bytes, str]],
        moves: dict[int, tuple[Place, str]],
    ) -> dict[int, tuple[Place, str, str]]:
        """Photos of folders that are not in the library, and were relinked.

        A folder that was found whole joins ``moves``.
        """
        found: dict[int, dict[int, tuple[bytes, bool]]] = {}
        for photo in catalog.photos() if self.whither.knows_other_names and left else ():
            if photo.folder_id in left:
                name = os.fsencode(photo.path.rpartition("/")[2])
                place = self.whither.place_of(left[photo.folder_id][0] + b"/" + name)
                if place is not None:
                    place = self.whither.there(place)
                    found.setdefault(photo.folder_id, {})[photo.id] = (
                        place,
                        place.endswith(b"/" + name),
                    )
        photos = {}
        for folder, some in found.items():
            path = left[folder][1]
            if len({parent(place) for place, _ in some.values()}) == 1 and all(
                same for _, same in some.values()
            ):
                moves[folder] = self._placed(parent(next(iter(some.values()))[0]), path)
                continue
            for id, (place, _) in some.items():
                photos[id] = (
                    *self._placed(parent(place), path),
                    os.fsdecode(place.rpartition(b"/")[2]),
                )
        return photos

    def _new_folder(self, old: bytes, gathered: dict[bytes, bytes]) -> bytes | None:
        for path in (old, os.path.realpath(old)):
            if path in gathered:
                return gathered[path]
            inner = self.whither.place_of(path + b"/")
            if inner is not None:
                return self.whither.folder(inner.rstrip(b"/"))
        return None

    def _gathered_folders(self) -> dict[bytes, bytes]:
        rows = self._copies.journal.gathered_into()
        return {parent(outside): self.whither.folder(place) for outside, place in rows}

    def _placed(self, new: bytes, path: str) -> tuple[Place, str]:
        """A folder of the new library as a place and a path below it, as it was where possible."""
        if new.startswith(b"/"):
            return Place(0, None, os.fsdecode(new)), ""
        root = bytes(self._places.target)
        return placed(self._drive, join(root, new), path, root)

    # -- links -------------------------------------------------------------------------------------

    def links(self, source: Medium, medium: Medium, root: bytes) -> None:
        """Makes the links of the library.

        One that would lead to the old place leads to the same file at the new one.
        """
        for item in self._copies.items(Which.LINKS_TO_MAKE):
            self.link(source, medium, root, item)

    def link(self, source: Medium, medium: Medium, root: bytes, item: Item) -> None:
        """Makes one link below ``root``: as it was, or as it must be where it leads elsewhere."""
        status, target = source.status(item.place), source.read_link(item.place)
        if item.fate is Fate.OWN:
            self._make_link(
                medium, join(root, own_place(item.there, self._places.crossing)), target, status
            )
            kept = own_place(item.there, self._places.crossing)
        else:
            new = self._link_target(item, target)
            kept = item.there if new is None else as_it_was(item.there, self._places.crossing)
            make_parents(medium, root, join(root, kept))
            self._make_link(medium, join(root, kept), target, status)
            if new is not None:
                self._make_link(medium, join(root, item.there), new, status)
        seen = seen_of(status)
        copy = copy_seen_of(medium.status(join(root, kept)))
        self._copies.record_copies(
            [Copied(item.id, CopyState.COPIED, digest_of_bytes(target), seen, copy)]
        )
        if kept != item.there and item.fate is Fate.COPY:
            self._copies.begin_rewriting(item.id)
        if medium.read_link(join(root, kept)) == target:
            self._copies.record_verified([(item.id, True)])

    def rewritten(self, item: Item, target: bytes) -> bytes:
        """What a link with this target says in the copy.

        Written anew where it would lead elsewhere.
        """
        return self._link_target(item, target) or target

    def _link_target(self, item: Item, target: bytes) -> bytes | None:
        ways = [Target(os.fsdecode(target))]
        led = self._copies.journal.led(item.id)
        if led and led.of and led.of[0] >= 0:
            wanted = self.arrived.place_of(led.of[0])
            stays = not target.startswith(b"/") and place_from(parent(item.there), target) == wanted
            return None if stays else relative(wanted, item.there)
        new = self.whither.new_target(ways, item.place, self.whither.folder_of(item))
        if new is not None and new.startswith(b"/") and not os.path.lexists(new):
            return None  # it led nowhere, and goes on saying so
        return new

    @staticmethod
    def _make_link(medium: Medium, place: bytes, target: bytes, status: os.stat_result) -> None:
        if medium.exists(place):
            remove_own(medium, place)
        medium.make_link(target, place)
        with suppress(PermissionError):
            medium.set_link_time(place, status)


def documents_of(copies: Copies) -> Iterator[Item]:
    """Every verified document of a destination, by its name."""
    # All of them first, for the journal is written to while they are worked on.
    ids = copies.verified_names(b"." + ending for ending in document_endings())
    return (copies.item(id) for id in ids)


def old_folder(place: Place, mounts: dict[str, str]) -> bytes | None:
    """Where a place of a catalog is, by where its drive was mounted.

    None for a drive that is not known.
    """
    if place.drive_uuid is None:
        return os.fsencode(place.path)
    mount = mounts.get(place.drive_uuid)
    return None if mount is None else os.fsencode(mount) + b"/" + os.fsencode(place.path)


@contextmanager
def private_copy(medium: Medium, parts: dict[str, bytes], cache: Path) -> Iterator[Path]:
    """A database of a medium with its journals (ending → place), copied to a private folder.

    The folder goes afterwards.
    """
    make_private(cache)
    with tempfile.TemporaryDirectory(dir=cache) as folder:
        copy = Path(folder) / "catalog"
        for end, place in parts.items():
            if end != "-shm":
                with closing(medium.open(place)) as file, open(f"{copy}{end}", "xb") as out:
                    shutil.copyfileobj(as_stream(file), out, _CHUNK)
        yield copy
