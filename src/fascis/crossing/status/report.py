"""What the command line prints about a crossing.

The object of docs/formats.md, from the journal alone.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from fascis.crossing.arrival.destination import Destination
from fascis.crossing.arrival.rewriting import why_carried
from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.header import UpdateFacts
from fascis.crossing.journal.opening import making_sense
from fascis.crossing.journal.which import Which
from fascis.crossing.model.landing import IntoExisting
from fascis.crossing.model.notices import Notice, hindrance_sentence
from fascis.crossing.model.problems import Problem
from fascis.crossing.model.states import ARRIVED, UNFINISHED, State
from fascis.crossing.places.places import Places
from fascis.crossing.plan.plan import Plan
from fascis.crossing.split import Split, SplitPlan
from fascis.crossing.status.deleting import Deleting
from fascis.files.codes import Code, Severity, Stays
from fascis.files.errors import (
    Cancelled,
    DriveFull,
    DriveGone,
    EnvironmentTrouble,
    FascisError,
    Refused,
)
from fascis.files.names import join, place_text, shown
from fascis.library.own import OWN
from fascis.words.speech import tr, trn


def problem_object(problem: Problem) -> dict[str, Any]:
    """A problem as JSON."""
    return {
        "severity": problem.severity.value,
        "code": problem.code,
        "sentence": problem.sentence,
        "files": [place_text(p) for p in problem.files],
    }


def plan_object(plan: Plan, state: str = "planned") -> dict[str, Any]:
    """The output of a dry run or a refusal."""
    return _object(
        crossing=None,
        state=state,
        library_id=_library_id(plan),
        **{"from": shown(str(plan.source))},
        to=[shown(str(t)) for t in plan.targets],
        destinations=[
            {
                "path": shown(str(t)),
                "state": state,
                "proven": False,
                "verified_files": 0,
                "verified_bytes": 0,
            }
            for t in plan.targets
        ],
        files=plan.totals.files,
        gathered_files=len(plan.gathering.items),
        bytes=plan.totals.bytes,
        part=_planned_part(plan),
        already_there_files=len(plan.apart.stands),
        followers=plan.followers_told(),
        shared=plan.kept_for_others(),
        frees_bytes=plan.frees,
        problems=[problem_object(p) for p in plan.problems],
        seconds=0.0,
        **_update(plan.update.facts if plan.update else None),
    )


def _update(facts: UpdateFacts | None) -> dict[str, int]:
    """What an update changes; empty for any other crossing."""
    return facts.model_dump(mode="python") if facts else {}


def _library_id(plan: Plan) -> str | None:
    """The library that it is, or becomes part of, as far as known before it starts."""
    landing = plan.goals[0].landing
    known = landing.library if isinstance(landing, IntoExisting) else plan.library_id
    return known or None


def _planned_part(plan: Plan) -> dict[str, list[str]] | None:
    names, folders = (plan.part.names, plan.part.all_folders) if plan.part else ([], [])
    if plan.of_catalog:
        folders = _of_catalog(bytes(plan.source), folders)
    return _part(names, folders) if plan.part or plan.of_catalog else None


def _of_catalog(source: bytes, folders: list[bytes]) -> list[bytes]:
    """Folders that a catalog knows elsewhere, by their full paths."""
    return [join(source, folder) for folder in folders] or [source]


def _part(names: Sequence[str], folders: Sequence[bytes]) -> dict[str, list[str]]:
    return {"projects": [shown(n) for n in names], "folders": [place_text(f) for f in folders]}


def _object(**known: Any) -> dict[str, Any]:
    empty: dict[str, Any] = {
        "crossing": None,
        "state": "refused",
        "library_id": None,
        "from": None,
        "to": [],
        "destinations": [],
        "files": 0,
        "bytes": 0,
        "verified_files": 0,
        "verified_bytes": 0,
        "gathered_files": 0,
        "part": None,
        "followers": [],
        "shared": [],
        "already_there_files": 0,
        "frees_bytes": 0,
        "problems": [],
        "mismatched": [],
        "left_behind": [],
        "released_files": 0,
        "released_bytes": 0,
        "parked_at": None,
        "manifest": None,
        "receipt": None,
        "seconds": 0.0,
    }
    return {**empty, **known}


def refusal_object(error: FascisError) -> dict[str, Any]:
    """A refusal without a plan."""
    return _object(problems=[_error_object(error)])


def _error_object(error: FascisError) -> dict[str, Any]:
    """The error that ended a run, as a problem."""
    code = code_of(error)
    severity = Severity.DECISION if code == Code.CHANGED_SINCE_SURVEY else Severity.STOPS
    files = [place_text(p) for p in getattr(error, "files", ())[:1000]]
    return {"severity": severity, "code": code, "sentence": str(error), "files": files}


def code_of(error: FascisError) -> str:
    """The code of an error, from the closed list."""
    if isinstance(error, Refused):
        return error.code
    if isinstance(error, Cancelled):
        return Code.INTERRUPTED
    if isinstance(error, DriveFull):
        return Code.DRIVE_FULL
    if isinstance(error, DriveGone):
        return Code.DRIVE_GONE
    return Code.TROUBLE if isinstance(error, EnvironmentTrouble) else Code.JOURNAL_DAMAGED


def crossing_object(crossing: Crossing, error: FascisError | None = None) -> dict[str, Any]:
    """The present state of a crossing; ``error`` is what ended the present run.

    Raises:
        Damaged: what is in its journal makes no sense.
    """
    with making_sense(crossing.journal.path):
        return _crossing_object(crossing, error)


def _crossing_object(crossing: Crossing, error: FascisError | None) -> dict[str, Any]:
    journal, places = crossing.journal, crossing.places
    state = crossing.state
    files, size = crossing.copies.going()
    verified_files, verified_bytes = crossing.verified
    release = journal.value("release") or {}
    hindered = list(crossing.hindrances())
    problems = [
        {
            "severity": Severity.DECISION,
            "code": s.value,
            "sentence": hindrance_sentence(p, s),
            "files": [place_text(p)],
        }
        for p, s in hindered[:1000]
    ]
    problems += list(_reference_problems(crossing))
    if error is not None:
        problems.append(_error_object(error))
    records = _records(places)
    arrived = state in ARRIVED
    parked_at = journal.value("parked_at")
    projects, folders = [], []
    if crossing.part:
        projects = crossing.part.projects
        folders = [os.fsencode(f) for f in crossing.part.folders]
    if of_catalog := places.header.of_catalog:
        folders = _of_catalog(os.fsencode(places.source), folders)
    part = _part(projects, folders) if crossing.part or of_catalog else None
    return _object(
        crossing=crossing.id,
        state=state.value,
        library_id=places.header.library_id or None,
        **{"from": shown(str(places.source))},
        to=[shown(str(d.places.told)) for d in crossing.demanded],
        destinations=[_destination(crossing, d) for d in crossing.destinations],
        files=files,
        bytes=size,
        verified_files=verified_files,
        verified_bytes=verified_bytes,
        part=part,
        already_there_files=crossing.copies.sums(Which.STOOD)[0],
        followers=journal.followers(),
        shared=_shared(crossing, release),
        frees_bytes=places.header.frees,
        problems=problems,
        mismatched=[place_text(p) for p, s in hindered if s is Notice.MISMATCH],
        left_behind=release.get("left_behind", []),
        released_files=sum(release.get(k, 0) for k in ("files", "discarded_files", "loose_files")),
        released_bytes=sum(release.get(k, 0) for k in ("bytes", "discarded_bytes", "loose_bytes")),
        gathered_files=crossing.copies.sums(Which.GATHERED_VERIFIED)[0],
        parked_at=shown(parked_at) if parked_at else None,
        manifest=f"{records}/manifest.b3" if arrived and records else None,
        receipt=f"{records}/receipts/{crossing.id}.json" if arrived and records else None,
        seconds=round(journal.value("seconds", 0.0), 3),
        **_update(places.header.update),
    )


def _records(places: Places) -> str | None:
    """The folder of the records; None if it did not land in a library."""
    if places.goal.stands and not places.goal.library:
        return None
    return shown(str(places.target)) + "/" + OWN.decode()


def _shared(crossing: Crossing, release: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Originals that are kept because others need them.

    As planned, and once they are deleted, as it was.
    """
    if not release:
        return list(crossing.journal.value("kept_for_others", []))
    return [
        {"path": left["path"], "bytes": left["bytes"], "used_by": left["by"]}
        for left in release["left_behind"]
        if left["why"] == Stays.USED_ELSEWHERE
    ]


