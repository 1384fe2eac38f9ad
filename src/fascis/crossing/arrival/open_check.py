"""Opening every document at its new place.

Where its references lead there, and whether a sample of every strand can be seen.

This is what the scales say of documents. It reads the copy alone, and never looks at the old place.
"""

from __future__ import annotations

import os
import time
from contextlib import ExitStack, closing
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from fascis.crossing.arrival.rewriting import documents_of, old_folder, private_copy
from fascis.crossing.arrival.spelling import leads_of
from fascis.crossing.arrival.whither import Whither, path_of
from fascis.crossing.journal.copies import Copies, Item, arrives_at
from fascis.crossing.journal.leads import Led
from fascis.crossing.journal.which import Which
from fascis.crossing.places.arrived import Arrived
from fascis.crossing.places.places import Places
from fascis.documents.catalog import Catalog
from fascis.documents.model import DocumentFormat, Means, NotUnderstood
from fascis.documents.registry import format_of
from fascis.documents.targets import Target, readings
from fascis.drives.rules import Rules
from fascis.files.digest import digest_of_bytes
from fascis.files.errors import EnvironmentTrouble
from fascis.files.medium import Medium
from fascis.files.names import join, parent, shown
from fascis.files.times import mtime_of
from fascis.library.decoding import decode
from fascis.library.reading import read_document
from fascis.library.roles import CATALOG, Role
from fascis.workspace import Workspace

_MOST_WRONG = 100


# of decoding, all strands together: what opens is shown by a sample, not proven
SAMPLE_SECONDS = 20.0


@dataclass(slots=True)
class Opened:
    """What opening the documents of a copy found; all but ``wrong`` are counts.

    Attributes:
        documents: that were opened.
        closed: that are not understood.
        references: by path, in all of them.
        found: that lead to a verified file of the copy.
        left_out: that lead to what was left out by choice.
        lost: that lead nowhere, as they did before.
        elsewhere: that lead out of the library, to where they led before.
        wrong: those that lead to other content than before, or led to a file before and lead to
            none now: ``document: target``.
        sampled: strands of which one picture or clip was to be decoded.
        seen: that could be.
        not_sampled: strands for which there was no time.
    """

    documents: int = 0
    closed: int = 0
    references: int = 0
    found: int = 0
    left_out: int = 0
    lost: int = 0
    elsewhere: int = 0
    wrong: list[str] = field(default_factory=list)
    sampled: int = 0
    seen: int = 0
    not_sampled: int = 0

    def as_json(self) -> dict[str, Any]:
        """For the journal and the receipt."""
        return asdict(self)


