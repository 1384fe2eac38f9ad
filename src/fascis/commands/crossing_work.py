"""The work of the commands in :mod:`fascis.commands.crossings`; imported only when one runs."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Set
from functools import partial
from pathlib import Path
from typing import Any, NoReturn

import typer
from msgspec import Struct

from fascis.commands.crossing_progress import Telling
from fascis.commands.named import resolve
from fascis.commands.progress import Hanging, stoppable
from fascis.commands.telling import INTERRUPTED, REFUSED, WRONG, interactive, put, say, usage
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.model.policy import brings_along
from fascis.crossing.model.problems import Problem, stays_because
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import as_asked, make_plan, make_usual_plan
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import freed_sentence, kept_sentence, plan_sentence
from fascis.crossing.receipts.receipt import (
    clock_text,
    receipt_html,
    receipt_of,
    receipts_of,
    rows_of,
    seal,
)
from fascis.crossing.scope.catalog_folders import Elsewhere, folders_of_catalog
from fascis.crossing.scope.parts import NotOnePart, find_part
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.crossing.start.listed import not_here
from fascis.crossing.status.queue import (
    all_crossings,
    find_crossing,
    line_up,
    opened,
    to_go_on,
    unfinished,
)
from fascis.crossing.status.report import (
    crossing_object,
    exit_status,
    notice,
    plan_object,
    refusal_object,
)
from fascis.files.codes import Code, Severity
from fascis.files.control import Control
from fascis.files.errors import Cancelled, Damaged, EnvironmentTrouble, FascisError, Refused
from fascis.files.hash_lists import HashList, found_lists, list_at
from fascis.files.names import shown
from fascis.library.roles import Role
from fascis.machine.awake import Awake
from fascis.machine.notice import tell_desktop
from fascis.words.figures import duration, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

_LEFT = [r.value for r in Role]
_NO_ROLES = ("unused", "clashing", "taken")
_DISCARDED = [r.value for r in Role if r.remakeable]
# Documents that stay and follow are updated when home moves.
_BEFORE_HOME_GOES = tuple(s.value for s in (*UNFINISHED, State.SETTLED))
# The length of an id's beginning that is used in names.
_SHORTEST = 4
_SEVERITY = (0, WRONG, REFUSED, INTERRUPTED)


def _end(
    crossing: Crossing, as_json: bool, error: FascisError | None = None, refused: bool = False
) -> NoReturn:
    """Prints the state of a crossing and exits with its status."""
    record = crossing_object(crossing, error)
    _show(record, as_json)
    raise typer.Exit(_status(record, error, refused))


def _show(record: dict[str, Any], as_json: bool) -> None:
    if as_json:
        put(record)
    else:
        _tell(record)


def _status(record: dict[str, Any], error: FascisError | None, refused: bool) -> int:
    if refused:
        return REFUSED
    if error:
        return INTERRUPTED
    return exit_status(record)


def _tell(record: dict[str, Any]) -> None:
    for problem in record["problems"]:
        say(problem["sentence"])
    print(
        trn(
            "Crossing {crossing}: {state}. {n} file verified, {size}.",
            "Crossing {crossing}: {state}. {n} files verified, {size}.",
            record["verified_files"],
            crossing=record["crossing"],
            state=record["state"],
            size=size(record["verified_bytes"]),
        )
    )
    for place in record["destinations"]:
        print(place["path"] + (f"  ({place['state']})" if len(record["destinations"]) > 1 else ""))
    for follower in record["followers"] if record["state"] in _BEFORE_HOME_GOES else ():
        print(tr("  still leads to the old place: {path}", path=shown(follower["path"])))
    if record["released_files"]:
        print(
            trn(
                "Deleted {n} original, {size}.",
                "Deleted {n} originals, {size}.",
                record["released_files"],
                size=size(record["released_bytes"]),
            )
        )
    for left in record["left_behind"][:200]:
        print(
            tr(
                "  stays: {path} ({stays_because})",
                path=shown(left["path"]),
                stays_because=stays_because(left),
            )
        )
    if record["parked_at"]:
        print(
            tr(
                "Originals set aside at {parked_at}; this frees nothing yet.",
                parked_at=record["parked_at"],
            )
        )


def _tell_plan(plan: Plan) -> None:
    say(plan_sentence(plan).text)
    for target, goal in zip(plan.targets, plan.goals, strict=True):
        about = duration(goal.estimate.seconds)
        say(
            trn(
                "{path}: {n} file, about {time}",
                "{path}: {n} files, about {time}",
                plan.totals.files,
                path=shown(str(target)),
                time=about,
            )
        )
    if plan.gathering.items:
        total = sum(o.size for _, o in plan.gathering.items)
        if plan.choices.loose_too:
            fate = tr("their originals are deleted with the others")
        else:
            fate = tr("their originals stay")
        say(
            trn(
                "of which gathered: {n} loose file, {size}; {fate}",
                "of which gathered: {n} loose files, {size}; {fate}",
                len(plan.gathering.items),
                size=size(total),
                fate=fate,
            )
        )
    for follower in plan.followers.documents:
        say(
            trn(
                "led to the new place: {told} ({n} reference)",
                "led to the new place: {told} ({n} references)",
                follower.references,
                told=follower.told,
            )
        )
    if plan.discarded.files:
        say(
            trn(
                "not copied, and deleted with the originals: {n} file, {size} ({join})",
                "not copied, and deleted with the originals: {n} files, {size} ({join})",
                plan.discarded.files,
                size=size(plan.discarded.bytes),
                join=", ".join(sorted(plan.choices.discard)),
            )
        )
    say(freed_sentence(plan))
    if kept := kept_sentence(plan):
        say(kept)
    for problem in plan.problems:
        say(
            f"{problem.severity.value}: {problem.sentence}"
            + (f" {problem.remedy}" if problem.remedy else "")
        )


def _refuse(plan: Plan, as_json: bool) -> None:
    if as_json:
        put(plan_object(plan, State.REFUSED.value))
    raise typer.Exit(REFUSED)


def _go(
    crossing: Crossing, as_json: bool, consent: bool, skip: bool = False, bring: bool = False
) -> NoReturn:
    """Runs a crossing as far as its plan and the consent allow, and exits."""
    record, status, error = _gone(crossing, consent, skip, bring)
    _show(record, as_json)
    leave(status, error)


def _gone(
    crossing: Crossing, consent: bool, skip: bool = False, bring: bool = False
) -> tuple[dict[str, Any], int, FascisError | None]:
    """Runs a crossing as far as its plan and the consent allow.

    Returns its object, its exit status, and the error that ended it early.
    """
    name = shown(crossing.places.header.name)
    error: FascisError | None = None
    refused = False
    with Awake(tr("{name} is crossing", name=name)):
        control = Control()
        try:
            with Telling(crossing) as telling:
                state = stoppable(lambda: crossing.run(control, telling, skip), control)
                if state is State.SETTLED and brings_along(crossing.after, bring):
                    state = _bring_along(crossing, bring, telling)
                if state not in (State.WAITING, State.FAILED):
                    stoppable(lambda: crossing.advance(consent, control, telling), control)
        except KeyboardInterrupt:
            error = Cancelled(tr("Stopped. What is verified is kept; fascis resume goes on."))
        except FascisError as stopped:
            error = stopped
            refused = isinstance(error, Refused) and crossing.state is State.PLANNED
    record = crossing_object(crossing, error)
    if crossing.state is State.WAITING:
        _tell_sound_copies(crossing)
    if not isinstance(error, Cancelled):
        tell_desktop(*notice(name, crossing.state, str(error or "")))
    return record, _status(record, error, refused), error


def _tell_sound_copies(crossing: Crossing) -> None:
    """Says which copies have a sound version of an original that was found damaged."""
    from fascis.copies.repairing import sound_copies

    for place in sound_copies(crossing.workspace, crossing):
        say(
            tr(
                "{label} has an undamaged copy of it. To put it back: fascis repair "
                "{origin} --from {path}; then fascis resume {crossing}.",
                label=shown(place.label),
                origin=shown(str(crossing.places.origin())),
                path=shown(str(place.path)),
                crossing=crossing.places.crossing[:8],
            )
        )


def _bring_along(crossing: Crossing, decided: bool, telling: Telling) -> State:
    """Copies files that changed at the old place since, if that was decided.

    Repeats this while somebody continues to work there.
    """
    for _ in range(3):
        newer = crossing.undecided()
        if not newer or not (decided or _asked_along(newer)):
            break
        say(
            trn(
                "{n} file changed at the old place since: copied too.",
                "{n} files changed at the old place since: copied too.",
                len(newer),
            )
        )
        control = Control()
        bring = partial(crossing.bring_along, control, telling)
        if stoppable(bring, control) is not State.SETTLED:
            break
    return crossing.state


def _asked_along(newer: list[bytes]) -> bool:
    if not interactive():
        return False
    return typer.confirm(
        trn(
            "{n} file changed at the old place since. Copy it too?",
            "{n} files changed at the old place since. Copy them too?",
            len(newer),
        ),
        err=True,
    )


class Wanted(Struct, frozen=True):
    """The options of ``relocate``."""

    library: str
    to: str
    also: str
    name: str
    leave_out: list[str]
    discard: list[str]
    after: After | None
    gather: bool
    only: list[str]
    loose_too: bool
    search: list[str]
    shared: Shared | None
    into: str
    rename_taken: bool
    check_list: list[str]


def _check_landing(wanted: Wanted, as_json: bool) -> None:
    """Checks that exactly one landing is given, with none of the other's options."""
    if bool(wanted.to) == bool(wanted.into):
        usage(tr("Give either --to DIR or --into PLACE, not both."), as_json)
    if wanted.into and wanted.also:
        usage(tr("A second copy (--also) needs --to."), as_json)
    if not wanted.into and (wanted.rename_taken or "taken" in wanted.leave_out):
        usage(tr("--rename-taken and --leave-out taken need --into."), as_json)
    if wanted.rename_taken and "taken" in wanted.leave_out:
        usage("--rename-taken and --leave-out taken are two decisions; take one.", as_json)