def _reference_problems(crossing: Crossing) -> Iterator[dict[str, Any]]:
    """References that lead nowhere, or to the wrong file, at the new path."""
    said = crossing.places.header.references
    if missing := said.get("missing", 0):
        sentence = trn(
            "{n} file that documents refer to is missing, as before.",
            "{n} files that documents refer to are missing, as before.",
            missing,
        )
        yield {
            "severity": Severity.NOTE,
            "code": Code.REFERENCES_MISSING,
            "sentence": sentence,
            "files": [],
        }
    if unknown := said.get("not_understood", 0):
        sentence = trn(
            "{n} document is not understood: open the library in its own program, "
            "point it to {told}, and look.",
            "{n} documents are not understood: open the library in its own program, "
            "point it to {told}, and look.",
            unknown,
            told=shown(str(crossing.places.told)),
        )
        yield {
            "severity": Severity.NOTE,
            "code": Code.NOT_UNDERSTOOD,
            "sentence": sentence,
            "files": [],
        }
    twice = [place_text(i.outside or b"") for i in crossing.copies.items(Which.LOOSE_MAY_GO)]
    if twice and crossing.state in ARRIVED:
        sentence = trn(
            "{n} loose file is now in two places: gathered, and where it was.",
            "{n} loose files are now in two places: gathered, and where they were.",
            len(twice),
        )
        yield {
            "severity": Severity.NOTE,
            "code": Code.IN_TWO_PLACES,
            "sentence": sentence,
            "files": twice[:1000],
        }
    for destination in crossing.demanded:
        opened = destination.opened()
        if opened and opened.wrong:
            sentence = trn(
                "{n} reference leads to other content than before, or to none: {wrong}",
                "{n} references lead to other content than before, or to none: {wrong}",
                len(opened.wrong),
                wrong=opened.wrong[0],
            )
            sentence = "; ".join([sentence, *why_carried(destination.copies, opened.wrong)])
            yield {
                "severity": Severity.STOPS,
                "code": Code.OUT_OF_BALANCE,
                "sentence": sentence,
                "files": [],
            }


