"""The work of ``verify``.

A module of its own with few imports, so that reading starts sooner.
"""

from __future__ import annotations

from pathlib import Path

import typer

from fascis.commands.named import resolve
from fascis.commands.progress import Counting, stoppable
from fascis.commands.telling import WRONG, put, say, usage
from fascis.copies.verifying.verified import Verified, verify_at
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.hash_lists import HashList, found_lists, list_at
from fascis.files.names import shown
from fascis.library.known.places import known_places
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment


def verify(
    given: list[str], drive: str, everything: bool, lists: list[str], gentle: bool, as_json: bool
) -> None:
    """Reads libraries again and compares them with their manifests."""
    workspace = from_environment()
    roots = [resolve(workspace, library) for library in given]
    for root in roots:
        if not root.is_dir():
            usage(tr("There is no folder {root}.", root=shown(str(root))), as_json)
    if everything or drive:
        roots += [p for p in _known(workspace, drive, as_json) if p not in roots]
    if not roots:
        if not (everything or drive):
            usage(tr("Name a library, or a drive (--drive), or take all (--all)."), as_json)
        say(tr("Nothing that can be verified is connected."))
    found = _lists(roots, lists, as_json)
    single = len(given) == 1 and not (everything or drive)
    results, wrong = [], False
    for root in roots:
        verified = _verify_one(workspace, root, found, gentle, single)
        if isinstance(verified, Verified):
            results.append(verified.as_json())
            wrong = wrong or not verified.sound
            if not as_json:
                _tell_verified(verified)
        else:
            results.append({"library": shown(str(root)), "error": str(verified)})
            wrong = True
            say(str(verified))
    if as_json:
        put(results[0] if single else {"libraries": results})
    if wrong:
        raise typer.Exit(WRONG)


def _verify_one(
    workspace: Workspace, root: Path, lists: list[HashList], gentle: bool, single: bool
) -> Verified | FascisError:
    """Verifies one of them; if one of several cannot be verified, the others still are."""
    control = Control()
    try:
        with Counting(shown(root.name)) as counting:
            return stoppable(
                lambda: verify_at(workspace, root, control, counting, gentle, lists), control
            )
    except Cancelled:
        raise
    except FascisError as error:
        if single:
            raise
        return error


def _known(workspace: Workspace, drive: str, as_json: bool) -> list[Path]:
    """Connected homes and copies with a manifest, on one drive or on all."""
    connected = workspace.drives.connected()
    wanted = [d for d in connected if not drive or drive in (d.label, d.uuid, str(d.mount))]
    if not wanted:
        usage(tr("No drive {drive} is connected.", drive=shown(drive)), as_json)
    uuids = {d.uuid for d in wanted}
    places = [p for one in known_places(workspace) for p in (one.home, *one.copies)]
    there = [p.path for p in places if p.there and p.drive in uuids]
    return [path for path in dict.fromkeys(there) if (path / ".fascis/manifest.b3").is_file()]


def _lists(roots: list[Path], given: list[str], as_json: bool) -> list[HashList]:
    for path in map(Path, given):
        if not path.is_file():
            usage(tr("There is no hash list {path}.", path=shown(str(path))), as_json)
    if not given:
        for root in roots:
            for path in found_lists(root):
                say(tr("{path} is a hash list: --list compares with it.", path=shown(str(path))))
    return [list_at(Path(path).absolute()) for path in given]


def _tell_verified(verified: Verified) -> None:
    found, record = verified.found, verified.as_json()
    for sentence in found.said:
        say(sentence)
    how = tr("from the drive itself") if found.proven else tr("back, perhaps from memory")
    print(
        trn(
            "{name}: {n} file of {files} equal, {size} read {how}.",
            "{name}: {n} files of {files} equal, {size} read {how}.",
            found.matching,
            name=shown(verified.root.name),
            files=trn("{n} file", "{n} files", found.files),
            size=size(found.bytes),
            how=how,
        )
    )
    words = {
        "edited": tr("edited"),
        "damaged": tr("damaged"),
        "missing": tr("missing"),
        "unlisted": tr("unlisted"),
        "list_mismatch": tr("not what the hash list says"),
        "list_missing": tr("in the hash list, and not there"),
        "references_unresolved": tr("refers to what is not there"),
    }
    for name, told in words.items():
        for place in record[name]:
            print(f"  {told}: {shown(place)}")
