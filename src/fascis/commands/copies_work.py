"""The work of the commands in :mod:`fascis.commands.copies`; imported only when one runs."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import typer
from msgspec.structs import replace

from fascis.commands.crossing_work import cross
from fascis.commands.named import resolve
from fascis.commands.progress import Counting, stoppable
from fascis.commands.telling import REFUSED, WRONG, interactive, put, say, usage
from fascis.copies.bringing_back import WayBack, plan_bringing_back, way_back, way_of
from fascis.copies.manifesting import lines_of, write_lists_of
from fascis.copies.repairing import CANNOT, Found, Repairs
from fascis.copies.ungathering import put_back, told_of
from fascis.copies.updating import drop, earlier_of, plan_update
from fascis.crossing.model.afterwards import After
from fascis.crossing.status.queue import find_crossing
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.digests import Algorithm
from fascis.files.names import place_text, shown
from fascis.library.identity import kind_words
from fascis.library.known.places import KnownPlaces, Place, known_places, named
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

T = TypeVar("T")


# -- known libraries -------------------------------------------------------------------------------


def libraries(library: str, look: bool, forget: str, as_json: bool) -> None:
    """Shows all known libraries with their paths, or forgets one."""
    workspace = from_environment()
    if forget:
        _forget(workspace, forget, as_json)
    places = known_places(workspace)
    if library:
        places = named(places, library, Path(library).absolute())
        if not places:
            usage(tr("No library is known as {library}.", library=shown(library)), as_json)
    if look:
        from fascis.copies.comparing import look_at_copies

        for one in places:
            _done(partial(look_at_copies, workspace, one))
        ids = {one.library.id for one in places}
        places = [one for one in known_places(workspace) if one.library.id in ids]
    if as_json:
        put({"libraries": [_as_json(one) for one in places]})
        return
    for one in places:
        _tell(one)
    if not places:
        say(tr("No library is known yet."))


def _forget(workspace: Workspace, given: str, as_json: bool) -> None:
    register, path = workspace.register, Path(given).absolute()
    for one in known_places(workspace):
        library = one.library
        if len(given) >= 4 and library.id.startswith(given):
            register.forget_library(library.id)
            say(tr("{name} is forgotten. No file was changed.", name=shown(library.name)))
            return
        for place in (*one.copies, *one.aside):
            if place.path == path:
                register.forget_copy(library.id, path)
                where = shown(str(path))
                say(tr("The copy at {where} is forgotten. No file was changed.", where=where))
                return
    usage(
        tr("No library has the id {given}, and no copy is at that path.", given=shown(given)),
        as_json,
    )


def _as_json(one: KnownPlaces) -> dict[str, Any]:
    return {
        "library_id": one.library.id,
        "name": one.library.name,
        "kind": one.library.kind,
        "home": _place_json(one.home, home=True),
        "copies": [_place_json(place) for place in one.copies],
        "aside": [_place_json(place) for place in one.aside],
    }


def _place_json(place: Place, home: bool = False) -> dict[str, Any]:
    seen = place.seen
    at = seen.verified_at
    record: dict[str, Any] = {
        "path": shown(str(place.path)),
        "drive": place.label,
        "connected": place.connected,
        "verified_at": datetime.fromtimestamp(at, UTC).isoformat() if at else None,
        "proven": seen.proven,
        "files": seen.files,
        "damaged": seen.damaged,
    }
    if not home:
        record |= {
            "state": place.state.value,
            "behind_files": seen.behind_files,
            "behind_bytes": seen.behind_bytes,
        }
    return record


def _tell(one: KnownPlaces) -> None:
    print(f"{shown(one.library.name)}  ({kind_words(one.library.kind)}, {one.library.id[:8]})")
    print(
        tr(
            "  home         {where}, {verified}",
            where=_where(one.home),
            verified=one.home.verified_words,
        )
    )
    for place in one.copies:
        print(f"  {place.state_words:<12} {_where(place)}, {place.verified_words}")
    for place in one.aside:
        print(tr("  set aside    {where}", where=_where(place)))


def _where(place: Place) -> str:
    path, label = shown(str(place.path)), shown(place.label)
    if not place.connected:
        return tr("{path} on {label}, away", path=path, label=label)
    if not place.there:
        return tr("{path} on {label}, not there any more", path=path, label=label)
    return tr("{path} on {label}", path=path, label=label)


# -- lists -----------------------------------------------------------------------------------------


def manifest(library: str, algorithm: str, as_json: bool) -> None:
    """Gives a library its identity and manifest, or prints a hash list for other programs."""
    workspace = from_environment()
    root = resolve(workspace, library)
    if not root.is_dir():
        usage(tr("There is no folder {root}.", root=shown(str(root))), as_json)
    if algorithm:
        if algorithm not in list(Algorithm):
            known = ", ".join(a.value for a in Algorithm)
            usage(
                tr(
                    "{option} accepts {join}; {role} is not one of them.",
                    option="--as",
                    join=known,
                    role=shown(algorithm),
                ),
                as_json,
            )
        for line in lines_of(workspace, root, Algorithm(algorithm), Control()):
            sys.stdout.buffer.write(line)
        return
    with Counting(shown(root.name)) as counting:
        listed = _done(lambda control: write_lists_of(workspace, root, control, counting))
    if as_json:
        put(
            {
                "library": shown(str(root)),
                "library_id": listed.library_id,
                "files": listed.files,
                "bytes": listed.bytes,
                "manifest": shown(str(root / ".fascis/manifest.b3")),
                "changing": [shown(place) for place in listed.changing],
            }
        )
    else:
        print(
            trn(
                "{name}: {n} file, {size} listed.",
                "{name}: {n} files, {size} listed.",
                listed.files,
                name=listed.name,
                size=size(listed.bytes),
            )
        )
    for place in listed.changing:
        say(
            tr(
                "{place} changed while it was read, or cannot be read. It is in no list.",
                place=shown(place),
            )
        )
    if listed.changing:
        raise typer.Exit(WRONG if listed.files else REFUSED)


def _done(work: Callable[[Control], T]) -> T:
    control = Control()
    return stoppable(lambda: work(control), control)


# -- repairing -------------------------------------------------------------------------------------


def repair(library: str, copy: str, dry_run: bool, yes: bool, as_json: bool) -> None:
    """Restores damaged or missing files of a library from one of its copies."""
    workspace = from_environment()
    root, source = resolve(workspace, library), resolve(workspace, copy)
    for folder in (root, source):
        if not folder.is_dir():
            usage(tr("There is no folder {folder}.", folder=shown(str(folder))), as_json)
    repairs = Repairs(workspace)
    for sentence in repairs.recover():
        say(sentence)
    with Counting(shown(root.name)) as counting:
        found = _done(lambda control: repairs.look(root, source, control, counting))
    _tell_found(found, source)
    act, problems = None, []
    if found.good and not dry_run:
        if yes or (interactive() and typer.confirm(tr("Put the good files back?"), err=True)):
            act = _done(lambda control: repairs.apply(root, source, found, control))
        else:
            sentence = tr("Nothing was put back. Confirm with --yes.")
            say(sentence)
            problems.append(
                {"severity": "stops", "code": Code.NOT_CONFIRMED, "sentence": sentence, "files": []}
            )
    done = [file.place for file in act.files] if act else []
    rest = {p: "not-done" for p in found.good if p not in done} if act else {}
    left = {**found.cannot, **rest}
    if as_json:
        put(
            {
                "act": act.id if act else None,
                "would_repair": [place_text(p) for p in found.good] if not act else [],
                "repaired": [place_text(p) for p in done],
                "not_repaired": [{"path": place_text(p), "why": why} for p, why in left.items()],
                "problems": problems,
            }
        )
    elif act:
        print(
            trn(
                "Act {id}: {n} file repaired. fascis undo takes it back.",
                "Act {id}: {n} files repaired. fascis undo takes it back.",
                len(done),
                id=act.id,
            )
        )
    if problems:
        raise typer.Exit(REFUSED)
    if left or (dry_run and found.good):
        raise typer.Exit(WRONG)


def _tell_found(found: Found, source: Path) -> None:
    for place in found.good:
        what = tr("missing") if place in found.missing else tr("damaged")
        say(
            tr(
                "{what}: {place}, good in {source}",
                what=what,
                place=shown(place),
                source=shown(str(source)),
            )
        )
    for place, why in found.cannot.items():
        say(tr("cannot be repaired: {place} ({cannot})", place=shown(place), cannot=CANNOT[why]))
    if not found.good and not found.cannot:
        say(tr("Nothing is damaged or missing."))


def undo_repair(workspace: Workspace, given: str, as_json: bool) -> bool:
    """Undoes a repair; False if there is no repair with this id."""
    repairs = Repairs(workspace)
    if repairs.find(given) is None:
        return False
    act = repairs.undo(given)
    if as_json:
        put({"act": act.id, "state": act.state, "files": [f.path for f in act.files]})
    else:
        print(
            trn(
                "Act {id}: {n} file as before the repair.",
                "Act {id}: {n} files as before the repair.",
                len(act.files),
                id=act.id,
            )
        )
    return True


# -- bringing a copy up to date --------------------------------------------------------------------


def update(
    copy: str, home: str, drop_earlier: bool, dry_run: bool, yes: bool, as_json: bool
) -> None:
    """Updates a copy from its home, or deletes the files that earlier updates kept in it."""
    workspace = from_environment()
    root = resolve(workspace, copy)
    if not root.is_dir():
        usage(tr("There is no folder {root}.", root=shown(str(root))), as_json)
    if drop_earlier:
        _drop_earlier(workspace, root, yes, as_json)
        return
    source = resolve(workspace, home) if home else _home_of(workspace, root, as_json)
    if not source.is_dir():
        usage(tr("There is no folder {source}.", source=shown(str(source))), as_json)
    if os.path.realpath(source) == os.path.realpath(root):
        usage(tr("That is the home itself. Only copies are brought up to date with it."), as_json)
    plan, _ = _done(lambda control: plan_update(workspace, source, root, control))
    assert plan.update
    facts = plan.update.facts
    say(
        tr(
            "{added} new, {changed} changed, {moved} moved, {removed} gone, {unchanged} the same",
            added=facts.added,
            changed=facts.changed,
            moved=facts.moved,
            removed=facts.removed,
            unchanged=facts.unchanged,
        )
    )
    cross(workspace, plan, dry_run, yes, as_json)


def _home_of(workspace: Workspace, copy: Path, as_json: bool) -> Path:
    """The home of a copy, if it is known here."""
    known = known_places(workspace)
    homes = (k.home for k in known if copy in {place.path for place in k.copies})
    home = next((place.path for place in homes if place.there), None)
    if home is None:
        where = shown(str(copy))
        usage(
            tr(
                "The home of {where} is not known here, or its drive is away. Name it with --from.",
                where=where,
            ),
            as_json,
        )
    return home


def _drop_earlier(workspace: Workspace, root: Path, yes: bool, as_json: bool) -> None:
    files, total = earlier_of(workspace, root)
    say(
        trn(
            "{n} file from before earlier updates is kept, {size}.",
            "{n} files from before earlier updates are kept, {size}.",
            files,
            size=size(total),
        )
    )
    if files and not (yes or (interactive() and typer.confirm(tr("Delete them?"), err=True))):
        say(tr("Nothing was deleted. Confirm with --yes."))
        raise typer.Exit(REFUSED)
    done = drop(workspace, root) if files else 0
    if as_json:
        put({"library": shown(str(root)), "files": done, "bytes": total})


# -- bringing it back ------------------------------------------------------------------------------


def bring_back(
    given: str,
    to: str,
    after: After | None,
    ungather: bool,
    dry_run: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Brings a library back to its earlier path, or into a folder."""
    workspace = from_environment()
    root = resolve(workspace, given)
    if to and root.is_dir():
        way = WayBack(root, Path(to).absolute() / root.name)
    else:
        way = _way_back(workspace, given, as_json)
    if to:
        way = replace(way, before=Path(to).absolute() / way.before.name, aside=None)
    plan, loose = _done(
        lambda control: plan_bringing_back(workspace, way, after, control, ungather)
    )
    for sentence in told_of(loose):
        say(sentence)
    if plan.update:
        facts = plan.update.facts
        say(
            tr(
                "{before} is there: {unchanged} the same, {changed} replaced, {added} new",
                before=shown(str(way.before)),
                unchanged=facts.unchanged,
                changed=facts.changed,
                added=facts.added,
            )
        )

    def first() -> None:
        _done(lambda control: put_back(way.now, loose, control))

    cross(workspace, plan, dry_run, yes, as_json, first)


def _way_back(workspace: Workspace, given: str, as_json: bool) -> WayBack:
    root = resolve(workspace, given)
    if root.is_dir():
        return way_back(workspace, root)
    if "/" in given:
        usage(tr("There is no folder {root}.", root=shown(str(root))), as_json)
    by_name = [k for k in known_places(workspace) if k.library.name == given]
    if len(by_name) == 1:
        return way_back(workspace, by_name[0].home.path)
    crossing = find_crossing(workspace, given)
    try:
        return way_of(crossing)
    finally:
        crossing.close()