def _taken(wanted: Wanted) -> Taken | None:
    if wanted.rename_taken:
        return Taken.RENAMED
    return Taken.LEFT_OUT if "taken" in wanted.leave_out else None


def _roles(option: str, given: list[str], known: list[str], as_json: bool) -> frozenset[Role]:
    for role in given:
        if role not in known:
            usage(
                tr(
                    "{option} accepts {join}; {role} is not one of them.",
                    option=option,
                    join=", ".join(known),
                    role=shown(role),
                ),
                as_json,
            )
    return frozenset(map(Role, given))


def relocate(wanted: Wanted, dry_run: bool, later: bool, yes: bool, as_json: bool) -> None:
    """Relocates a library to one or two other drives, whole and verified."""
    _check_landing(wanted, as_json)
    unused = "unused" in wanted.leave_out
    roles = [r for r in wanted.leave_out if r not in _NO_ROLES]
    leave_out = _roles("--leave-out", roles, [*_LEFT, *_NO_ROLES], as_json)
    discard = _roles("--discard", wanted.discard, _DISCARDED, as_json)
    workspace = from_environment()
    surveyed = survey_library(workspace, resolve(workspace, wanted.library))
    elsewhere = _folders_of_catalog(workspace, surveyed, wanted, as_json)
    only = frozenset(wanted.only)
    if elsewhere:
        surveyed, only = elsewhere.surveyed, elsewhere.only
    _check_parts(surveyed, only, wanted, as_json)
    if wanted.search:
        from fascis.commands.relink_work import found_for_copy

        surveyed = found_for_copy(workspace, surveyed, wanted.search, as_json)
    choices = Choices(
        wanted.name,
        leave_out,
        wanted.after or After.KEEP,
        discard,
        wanted.gather,
        unused,
        only=only,
        loose_too=wanted.loose_too,
        leave_clashing="clashing" in wanted.leave_out,
        shared=wanted.shared,
        into=bool(wanted.into),
        taken=_taken(wanted),
    )
    also = Path(wanted.also).absolute() if wanted.also else None
    make = make_usual_plan if wanted.after is None else make_plan
    plan = make(workspace, surveyed, Path(wanted.into or wanted.to).absolute(), choices, also)
    plan.lists = lists = _lists(plan, wanted, as_json)
    after = plan.choices.after
    _tell_plan(plan)
    if plan.stopped:
        _refuse(plan, as_json)
    if dry_run:
        if as_json:
            put(plan_object(plan))
        raise typer.Exit(0)
    waited = _consent(plan, after, yes, as_json)
    plan = _asked_itself(workspace, plan, surveyed, also, waited, yes, as_json)
    plan.lists = lists
    crossing = _started(workspace, plan, yes, as_json)
    if later:
        _wait_its_turn(workspace, crossing, as_json)
    _go(crossing, as_json, consent=after is After.RELEASE, bring=yes)