def split_plan_object(plan: SplitPlan, state: str = "planned") -> dict[str, Any]:
    """The output of a dry run, or a refusal, of a split."""
    return {
        "split": None,
        "state": state,
        "parts": [plan_object(part, state) for part in plan.plans],
        "before_bytes": plan.before_bytes,
        "parts_bytes": plan.parts_bytes,
        "stays": {"files": plan.stays_files, "bytes": plan.stays_bytes},
        "problems": [problem_object(p) for p in plan.problems],
    }


def split_object(split: Split, error: FascisError | None = None) -> dict[str, Any]:
    """The present state of a split; ``error`` is what ended the present run.

    Raises:
        Damaged: what is in a journal makes no sense.
    """
    facts = split.facts
    return {
        "split": split.id,
        "state": split.state.value,
        "parts": [crossing_object(part) for part in split.parts],
        "before_bytes": facts.before_bytes,
        "parts_bytes": facts.parts_bytes,
        "stays": {"files": facts.stays_files, "bytes": facts.stays_bytes},
        "problems": [_error_object(error)] if error else [],
    }


def deleting_object(found: Deleting) -> dict[str, Any]:
    """What a release would delete now, as JSON."""
    return {
        "goes": [
            {"path": place_text(place), "bytes": length}
            for place, length in zip(found.places, found.lengths, strict=True)
        ],
        "stays": [
            {"path": place_text(s.place), "bytes": s.bytes, "why": s.why, "by": list(s.by)}
            for s in found.stays
        ],
        "frees_bytes": found.frees,
    }


def _destination(crossing: Crossing, destination: Destination) -> dict[str, Any]:
    """One destination with its own state during the crossing.

    Then with the crossing's state, which only home reaches.
    """
    state = destination.state
    if destination is crossing.home and crossing.state not in UNFINISHED:
        state = crossing.state
    files, size = destination.copies.verified()
    return {
        "path": shown(str(destination.places.told)),
        "state": state.value,
        "proven": bool(files) and destination.copies.proven(),
        "verified_files": files,
        "verified_bytes": size,
    }


def notice(name: str, state: State, trouble: str) -> tuple[str, str, bool]:
    """The desktop notification when a crossing ends or needs somebody.

    A line, a sentence, and whether it needs somebody.
    """
    if trouble:
        return (
            tr("{name} stopped", name=name),
            tr("{trouble} What is verified is kept; it can go on.", trouble=trouble),
            True,
        )
    return {
        State.WAITING: (
            tr("{name} waits for you", name=name),
            tr("Something needs a decision. The originals are untouched."),
            True,
        ),
        State.FAILED: (
            tr("{name} stopped", name=name),
            tr("A copy read back wrong three times. The originals are untouched."),
            True,
        ),
        State.SETTLED: (
            tr("{name} is whole and verified", name=name),
            tr("It waits at the scales. The originals are untouched."),
            False,
        ),
        State.RELEASED: (
            tr("{name} has crossed", name=name),
            tr("Home is there; the originals are deleted."),
            False,
        ),
    }.get(
        state,
        (
            tr("{name} has crossed", name=name),
            tr("Whole and verified; the originals are still there."),
            False,
        ),
    )


def exit_status(record: dict[str, Any]) -> int:
    """The exit status of a crossing's object.

    0 done, 1 something was wrong, 3 refused, 4 interrupted.
    """
    state = record["state"]
    if state == State.REFUSED.value:
        return 3
    if state in (
        State.PLANNED.value,
        State.COPYING.value,
        State.VERIFYING.value,
        State.WAITING.value,
    ):
        return 4
    wrong = record["mismatched"] or any(
        x["why"] != Stays.LEFT_OUT and not x.get("planned") for x in record["left_behind"]
    )
    lacking = any(
        p["code"] in (Code.REFERENCES_MISSING, Code.OUT_OF_BALANCE)
        for p in record.get("problems", [])
    )
    if state == State.FAILED.value or wrong or (lacking and state != State.UNDONE.value):
        return 1
    return 0
