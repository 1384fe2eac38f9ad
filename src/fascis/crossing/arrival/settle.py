"""Settling: links, times, identity, manifest and inventory; then the staged library lands."""

from __future__ import annotations

from collections.abc import Callable
from typing import BinaryIO

from fascis.crossing.arrival.arriving import Arriving
from fascis.crossing.arrival.records import amend_records, new_identity, write_both
from fascis.crossing.arrival.rewriting import Rewriting
from fascis.crossing.journal.copies import Copies
from fascis.crossing.places.places import Places
from fascis.crossing.places.putting import put
from fascis.files.disk.medium import Medium
from fascis.files.errors import told
from fascis.files.names import join, shown
from fascis.library.identity import Home, format_identity
from fascis.library.own import IDENTITY, INVENTORY, MANIFEST, OWN, READINGS
from fascis.words.speech import tr


def settle(
    arriving: Arriving,
    source: Medium,
    home: Home,
    receipts: Callable[[], tuple[bytes, bytes]],
    rewriting: Rewriting,
) -> None:
    """Completes the staged library of a verified crossing, and moves it to its path.

    May be called again after any interruption.

    Args:
        home: what the identity file will say.
        receipts: returns the receipt as JSON and HTML.
        rewriting: rewrites documents and links, so that they lead to the new paths.

    Raises:
        EnvironmentTrouble: the destination failed.
        Refused: the final name was taken meanwhile.
    """
    copies, places, landing = arriving.copies, arriving.places, arriving.landing
    medium, owner = arriving.medium, arriving.keeps.owner
    try:
        if not landing.is_arriving() and medium.exists(landing.staged):
            landing.prove()
            if arriving.keeps.links:
                rewriting.links(source, medium, landing.staged)
            rewriting.documents(medium, landing.staged)
            if landing.has_records:
                _own_files(arriving, source, home, receipts)
                _readings(arriving, source, rewriting)
            _folder_times(copies, places, source, medium, owner)
            medium.sync()
        act = copies.open_act("arrive") or copies.intend(
            "arrive", shown(str(places.target)), arriving.clock()
        )
        landing.arrive()
        if landing.has_records:
            _top_times(places, source, medium, owner)
        else:
            amend_records(arriving, home, receipts)
        medium.sync_folder(b"")
        medium.sync()
        copies.put("arrived_at", arriving.clock())
        copies.journal.conclude(act, "arrived", arriving.clock())
        landing.clear()
    except OSError as error:
        raise told(error, tr("settle on {drive}", drive=places.label)) from error


def _folder_times(
    copies: Copies, places: Places, source: Medium, medium: Medium, owner: bool
) -> None:
    for place, there in reversed(copies.journal.folders_that_cross()):
        if place and not (place == OWN or place.startswith(OWN + b"/")):
            _like(source, place, medium, join(places.staged_library, there), owner)


def _top_times(places: Places, source: Medium, medium: Medium, owner: bool) -> None:
    _like(source, b"", medium, places.name, owner)


def _like(source: Medium, place: bytes, medium: Medium, copy: bytes, owner: bool) -> None:
    try:
        status = source.status(place)
    except FileNotFoundError:
        # Made by gathering, or missing now: readable by everyone who can read the library.
        status = source.status(b"")
    try:
        medium.set_folder_status(copy, status, owner)
    except PermissionError:
        return  # a drive without permissions


# -- Fascis's own files in the library -------------------------------------------------------------


def _own_files(
    arriving: Arriving, source: Medium, home: Home, receipts: Callable[[], tuple[bytes, bytes]]
) -> None:
    copies, places, medium = arriving.copies, arriving.places, arriving.medium
    root = places.staged_library
    for folder in (OWN, OWN + b"/receipts"):
        if not medium.exists(join(root, folder)):
            medium.make_folder(join(root, folder))
    name = places.crossing.encode()
    json_receipt, html_receipt = receipts()
    put(
        medium,
        join(root, OWN + b"/receipts/" + name + b".json"),
        lambda out: _all(out, json_receipt),
    )
    put(
        medium,
        join(root, OWN + b"/receipts/" + name + b".html"),
        lambda out: _all(out, html_receipt),
    )
    put(
        medium,
        join(root, INVENTORY),
        lambda inventory: put(
            medium, join(root, MANIFEST), lambda manifest: write_both(inventory, manifest, copies)
        ),
    )
    identity = new_identity(places, home, arriving.clock)
    put(medium, join(root, IDENTITY), lambda out: _all(out, format_identity(identity)))
    for folder in (OWN + b"/receipts", OWN):
        # Readable by everyone who can read the library.
        _like(source, b"", medium, join(root, folder), False)


def _readings(arriving: Arriving, source: Medium, rewriting: Rewriting) -> None:
    """Confirmed readings of documents of unknown make are stored too, for other computers."""
    medium, folder = arriving.medium, join(arriving.places.staged_library, READINGS)
    if not rewriting.readings:
        return
    if not medium.exists(folder):
        medium.make_folder(folder)
    for shape, stored in rewriting.readings.items():
        text = stored.as_text(travels=True).encode("utf-8", "surrogateescape")
        put(
            medium,
            join(folder, shape.hex().encode() + b".json"),
            lambda out, text=text: _all(out, text),  # type: ignore[misc]
        )
    _like(source, b"", medium, folder, False)


def _all(out: BinaryIO, content: bytes) -> None:
    out.write(content)