def cross(
    workspace: Workspace,
    plan: Plan,
    dry_run: bool,
    yes: bool,
    as_json: bool,
    first: Callable[[], None] = lambda: None,
) -> None:
    """Shows a plan without open choices, asks for the remaining decisions, and carries it out.

    Args:
        first: what to do before it starts, with the person's consent.
    """
    _tell_plan(plan)
    if plan.stopped:
        _refuse(plan, as_json)
    if dry_run:
        if as_json:
            put(plan_object(plan))
        raise typer.Exit(0)
    after = plan.choices.after
    _consent(plan, after, yes, as_json)
    try:
        first()
    except Refused as error:
        if as_json:
            put(refusal_object(error))
        say(str(error))
        raise typer.Exit(REFUSED) from None
    crossing = _started(workspace, plan, yes, as_json)
    _go(crossing, as_json, consent=after is After.RELEASE, bring=yes)


def _lists(plan: Plan, wanted: Wanted, as_json: bool) -> tuple[HashList, ...]:
    """The hash lists to compare originals with, each read once to its end.

    Raises:
        Damaged: one is not a hash list.
    """
    paths: list[Path] = []
    for given in wanted.check_list:
        if given == "found":
            paths += found_lists(plan.source)
        elif not Path(given).is_file():
            usage(tr("There is no hash list {given}.", given=shown(given)), as_json)
        else:
            paths.append(Path(given).absolute())
    if wanted.check_list and not paths:
        usage(tr("There is no hash list in the library."), as_json)
    lists = tuple(map(list_at, dict.fromkeys(paths)))
    for one in lists:
        gone = not_here(plan, one)
        for sentence in one.told():
            say(sentence)
        if gone:
            sentence = trn(
                "{n} file is in {name} and not here: {gone} first.",
                "{n} files are in {name} and not here: {gone} first.",
                len(gone),
                name=shown(one.path.name),
                gone=shown(gone[0]),
            )
            problem = Problem(
                Code.LIST_MISMATCH, sentence, "", tuple(gone[:1000]), severity_here=Severity.NOTE
            )
            plan.problems.append(problem)
    return tuple(list_at(one.path) for one in lists)


