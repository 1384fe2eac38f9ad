"""The work of ``split``, and of other commands for a split; imported only when one runs."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any, NoReturn

import typer
from msgspec import Struct

from fascis.commands.crossing_progress import Telling
from fascis.commands.crossing_work import leave
from fascis.commands.named import resolve
from fascis.commands.progress import stoppable
from fascis.commands.telling import INTERRUPTED, REFUSED, WRONG, interactive, put, say, usage
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.receipts.receipt import receipt_of
from fascis.crossing.scope.parts import NotOnePart, find_part
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.crossing.split import NewLibrary, Split, SplitPlan, one_for_each, plan_split
from fascis.crossing.status.deleting import deleting_of_split
from fascis.crossing.status.queue import find_split
from fascis.crossing.status.report import (
    deleting_object,
    exit_status,
    refusal_object,
    split_object,
    split_plan_object,
)
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError, Refused
from fascis.files.names import shown
from fascis.machine.awake import Awake
from fascis.words.figures import size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

_SEVERITY = (0, WRONG, REFUSED, INTERRUPTED)


class Wanted(Struct, frozen=True):
    """The options of ``split``."""

    library: str
    to: str
    parts: list[str]
    rest: str
    after: After | None


def split(wanted: Wanted, dry_run: bool, yes: bool, as_json: bool) -> None:
    """Splits one library into several."""
    workspace = from_environment()
    surveyed = survey_library(workspace, resolve(workspace, wanted.library))
    libraries = _libraries(surveyed, wanted, as_json)
    after = wanted.after or After.KEEP
    to = Path(wanted.to).absolute()
    plan = plan_split(workspace, surveyed, to, libraries, after)
    _tell_plan(plan)
    if plan.stopped:
        _refuse(plan, as_json)
    if dry_run:
        if as_json:
            put(split_plan_object(plan))
        raise typer.Exit(0)
    asks = plan.asks or after is After.RELEASE
    if asks and not yes and not (interactive() and typer.confirm(tr("Go on?"), err=True)):
        if after is After.RELEASE and not plan.asks:
            say("--after release deletes the originals: --yes consents to that. Nothing was done.")
        _refuse(plan, as_json)
    plan = plan_split(workspace, surveyed, to, libraries, after, ask=True)
    if plan.stopped:
        _tell_plan(plan)
        _refuse(plan, as_json)
    try:
        begun = Split.start(workspace, plan, consent=after is After.RELEASE)
    except Refused as error:
        _end_refused(error, as_json)
    _go(begun, as_json, consent=after is After.RELEASE)


def _libraries(surveyed: Surveyed, wanted: Wanted, as_json: bool) -> list[NewLibrary]:
    """The requested new libraries, or one for each project."""
    found = []
    for given in wanted.parts:
        name, equals, projects = given.partition("=")
        some = tuple(filter(None, projects.split(",")))
        if not (name and equals and some):
            usage(f"--part is NAME=PROJECT[,PROJECT]; {shown(given)} is not.", as_json)
        found.append(NewLibrary(name, some))
    found = found or one_for_each(surveyed)
    taken: dict[str, str] = {}
    for each in found:
        for project in each.projects:
            if project in taken:
                both = tr("{taken} and {name}", taken=shown(taken[project]), name=shown(each.name))
                usage(
                    tr(
                        "{project} would be in two parts: {both}.",
                        project=shown(project),
                        both=both,
                    ),
                    as_json,
                )
            taken[project] = each.name
        try:
            find_part(surveyed, each.projects)
        except NotOnePart as error:
            usage(str(error), as_json)
    if wanted.rest:
        found.append(NewLibrary(wanted.rest, tuple(sorted(taken)), rest=True))
    return found


def _tell_plan(plan: SplitPlan) -> None:
    for part in plan.plans:
        files = trn("{n} file", "{n} files", part.totals.files)
        say(f"{shown(part.name)}: {files}, {size(part.totals.bytes)} → {shown(str(part.target))}")
    say(
        trn(
            "{size} become {size_2} in {libraries}; {n} file stays ({size_3}).",
            "{size} become {size_2} in {libraries}; {n} files stay ({size_3}).",
            plan.stays_files,
            size=size(plan.before_bytes),
            size_2=size(plan.parts_bytes),
            libraries=trn("{n} library", "{n} libraries", len(plan.plans)),
            size_3=size(plan.stays_bytes),
        )
    )
    for problem in plan.problems:
        remedy = f" {problem.remedy}" if problem.remedy else ""
        say(f"{problem.severity.value}: {problem.sentence}{remedy}")


def _refuse(plan: SplitPlan, as_json: bool) -> NoReturn:
    if as_json:
        put(split_plan_object(plan, State.REFUSED.value))
    raise typer.Exit(REFUSED)


def _end_refused(error: FascisError, as_json: bool) -> NoReturn:
    if as_json:
        put(refusal_object(error))
    say(str(error))
    raise typer.Exit(REFUSED)


def _go(split: Split, as_json: bool, consent: bool, skip: bool = False) -> NoReturn:
    """Runs a split as far as its plan and the consent allow, and exits."""
    error: FascisError | None = None
    control = Control()
    try:
        with Awake(tr("A library is split")):
            split.run(partial(_cross, control=control, skip=skip), _tell_part)
            with Telling(split.parts[0]) as telling:
                stoppable(lambda: split.advance(consent, control, telling), control)
    except KeyboardInterrupt:
        error = Cancelled(tr("Stopped. What is verified is kept; fascis resume goes on."))
    except FascisError as stopped:
        error = stopped
    _end(split, as_json, error)


def _cross(part: Crossing, control: Control, skip: bool) -> State:
    with Telling(part) as telling:
        return stoppable(lambda: part.run(control, telling, skip), control)


def _tell_part(part: Crossing) -> None:
    say(f"{shown(part.places.header.name)} → {shown(str(part.places.told))}")


def _end(split: Split, as_json: bool, error: FascisError | None = None) -> NoReturn:
    record = split_object(split, error)
    if as_json:
        put(record)
    else:
        _tell(record)
    status = _status(record, error)
    split.close()
    leave(status, error)


def _status(record: dict[str, Any], error: FascisError | None) -> int:
    if isinstance(error, Refused):
        return REFUSED
    if error:
        return INTERRUPTED
    return max((exit_status(part) for part in record["parts"]), key=_SEVERITY.index)


def _tell(record: dict[str, Any]) -> None:
    for problem in record["problems"]:
        say(problem["sentence"])
    print(tr("Split {split}: {state}.", split=record["split"], state=record["state"]))
    for part in record["parts"]:
        print(
            trn(
                "  {to}  {state}, {n} file verified",
                "  {to}  {state}, {n} files verified",
                part["verified_files"],
                to=part["to"][0],
                state=part["state"],
            )
        )
    stays = record["stays"]
    print(
        trn(
            "{size} became {size_2}; no part has {n} file, {size_3}.",
            "{size} became {size_2}; no part has {n} files, {size_3}.",
            stays["files"],
            size=size(record["before_bytes"]),
            size_2=size(record["parts_bytes"]),
            size_3=size(stays["bytes"]),
        )
    )


# -- other commands with the id of a split ---------------------------------------------------------


def the_split(workspace: Workspace, id: str, as_json: bool) -> Split | None:
    """The split with this id; None if it is not one. Exits with a message if it cannot be read."""
    try:
        return find_split(workspace, id)
    except FascisError as error:
        _end_refused(error, as_json)


def resume(split: Split, skip: bool, as_json: bool) -> NoReturn:
    """Resumes a split."""
    consent = bool(split.parts[0].places.header.consent)
    _go(split, as_json, consent, skip)


def release(split: Split, compared: bool, as_json: bool) -> NoReturn:
    """Deletes the originals of all parts."""
    control = Control()
    error: FascisError | None = None
    for part in split.parts:
        # Naming this step explicitly is the confirmation.
        part.looked()
    try:
        with Telling(split.parts[0]) as telling:
            stoppable(lambda: split.release(control, telling, compared), control)
    except FascisError as stopped:
        error = stopped
    _end(split, as_json, error)


def list_release(split: Split, as_json: bool) -> None:
    """Lists what a release of all parts would delete now, and what would stay."""
    from fascis.commands.release_work import tell_deleting

    control = Control()
    try:
        found = stoppable(lambda: deleting_of_split(split, control), control)
    except FascisError as error:
        _end_refused(error, as_json)
    finally:
        split.close()
    if as_json:
        put(deleting_object(found))
    else:
        tell_deleting(found, len(found.places))


def park(split: Split, as_json: bool) -> NoReturn:
    """Sets the originals of all parts aside."""
    error: FascisError | None = None
    try:
        split.park()
    except FascisError as stopped:
        error = stopped
    _end(split, as_json, error)


def undo(split: Split, as_json: bool) -> NoReturn:
    """Gives up all parts, or makes the old place home again."""
    error: FascisError | None = None
    try:
        for said in split.undo():
            say(said)
    except FascisError as stopped:
        error = stopped
    _end(split, as_json, error)


def receipts(split: Split, as_json: bool) -> NoReturn:
    """Shows the receipts of all parts."""
    records = [receipt_of(part.journal) for part in split.parts]
    split.close()
    if as_json:
        put({"split": split.id, "receipts": records})
        raise typer.Exit(0)
    for r in records:
        files = trn("{n} file", "{n} files", r["files"])
        print(f"{r['crossing'][:8]}  {r['state']:<9}  {files}  {r['name']} → {r['to']}")
    raise typer.Exit(0)
