"""Settling: links, times, identity, manifest and inventory.

Then the staged library gets its final name.

An interrupted arrival can never be taken for a library: the final name appears in one rename, or,
where the drive cannot
promise that nothing is replaced, in a folder that was made exclusively and gets its identity file
last.
"""

from __future__ import annotations

import errno
import io
from collections.abc import Callable
from datetime import UTC, datetime
from itertools import islice
from typing import BinaryIO

from fascis.crossing.arrival.rewriting import Rewriting
from fascis.crossing.copying.engine import Side
from fascis.crossing.journal.copies import Copies
from fascis.crossing.model.seen import Fidelity
from fascis.crossing.places.clearing import Clearing
from fascis.crossing.places.places import (
    CLAIM,
    NEW,
    TOKEN_FILE,
    Places,
    is_arriving,
    prove_staging,
    write_new,
)
from fascis.crossing.places.putting import put
from fascis.drives.leftovers import clear_leftovers
from fascis.files.codes import Code
from fascis.files.errors import Refused, told
from fascis.files.inventory import Entry, InventoryWriter
from fascis.files.manifest import write_manifest
from fascis.files.medium import Medium, remove_own
from fascis.files.names import join, shown
from fascis.files.writer import AtomicWriter
from fascis.library.identity import (
    IDENTITY,
    INVENTORY,
    MANIFEST,
    OWN,
    Crossed,
    Home,
    Identity,
    format_identity,
)
from fascis.library.roles import ROLES

_LISTED_AT_ONCE = 4096


def settle(
    copies: Copies,
    places: Places,
    source: Medium,
    destination: Side,
    home: Home,
    keeps: Fidelity,
    clock: Callable[[], float],
    receipts: Callable[[], tuple[bytes, bytes]],
    rewriting: Rewriting,
) -> None:
    """Brings a verified crossing's staged library to its final name.

    May be called again after any interruption.

    Args:
        home: what the identity file will say.
        keeps: what the destination keeps.
        receipts: gives the receipt as JSON and HTML.
        rewriting: writes documents and links anew, so that they lead to the new places.

    Raises:
        EnvironmentTrouble: the destination failed.
        Refused: the final name was taken meanwhile.
    """
    medium, root = destination.medium, places.staged_library
    clearing = Clearing(copies, places, medium, keeps, clock)
    try:
        claimed = is_arriving(medium, places)
        if not claimed and medium.exists(root):
            prove_staging(medium, places)
            if keeps.links:
                rewriting.links(source, medium, root)
            rewriting.documents(medium, root)
            _own_files(copies, places, source, medium, home, receipts, clock)
            _folder_times(copies, places, source, medium, keeps.owner)
            medium.sync()
        act = copies.open_act("arrive") or copies.intend(
            "arrive", shown(str(places.target)), clock()
        )
        if claimed:
            clearing.set_theirs_apart(
                places.name
            )  # cut off while it moved in: what a person put there meanwhile is theirs
        _arrive(copies, places, medium, claimed, clock)
        _top_times(places, source, medium, keeps.owner)
        medium.sync_folder(b"")
        medium.sync()
        copies.journal.conclude(act, "arrived", clock())
        clear_staging(clearing, medium, places)
    except OSError as error:
        raise told(error, "settle on " + destination.name) from error


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
        status = source.status(
            b""
        )  # made by gathering, or gone since: readable by whoever may read the library
    try:
        medium.set_folder_status(copy, status, owner)
    except PermissionError:
        return  # a drive without permissions


# -- Fascis's own files in the library -------------------------------------------------------------


def _own_files(
    copies: Copies,
    places: Places,
    source: Medium,
    medium: Medium,
    home: Home,
    receipts: Callable[[], tuple[bytes, bytes]],
    clock: Callable[[], float],
) -> None:
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
            medium, join(root, MANIFEST), lambda manifest: _write_both(inventory, manifest, copies)
        ),
    )
    identity = new_identity(places, home, copies, clock)
    put(medium, join(root, IDENTITY), lambda out: _all(out, format_identity(identity)))
    for folder in (OWN + b"/receipts", OWN):
        _like(
            source, b"", medium, join(root, folder), False
        )  # readable by whoever may read the library


def write_lists(own: int, copies: Copies) -> None:
    """Writes manifest and inventory of an arrived library again, each whole or not at all."""
    inventory, manifest = (p.rpartition(b"/")[2] for p in (INVENTORY, MANIFEST))
    with AtomicWriter(own, inventory) as one, AtomicWriter(own, manifest) as other:
        _write_both(one.file, other.file, copies)
        one.commit()
        other.commit()