def _consent(plan: Plan, after: After, yes: bool, as_json: bool) -> bool:
    """Asks for the decisions that a plan leaves open; refuses if consent is not given.

    True if somebody was waited for.
    """
    if yes or not (plan.asks or after is After.RELEASE):
        return False
    if not _asked(plan, after):
        if after is After.RELEASE and not plan.asks:
            sentence = (
                "--after release deletes the originals once their copies are verified. "
                "Nothing was done."
            )
            plan.problems.append(Problem(Code.NOT_CONFIRMED, sentence, tr("Confirm with --yes.")))
            say(tr("{sentence} Confirm with --yes.", sentence=sentence))
        _refuse(plan, as_json)
    return True


def _started(workspace: Workspace, plan: Plan, yes: bool, as_json: bool) -> Crossing:
    """Starts the crossing of a plan without open decisions."""
    consent = plan.choices.after is After.RELEASE
    try:
        crossing = Crossing.start(workspace, plan, decided=True, consent=consent)
        if yes:
            crossing.take_damaged()
    except Refused as error:
        if as_json:
            put(refusal_object(error))
        say(str(error))
        raise typer.Exit(REFUSED) from None
    return crossing


def _wait_its_turn(workspace: Workspace, crossing: Crossing, as_json: bool) -> NoReturn:
    """Puts a crossing at the end of the queue, and exits."""
    found, _ = all_crossings(workspace)
    line_up(found, crossing)
    for other in found:
        other.close()
    say(
        tr(
            "It waits in the queue; fascis resume --all lets every crossing that waits "
            "cross, one after the other."
        )
    )
    if as_json:
        put(crossing_object(crossing))
    raise typer.Exit(0)