def open_documents(
    workspace: Workspace, copies: Copies, places: Places, library: Medium, rules: Rules
) -> Opened:
    """Opens every document of a library that has arrived and follows its references there.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    return _Opening(workspace, copies, places, library, rules).run()


class _Opening:
    """One pass over all documents of a copy.

    Every reference is followed in the copy as it stands on the drive, and what is found there
    compared with what the reference led
    to when the plan was made: by content, so that no mistake of whoever wrote the document can
    pass.
    """

    def __init__(
        self, workspace: Workspace, copies: Copies, places: Places, library: Medium, rules: Rules
    ) -> None:
        self._workspace, self._copies, self._places, self._library = (
            workspace,
            copies,
            places,
            library,
        )
        self._old = Whither(copies, places)
        self._arrived = Arrived(copies, rules.fold if rules.folds_case else bytes)
        self._root = bytes(places.target).rstrip(b"/") + b"/"
        self._derived = copies.derived()
        self._there: dict[bytes, bool] = {}
        self._found = Opened()

    def run(self) -> Opened:
        """Everything."""
        for item in documents_of(self._copies):
            try:
                if item.place.lower().endswith(b"." + CATALOG):
                    self._catalog(item)
                else:
                    self._document(item)
                self._found.documents += 1
            except NotUnderstood:
                self._found.closed += 1
        self._links()
        return self._found

    # -- documents ---------------------------------------------------------------------------------

    def _document(self, item: Item) -> None:
        format = format_of(item.place)
        assert format
        folder = self._root + parent(item.there)
        content = read_document(self._library, item.there)
        references = format.read(content)
        led = self._copies.journal.led(item.id)
        ours = digest_of_bytes(content) in (
            item.digest,
            self._derived[item.id][1] if item.id in self._derived else b"",
        )
        known = (
            led if led and led.seen == item.digest and ours else None
        )  # what a person edited there since is theirs
        leads = leads_of(known, references) if known else [None] * len(references)
        before = self._texts_before(format, item, len(references))
        for number, (reference, led_to) in enumerate(zip(references, leads, strict=True)):
            ways = (
                readings(reference.as_written, format.uris) if reference.means is Means.PATH else []
            )
            if not ways:
                continue
            self._found.references += 1
            if reference.sequence:
                names = [os.fsencode(n) for n in reference.sequence.names()]
            else:
                names = [b""]
            changed = before is not None and before[number] != reference.as_written
            kinds = [
                self._kind(ways, folder, name, led_to[i] if led_to else None, known, changed)
                for i, name in enumerate(names)
            ]
            self._count(
                next((k for k in kinds if k != "found"), "found"), item.there, reference.as_written
            )

    def _texts_before(self, format: DocumentFormat, item: Item, count: int) -> list[str] | None:
        """What the references of a document that was written anew said before."""
        if not item.rewritten:
            return None
        try:
            kept = read_document(self._library, arrives_at(item, self._places.crossing))
            texts = [r.as_written for r in format.read(kept)]
        except (NotUnderstood, EnvironmentTrouble):
            return None
        return texts if len(texts) == count else None

    def _count(self, kind: str, document: bytes, target: str) -> None:
        if kind != "wrong":
            setattr(self._found, kind, getattr(self._found, kind) + 1)
        elif len(self._found.wrong) < _MOST_WRONG:
            self._found.wrong.append(f"{shown(document)}: {shown(target)}")

    def _kind(
        self,
        ways: list[Target],
        folder: bytes,
        inner: bytes,
        lead: int | None,
        led: Led | None,
        changed: bool,
    ) -> str:
        """What became of one reference, or of one frame.

        Args:
            lead: where it led before; None where that is not known.
            changed: the target was written anew: then every reading of it must lead there.
        """
        paths = [path_of(way, folder, inner) for way in ways]
        if lead is None or led is None:
            return self._by_plan(paths)
        found = [p for p in map(self._entry_of, paths) if p is not None]
        if lead >= 0:
            if not found:
                return "left_out" if self._arrived.digest_of(lead) is None else "wrong"
            right = self._arrived.same(found[0], lead) and not (
                changed and any(not self._arrived.same(f, lead) for f in found)
            )
            return "found" if right else "wrong"
        if found:
            return "wrong"  # it led out of the library, or nowhere, and leads into the copy now
        if led.path(lead) is not None:
            outside = any(not p.startswith(self._root) for p in paths)
            return "elsewhere" if outside else "wrong"
        leads_out = not paths[0].startswith(self._root) and self._old.place_of(paths[0]) is None
        return "elsewhere" if leads_out else "lost"

    def _entry_of(self, path: bytes) -> int | None:
        """The entry whose copy a path leads to on the drive now."""
        if not path.startswith(self._root):
            return None
        place = path[len(self._root) :]
        entry = self._arrived.at(place)
        return entry if entry is not None and self._is_there(place) else None

    def _is_there(self, place: bytes) -> bool:
        if place not in self._there:
            try:
                self._there[place] = self._library.exists(place)
            except OSError:
                self._there[place] = False
        return self._there[place]

    # -- documents of which it is not known where they led -----------------------------------------

    def _by_plan(self, paths: list[bytes]) -> str:
        first = ""
        for path in paths:
            kind = self._of_path(path)
            if kind == "found":
                return kind
            first = first or kind
        return first

    def _of_path(self, path: bytes) -> str:
        if not path.startswith(self._root):
            return "elsewhere" if self._old.place_of(path) is None else "wrong"
        place = path[len(self._root) :]
        if self._arrived.at(place) is not None:
            return "found"
        return "left_out" if self._arrived.is_planned(place) else "lost"

    # -- links and catalogs ------------------------------------------------------------------------

    def _links(self) -> None:
        """A link that led to a file of the library leads to the same content in the copy."""
        for item in self._copies.items(Which.LINKS_MADE):
            led = self._copies.journal.led(item.id)
            if led is None or not led.of or led.of[0] < 0:
                continue
            try:
                target = self._library.read_link(item.there)
            except OSError:
                continue  # a drive without links, or it was replaced since
            path = os.path.normpath(os.path.join(self._root + parent(item.there), target))
            entry, lead = self._entry_of(path), led.of[0]
            gone = entry is None and self._arrived.digest_of(lead) is not None
            if gone or (entry is not None and not self._arrived.same(entry, lead)):
                self._count("wrong", item.there, os.fsdecode(target))

    def _is_ours(self, item: Item) -> bool:
        """True while a document looks as this crossing left it."""
        anew = self._derived.get(item.id)
        seen = item.copy_seen
        if item.rewritten:
            seen = anew[0] if anew else None
        try:
            status = self._library.status(item.there)
        except OSError:
            return False
        return seen is not None and (status.st_size, mtime_of(status)) == seen[:2]

    def _catalog(self, item: Item) -> None:
        mount = self._places.destination_mount or Path(self._places.drive.mount)
        mounts = {**self._places.header.mounts, self._places.drive.uuid: str(mount)}
        led = self._copies.journal.led(item.id)
        known = led if led and _same_catalog(led.seen, item) and self._is_ours(item) else None
        leads = known.by_photo() if known else {}
        with (
            private_copy(self._library, {"": item.there}, self._workspace.private) as copy,
            closing(Catalog(copy)) as catalog,
        ):
            folders = {p.id: old_folder(p, mounts) for p in catalog.places()}
            for photo in catalog.photos():
                self._found.references += 1
                above = folders.get(photo.place_id)
                if above is None:
                    path = None
                else:
                    path = os.path.normpath(above + b"/" + os.fsencode(photo.path))
                lead = leads.get(photo.id)
                if path is None:
                    kind = "lost" if lead is None or lead < 0 else "wrong"
                elif lead is None:
                    kind = self._of_path(path)
                else:
                    way = Target(os.fsdecode(path))
                    kind = self._kind([way], self._root, b"", lead, known, False)
                self._count(kind, item.there, photo.path)


def _same_catalog(seen: bytes, item: Item) -> bool:
    """True when a catalog's leads are those of what was copied: by its size and time."""
    return bool(seen and item.seen) and seen.split()[:2] == [
        b"%d" % n for n in (item.seen or (0, 0))[:2]
    ]


# -- one picture or clip of every strand -----------------------------------------------------------


def see_samples(copies: Copies, library: Medium, opened: Opened) -> None:
    """Decodes the smallest picture or clip of every strand in the copy, and counts.

    For a limited time in all.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    rows = copies.smallest_of_strands([r for r in Role if r is Role.ORIGINAL or r.remakeable])
    opened.sampled = opened.seen = 0
    until = time.monotonic() + SAMPLE_SECONDS
    for first in range(0, len(rows), 64):
        with ExitStack() as held:
            handles = []
            for folder, name in rows[first : first + 64]:
                try:
                    handles.append(
                        held.enter_context(closing(library.open(join(folder, name)))).handle
                    )
                except OSError as error:
                    raise EnvironmentTrouble(
                        f"Could not open {shown(name)} in the copy.", join(folder, name)
                    ) from error
            pictures = decode(handles, 64, until=until)
            opened.sampled += len(pictures)
            opened.seen += sum(picture is not None for picture in pictures)
            if len(pictures) < len(handles):
                break
    opened.not_sampled = len(rows) - opened.sampled