def new_identity(
    places: Places, home: Home, copies: Copies, clock: Callable[[], float]
) -> Identity:
    """The identity of the library in its new place."""
    header = places.header
    crossed = Crossed.model_validate(
        {
            "id": places.crossing,
            "when": datetime.fromtimestamp(clock(), UTC),
            "from": shown(header.source),
            "to": shown(str(places.target)),
            "token": header.token,
            "part_of": header.whole if header.part else "",
        }
    )
    old = Identity.model_validate(header.identity) if header.identity else None
    return Identity(
        library_id=header.library_id,
        name=shown(header.name),
        kind=header.kind,
        home=home,
        roles=old.roles if old else {},
        history=[*(old.history if old and not header.part else []), crossed],
    )


def _all(out: BinaryIO, content: bytes) -> None:
    out.write(content)


def _write_both(inventory: BinaryIO, manifest: BinaryIO, copies: Copies) -> None:
    """Writes both lists in one pass, some thousand files at a time."""
    roles = [role.value for role in ROLES]
    entries = (
        Entry(place, size, mtime, digest, roles[role], before)
        for place, size, mtime, digest, role, before in copies.verified_files()
    )
    text = io.TextIOWrapper(inventory, "utf-8", newline="")
    lists = InventoryWriter(text, copies.journal.has_renamed())
    while some := list(islice(entries, _LISTED_AT_ONCE)):
        lists.write(some)
        write_manifest(manifest, ((entry.digest, entry.place) for entry in some))
    text.detach()


# -- the final name --------------------------------------------------------------------------------


def _arrive(
    copies: Copies, places: Places, medium: Medium, claimed: bool, clock: Callable[[], float]
) -> None:
    if not medium.exists(places.staged_library) and not claimed:
        return  # the rename was done; only its outcome was not written down
    if not claimed:
        try:
            medium.rename_new(places.staged_library, places.name)
            medium.sync_folder(b"")
            return
        except FileExistsError as error:
            if copies.open_act("claim") is None or not _only_claimed(places, medium):
                raise Refused(
                    Code.DESTINATION_EXISTS,
                    f"{shown(str(places.target))} appeared meanwhile and is not touched. The copy"
                    " waits beside it; set that folder aside and resume.",
                ) from error
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
        _claim(copies, places, medium, clock)
    _move_in(places, medium)
    if (act := copies.open_act("claim")) is not None:
        copies.journal.conclude(act, "arrived", clock())


def _only_claimed(places: Places, medium: Medium) -> bool:
    """True when the folder at the final name holds nothing but what claiming it makes."""
    if medium.names(places.name) not in ([], [OWN]):
        return False
    own = join(places.name, OWN)
    return not medium.exists(own) or set(medium.names(own)) <= {b"arriving.json" + NEW}


def _claim(copies: Copies, places: Places, medium: Medium, clock: Callable[[], float]) -> None:
    """Where the drive cannot rename without replacing.

    An exclusive folder with this crossing's token.
    """
    if copies.open_act("claim") is None:
        if medium.exists(places.name):
            raise Refused(
                Code.DESTINATION_EXISTS,
                f"{shown(str(places.target))} appeared meanwhile and is not touched.",
            )
        copies.intend("claim", shown(str(places.target)), clock())
        medium.make_folder(places.name)
    elif not medium.exists(places.name):
        medium.make_folder(places.name)
    if not medium.exists(join(places.name, OWN)):
        medium.make_folder(join(places.name, OWN))
    write_new(medium, join(places.name, CLAIM), [places.header.token.encode()])
    medium.sync()


def _move_in(places: Places, medium: Medium) -> None:
    root = places.staged_library
    if medium.exists(root):
        for name in sorted(medium.names(root)):
            if name != OWN:
                _move_one_in(medium, join(root, name), join(places.name, name))
        staged_own = join(root, OWN)
        if medium.exists(staged_own):
            for name in sorted(medium.names(staged_own), key=lambda n: OWN + b"/" + n == IDENTITY):
                medium.sync()  # the identity last, and only when all the rest is durable
                medium.move_into_claimed(join(staged_own, name), join(join(places.name, OWN), name))
            medium.remove_folder(staged_own)
        medium.remove_folder(root)
    medium.sync()
    remove_own(medium, join(places.name, CLAIM))


def _move_one_in(medium: Medium, place: bytes, final: bytes) -> None:
    try:
        medium.move_into_claimed(place, final)
    except FileExistsError:
        medium.remove_folder(
            final
        )  # somebody made it, and nothing is in it; any other stays, and is an error
        medium.move_into_claimed(place, final)