def _folders_of_catalog(
    workspace: Workspace, surveyed: Surveyed, wanted: Wanted, as_json: bool
) -> Elsewhere | None:
    """The folders of a catalog that were named, if they lie outside the library's own folder."""
    try:
        return folders_of_catalog(workspace, surveyed, wanted.only)
    except NotOnePart as error:
        usage(str(error), as_json)


def _check_parts(surveyed: Surveyed, only: Set[str], wanted: Wanted, as_json: bool) -> None:
    """Checks that each named part exists, and that several parts have a common name."""
    try:
        find_part(surveyed, sorted(only))
    except NotOnePart as error:
        usage(str(error), as_json)
    if len(only) > 1 and wanted.into:
        if wanted.name:
            usage(tr("Several parts keep their own names with --into; --name is for one."), as_json)
    elif len(only) > 1 and not wanted.name:
        usage(tr("Several parts need a name together: --name NAME."), as_json)


def _asked_itself(
    workspace: Workspace,
    plan: Plan,
    surveyed: Surveyed,
    also: Path | None,
    waited: bool,
    yes: bool,
    as_json: bool,
) -> Plan:
    """The plan, made again after the drives were tested for what they can store.

    New problems are shown and decided first. The earlier plan is kept if the tests changed nothing
    and nobody was waited for.
    """
    if not waited and (stands := as_asked(workspace, plan)) is not None:
        return stands
    fresh = make_plan(workspace, surveyed, plan.asked_for, plan.choices, also, ask=True)
    known = {(p.code, p.files) for p in plan.problems if p.severity is not Severity.NOTE}
    news = [
        p
        for p in fresh.problems
        if p.severity is not Severity.NOTE and (p.code, p.files) not in known
    ]
    for problem in news:
        say(f"{problem.severity.value}: {problem.sentence} {problem.remedy}")
    if fresh.stopped or (news and not yes and not _asked(fresh, plan.choices.after)):
        _refuse(fresh, as_json)
    return fresh