def withdraw(
    copies: Copies, places: Places, medium: Medium, keeps: Fidelity, clock: Callable[[], float]
) -> None:
    """Takes an arrival back into the staging folder.

    After an unclean end its files are doubtful, and are read again there.

    What a person put or changed in it meanwhile is set apart first, and never taken for a bad copy.
    The staging folder is there, with its token. May be called again after any interruption.

    Raises:
        EnvironmentTrouble: the destination failed.
    """
    root, name = places.staged_library, places.name
    act = copies.open_act("withdraw") or copies.intend(
        "withdraw", shown(str(places.target)), clock()
    )
    clearing = Clearing(copies, places, medium, keeps, clock)
    try:
        _drop_doubles(clearing, copies, places, medium)
        clearing.set_theirs_apart(name)
        if not is_arriving(medium, places):
            try:
                medium.rename_new(name, root)
            except OSError as error:
                if error.errno != errno.EINVAL:
                    raise
                write_new(medium, join(name, CLAIM), [places.header.token.encode()])
        if is_arriving(medium, places):
            _move_out(places, medium)
        medium.sync()
    except OSError as error:
        raise told(error, "take the arrival back", name) from error
    for kind in ("claim", "arrive"):
        if (begun := copies.open_act(kind)) is not None:
            copies.journal.conclude(begun, "withdrawn", clock())
    copies.journal.conclude(act, "done", clock())


def _drop_doubles(clearing: Clearing, copies: Copies, places: Places, medium: Medium) -> None:
    """After power was lost, what was moved may be found at both places.

    The staged ones go, and everything is read again.

    The names may stand for the same blocks of the drive, so that removing one spoils the other:
    only reading tells.
    """
    root, name = places.staged_library, places.name
    if not medium.exists(root):
        return
    own, staged_own = join(name, OWN), join(root, OWN)
    doubles = [n for n in medium.names(name) if n != OWN and medium.exists(join(root, n))]
    if medium.exists(own) and medium.exists(staged_own):
        doubles += [join(OWN, n) for n in medium.names(own) if medium.exists(join(staged_own, n))]
    if not is_arriving(medium, places) and not doubles:
        medium.remove_folder(
            root
        )  # an empty one; any other holds what the arrival lacks, and is an error
        return
    if doubles:
        copies.doubt_all()
    for place in doubles:
        clearing.clear_one(root, place)
    if not is_arriving(medium, places):
        clearing.clear(root)
    medium.sync()


def _move_out(places: Places, medium: Medium) -> None:
    """The way back of :func:`_move_in`.

    The identity first, so that what is left is never taken for a library.
    """
    root, name = places.staged_library, places.name
    own, staged_own = join(name, OWN), join(root, OWN)
    for folder in (root, staged_own):
        if not medium.exists(folder):
            medium.make_folder(folder)
    for entry in sorted(medium.names(own), key=lambda n: OWN + b"/" + n != IDENTITY):
        if OWN + b"/" + entry not in (CLAIM, CLAIM + NEW):
            medium.move_into_claimed(join(own, entry), join(staged_own, entry))
            medium.sync()
    for entry in medium.names(name):
        if entry != OWN:
            medium.move_into_claimed(join(name, entry), join(root, entry))
    medium.sync()
    _remove_claim(places, medium)


def _remove_claim(places: Places, medium: Medium) -> None:
    own = join(places.name, OWN)
    for rest in (CLAIM + NEW, CLAIM):
        if medium.exists(join(places.name, rest)):
            remove_own(medium, join(places.name, rest))
    medium.remove_folder(own)
    medium.remove_folder(places.name)


def clear_staging(clearing: Clearing, medium: Medium, places: Places) -> None:
    """Removes what is left of the staging folder.

    What in it is this crossing's goes, the rest is set apart.

    What asking the drive left beside it, when the program was killed meanwhile, goes too.

    Raises:
        Refused: the token is not this crossing's, or something else is mounted in it.
    """
    clear_leftovers(medium)
    if not medium.exists(places.staging):
        return
    token = places.staging + b"/" + TOKEN_FILE
    if not medium.exists(token) and medium.names(places.staging) in ([], [TOKEN_FILE + NEW]):
        if medium.exists(token + NEW):
            remove_own(
                medium, token + NEW
            )  # cut off before the token was whole: nothing else is in there
        medium.remove_folder(places.staging)
        return
    prove_staging(medium, places)
    clearing.clear_staging()
    medium.sync()
    remove_own(medium, token)
    medium.remove_folder(places.staging)
    medium.sync_folder(b"")