def resume_all(bring_along: bool, as_json: bool) -> None:
    """Resumes interrupted crossings, then runs those in the queue, in order.

    If one stops, the next still runs.
    """
    found, _ = all_crossings(from_environment())
    undecided = [c for c in found if c.undecided_because]
    waiting = [c for c in to_go_on(found) if c not in undecided]
    if not waiting:
        say(tr("No crossing waits in the queue."))
    for crossing in undecided:
        name = shown(crossing.places.header.name)
        say(
            tr(
                "{name} has not arrived: {rstrip}. It goes on with: fascis resume {id}",
                name=name,
                rstrip=crossing.undecided_because.rstrip("."),
                id=crossing.id,
            )
        )
    records, status = [], 0
    for crossing in waiting:
        say(f"{shown(crossing.places.header.name)} → {shown(str(crossing.places.told))}")
        record, ended, error = _gone(
            crossing, bool(crossing.places.header.consent), bring=bring_along
        )
        records.append(record)
        status = max(status, ended, key=_SEVERITY.index)
        if not as_json:
            _tell(record)
        if isinstance(error, Cancelled):
            break
    if as_json:
        put({"crossings": records})
    leave(status, error if waiting else None)


def leave(status: int, error: FascisError | None) -> NoReturn:
    """Exits with a status, at once if a thread is waiting for a drive that does not answer."""
    if isinstance(error, Hanging):
        sys.stderr.flush()
        os._exit(status)
    raise typer.Exit(status)


def resume(
    crossing: str,
    skip_unreadable: bool,
    bring_along: bool,
    take_damaged: bool,
    without: str,
    as_json: bool,
    leave_newer: bool = False,
) -> None:
    """Resumes an interrupted crossing, as its plan says."""
    workspace = from_environment()
    if (workspace.state / "repairs").is_dir():
        from fascis.copies.repairing import Repairs

        for sentence in Repairs(workspace).recover():
            say(sentence)
    id = crossing or next(iter(unfinished(workspace)), "")
    if not id:
        say(tr("No crossing is interrupted; there is nothing to resume."))
        if as_json:
            put(
                {
                    **refusal_object(Refused(Code.INTERRUPTED, "")),
                    "state": "planned",
                    "problems": [],
                }
            )
        raise typer.Exit(0)
    found = open_crossing(workspace, id, as_json)
    if found.finished:
        say(
            tr(
                "Crossing {id} has nothing left to do; its state: {value}.",
                id=found.id,
                value=found.state.words,
            )
        )
    if take_damaged:
        found.take_damaged()
    if leave_newer and found.state in (State.SETTLED, State.SWITCHED):
        left = found.undecided()
        found.leave_newer(left)
        say(
            trn(
                "{n} file stays at the old place as newer, and will never be deleted.",
                "{n} files stay at the old place as newer, and will never be deleted.",
                len(left),
            )
        )
    if without:
        _go_without(found, Path(without).absolute(), as_json)
    _go(
        found,
        as_json,
        consent=bool(found.places.header.consent),
        skip=skip_unreadable,
        bring=bring_along,
    )


def _go_without(crossing: Crossing, folder: Path, as_json: bool) -> None:
    """Gives up the destination with this folder, or with the library's own folder in it."""
    for destination in crossing.destinations:
        destination.places.follow_destination(crossing.workspace)
        if folder in (destination.places.destination, destination.places.target):
            try:
                crossing.go_without(destination)
            except FascisError as error:
                _end(crossing, as_json, error, refused=isinstance(error, Refused))
            say(tr("Going on without {label}. What is whole there stays.", label=destination.label))
            return
    places = ", ".join(shown(str(d.places.destination)) for d in crossing.destinations)
    usage(
        tr(
            "{folder} is no destination of this crossing; it has {places}.",
            folder=shown(str(folder)),
            places=places,
        ),
        as_json,
    )


def park(crossing: str, as_json: bool, others_follow: bool = False) -> None:
    """Sets the originals of a verified crossing aside; this frees no space yet."""
    do_step(crossing, as_json, "lead" if others_follow else "park", needs_switch=True)


def undo(crossing: str, as_json: bool) -> None:
    """Makes the old place home again; deletes no copy.

    For a relinking, restores the documents; for a repair, the earlier bytes.
    """
    from fascis.commands.relink_work import undo as undo_relinking

    workspace = from_environment()
    if undo_relinking(workspace, crossing, as_json):
        return
    if (workspace.state / "repairs").is_dir():
        from fascis.commands.copies_work import undo_repair

        if undo_repair(workspace, crossing, as_json):
            return
    do_step(crossing, as_json, "undo")


def receipts(crossing: str, html: str, as_json: bool) -> None:
    """Shows past crossings, or the receipt of one."""
    workspace = from_environment()
    if crossing:
        record = _record_of(workspace, crossing)
        _one_receipt(record, html, as_json)
        return
    found_all, damaged = all_crossings(workspace)
    records, unreadable = receipts_of(c.journal for c in found_all)
    damaged += unreadable
    ids = {c.id for c in found_all}
    for c in found_all:
        c.close()
    records += _travelled(workspace, ids)
    for error in damaged:
        say(str(error))
    if as_json:
        put({"receipts": records, "damaged": [str(e) for e in damaged]})
        return
    for r in records:
        files = trn("{n} file", "{n} files", r["files"])
        print(
            f"{r['crossing'][:8]}  {clock_text(r['planned_at'])}  {State(r['state']).words:<22}  "
            f"{files}, {size(r['bytes'])}  {r['name']} → {r['to']}"
        )


def _travelled(workspace: Workspace, known: set[str]) -> list[dict[str, Any]]:
    from fascis.copies.travelled import travelled_receipts

    return travelled_receipts(workspace, known)


def _record_of(workspace: Workspace, given: str) -> dict[str, Any]:
    """The receipt of a crossing of this computer, or of one that travelled with a library."""
    try:
        with opened(workspace, given) as found:
            return receipt_of(found.journal)
    except Refused:
        travelled = [r for r in _travelled(workspace, set()) if r["crossing"].startswith(given)]
        if len(travelled) != 1 or len(given) < _SHORTEST:
            raise
        return travelled[0]


def _one_receipt(record: dict[str, Any], html: str, as_json: bool) -> None:
    if html:
        try:
            with open(html, "xb") as out:
                out.write(receipt_html(record))
        except OSError as error:
            usage(
                tr(
                    "{html} cannot be written ({strerror}); nothing was changed.",
                    html=shown(html),
                    strerror=error.strerror,
                ),
                as_json,
            )
    if as_json:
        put(record)
        return
    print(f"{record['name']}: {seal(record)}.")
    for what, figure in rows_of(record):
        print(f"  {what}: {figure}")


def open_crossing(workspace: Workspace, id: str, as_json: bool) -> Crossing:
    """The crossing with this id; exits with a message if there is none or it cannot be read."""
    try:
        return find_crossing(workspace, id)
    except (Refused, Damaged, EnvironmentTrouble) as error:
        if as_json:
            put(refusal_object(error))
        say(str(error))
        raise typer.Exit(
            INTERRUPTED if isinstance(error, EnvironmentTrouble) else REFUSED
        ) from None


def do_step(
    id: str, as_json: bool, what: str, needs_switch: bool = False, compared: bool = False
) -> None:
    """Does one step of a crossing, and exits with its state."""
    found = open_crossing(from_environment(), id, as_json)
    try:
        if needs_switch and found.state is State.SETTLED:
            found.switch()
        if what == "lead":
            for path in found.lead_others():
                say(tr("led to the new place: {document}", document=shown(str(path))))
        if what in ("lead", "park"):
            found.park()
        elif what == "release":
            control = Control()
            # Naming this step explicitly after the switch is the confirmation.
            found.looked()
            with Telling(found) as telling:
                stoppable(lambda: found.release(control, telling, compared), control)
        else:
            say(found.undo())
    except FascisError as error:
        _end(found, as_json, error, refused=isinstance(error, Refused))
    _end(found, as_json)


def _asked(plan: Plan, after: After) -> bool:
    if not interactive():
        return False
    if after is After.RELEASE:
        what = tr("Go on, and delete the originals once their copies are verified?")
    else:
        what = tr("Go on?")
    return typer.confirm(what, err=True)
