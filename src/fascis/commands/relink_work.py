"""What ``relink`` does, and ``undo`` for what it did; imported only when one is run."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import typer

from fascis.commands.library_work import shown_place
from fascis.commands.named import resolve
from fascis.commands.progress import stoppable
from fascis.commands.telling import REFUSED, WRONG, put, say, usage
from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library, with_ties
from fascis.crossing.status.queue import crossed_away
from fascis.documents.model import NotUnderstood
from fascis.files.codes import Code, Severity
from fascis.files.control import Control
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.files.names import fsname, shown
from fascis.files.route import Moved
from fascis.relink.acts import Act, recall
from fascis.relink.contents import Contents
from fascis.relink.index import Index, look_in
from fascis.relink.outcome import Decisions, Match, State
from fascis.relink.relinking import Relinking, acts_of, also_lost, known_away
from fascis.relink.returned import folders_to_look_in, old_paths, returned_moves
from fascis.words.figures import NBSP, counted, number
from fascis.workspace import Workspace, from_environment

_MOST_TOLD = 200


@dataclass(frozen=True, slots=True)
class Wanted:
    """What was asked for on the command line."""

    library: str
    search: list[str]
    apply: bool
    accept: list[str]
    refuse: list[str]
    locate: list[str]
    check: bool = False
    returned: bool = False


def relink(wanted: Wanted, as_json: bool) -> None:
    """Looks for what a library lost, and leads its documents there when that is asked for."""
    workspace = from_environment()
    folders = [Path(s).absolute() for s in wanted.search]
    if not folders and not wanted.locate and not wanted.returned:
        usage("Name a folder to look in: --search DIR.", as_json)
    for folder in folders:
        if not folder.is_dir():
            usage(f"There is no folder {shown(str(folder))} to look in.", as_json)
    for trouble in acts_of(workspace).recover():
        say(str(trouble))
    control = Control()
    surveyed, relinking, match = stoppable(
        lambda: _look(workspace, wanted, folders, control, as_json), control
    )
    key = remember(
        workspace, survey_library(workspace, surveyed.root) if wanted.returned else surveyed
    )
    act, problem = None, None
    if wanted.apply and match.files(State.FOUND):
        try:
            acts = acts_of(workspace)
            changes = relinking.retargets(match)
            found = match.files(State.FOUND)
            act = acts.apply(key, surveyed.name, surveyed.source, found, changes, relinking.known())
            remember(workspace, survey_library(workspace, surveyed.root))
        except (Refused, NotUnderstood, EnvironmentTrouble) as error:
            problem = error
    record = _record(workspace, surveyed, relinking, match, key, act)
    if problem is not None:
        code = problem.code if isinstance(problem, Refused) else Code.NOT_RELINKED
        record["problems"] = [
            {"severity": Severity.STOPS, "code": code, "sentence": str(problem), "files": []}
        ]
    if as_json:
        put(record)
    else:
        _tell(record, match, act)
    if problem is not None:
        say(str(problem))
        raise typer.Exit(REFUSED)
    if match.files(State.OPEN, State.NOWHERE, State.LEFT):
        raise typer.Exit(WRONG)


def _look(
    workspace: Workspace, wanted: Wanted, folders: list[Path], control: Control, as_json: bool
) -> tuple[Surveyed, Relinking, Match]:
    root = resolve(workspace, wanted.library)
    surveyed = survey_library(workspace, root, control=control)
    back: list[Moved] = []
    if wanted.returned and surveyed.survey.folders:
        back = returned_moves(surveyed.uses, workspace.drives.connected())
        if not back:
            say("No path of its documents leads to where a drive was mounted before.")
        surveyed = survey_library(workspace, root, control=control, literal=True)
    for problem in surveyed.problems:
        if not surveyed.survey.folders:
            usage(problem.sentence, as_json)
        say(problem.sentence)
    relinking = surveyed.relinking(workspace, control)
    pairs = [_both(text, relinking.root, as_json) for text in wanted.locate]
    located = {_lost_path(relinking, lost, as_json): found for lost, found in pairs}
    for found in located.values():
        if not os.path.isfile(found):  # noqa: PTH113 - bytes
            usage(f"There is no file {shown(found)}; nothing was changed.", as_json)
    look = [
        *folders,
        *folders_to_look_in(relinking.lost, back),
        *(Path(os.fsdecode(f)).parent for f in located.values()),
    ]
    if relinking.lost and look:
        index = look_in(look, lambda n: say(f"{number(n)} files seen"), control)
    else:
        index = Index()
    for trouble in index.troubles[:_MOST_TOLD]:
        say(str(trouble))
    decisions = Decisions(
        frozenset([*(_move(text, relinking.root, as_json) for text in wanted.accept), *back]),
        frozenset(_move(text, relinking.root, as_json) for text in wanted.refuse),
        located,
    )
    return (
        surveyed,
        relinking,
        relinking.match(index, Contents(control, say), decisions, wanted.check),
    )


def _both(text: str, root: bytes, as_json: bool) -> tuple[bytes, bytes]:
    """Takes ``OLD=NEW`` apart; relative paths count from the library's folder."""
    old, _, new = text.partition("=") if text.count("=") == 1 else text.rpartition("=/")
    if not old or not new:
        usage(f"{shown(text)} is not OLD=NEW.", as_json)
    new = "/" + new if text.count("=") > 1 else new
    return fsname(old.rstrip("/") or "/"), os.path.join(root, fsname(new.rstrip("/")))


def _move(text: str, root: bytes, as_json: bool) -> Moved:
    old, new = _both(text, root, as_json)
    return Moved(os.path.join(root, old), new)


def _lost_path(relinking: Relinking, given: bytes, as_json: bool) -> bytes:
    """The lost file that a person names: by its path, or by its name where only one has it."""
    mine = [
        x.path
        for x in relinking.lost
        if given in (x.path, x.name, x.path.removeprefix(relinking.root + b"/"))
    ]
    if len(mine) != 1:
        what = "no lost file" if not mine else "several lost files"
        usage(f"{shown(given)} names {what}.", as_json)
    return mine[0]


def _record(
    workspace: Workspace,
    surveyed: Surveyed,
    relinking: Relinking,
    match: Match,
    key: str,
    act: Act | None,
) -> dict[str, Any]:
    documents = [shown_place(surveyed, d.place or d.path) for d in relinking.uses.documents]
    also = also_lost(workspace.register, [m.move for m in match.moves], key)

    def place(path: bytes) -> str:
        return shown_place(surveyed, path)

    ties = []
    for i, x in enumerate(match.lost):
        found = match.found(i)
        if match.state[i] not in (State.FOUND, State.OPEN):
            continue
        candidates = match.candidates(i)
        ties.append(
            {
                "document": documents[x.references[0].document],
                "lost": place(x.path),
                "found": None if found is None else place(found),
                "basis": match.basis[i].value,
                "candidates": [place(match.shown_as(i, c.path)) for c in candidates],
                "why": match.why[i],
                "differs": {
                    place(match.shown_as(i, c.path)): list(c.differs)
                    for c in candidates
                    if c.differs
                },
            }
        )
    left = [x for x, s in zip(match.lost, match.state, strict=True) if s is not State.FOUND]
    return {
        "library": key,
        "lost": relinking.files,
        "found": match.files(State.FOUND),
        "ambiguous": match.files(State.OPEN),
        "unfound": match.files(State.NOWHERE, State.LEFT),
        "folder_moves": [
            {
                "from": place(m.move.old),
                "to": place(m.move.new),
                "references": m.references,
                "files": m.files,
                "certain": m.certain,
                "against": m.against,
                "also_lost_by": {x.told(also[m.move]): x.files for x in also.get(m.move, [])},
            }
            for m in match.moves
        ],
        "ties": ties,
        "unfound_files": [
            place(x.path)
            for x, s in zip(match.lost, match.state, strict=True)
            if s in (State.NOWHERE, State.LEFT)
        ],
        "known_on_drives_away": known_away(
            workspace.register, workspace.drives, left, crossed_away(workspace)
        ),
        "old_paths": old_paths(
            surveyed.uses, returned_moves(surveyed.uses, workspace.drives.connected())
        ),
        "applied": act is not None,
        "act": act.id if act else None,
        "documents": [place(os.fsencode(d.path)) for d in act.documents] if act else [],
    }


def _tell(record: dict[str, Any], match: Match, act: Act | None) -> None:
    print(
        f"{number(record['lost'])} lost: {number(record['found'])} found, "
        f"{number(record['ambiguous'])} to decide, {number(record['unfound'])} found nowhere."
    )
    for move in record["folder_moves"]:
        against = "; against it: " + ", ".join(move["against"]) if move["against"] else ""
        settled = "" if move["certain"] else " (only when you say so: --accept OLD=NEW)"
        print(
            f"  {shown(move['from'])}\n    is now {shown(move['to'])}: explains "
            f"{counted(move['files'], 'file')}{against}{settled}"
        )
        for name, files in move["also_lost_by"].items():
            print(f"    {shown(name)} lost {counted(files, 'file')} there too")
    undecided = [t for t in record["ties"] if t["found"] is None]
    for tie in [t for t in record["ties"] if t["found"]][:_MOST_TOLD]:
        print(f"  {shown(tie['lost'])}\n    is {shown(tie['found'])} ({tie['basis']})")
    for tie in undecided[:_MOST_TOLD]:
        print(f"  {shown(tie['lost'])}\n    to decide: {tie['why']}")
        for path in tie["candidates"][:9]:
            differs = ", ".join(tie["differs"].get(path, []))
            print(f"      {shown(path)}" + (f" (differs: {differs})" if differs else ""))
    if record["old_paths"]:
        print(
            f"  {counted(record['old_paths'], 'file is', 'files are')} found by a path that leads "
            "to where a drive used to be; other programs do not follow it. --returned --apply "
            "updates these paths."
        )
    for path in record["unfound_files"][:_MOST_TOLD]:
        print(f"  found nowhere: {shown(path)}")
    for label, files in record["known_on_drives_away"].items():
        print(f"  {shown(label)} is away; it is known to have {number(files)} of them.")
    if act is not None:
        words = counted(len(act.documents), "document")
        print(
            f"{words} changed; each is kept beside, as it was. fascis undo {act.id[:8]} takes it "
            "back."
        )
    elif record["found"]:
        print(
            "Nothing was changed. With --apply the documents lead to what was "
            f"found:{NBSP}{number(record['found'])}."
        )


def found_for_copy(
    workspace: Workspace, surveyed: Surveyed, search: list[str], as_json: bool
) -> Surveyed:
    """A survey as if its documents led to what is found in some folders.

    For the copy that a crossing makes.
    """
    folders = [Path(s).absolute() for s in search]
    for folder in folders:
        if not folder.is_dir():
            usage(f"There is no folder {shown(str(folder))} to look in.", as_json)
    relinking = surveyed.relinking(workspace)
    if not relinking.lost:
        return surveyed
    match = relinking.match(look_in(folders), Contents())
    found, lost = match.files(State.FOUND), relinking.files
    say(f"{number(found)} of {counted(lost, 'lost file')} found; the copy will refer to them.")
    return with_ties(surveyed, match.ties())


def undo(workspace: Workspace, id: str, as_json: bool) -> bool:
    """Takes back a relinking; False when no one has this id."""
    acts = acts_of(workspace)
    if acts.find(id) is None:
        return False
    act = acts.undo(id)
    root = next((x.root for x in workspace.register.libraries() if x.id == act.library), None)
    if root is not None and root.exists():
        again = survey_library(workspace, root)
        recall(again.uses, act)
        remember(workspace, again)
    paths = [d.path for d in act.documents]
    if as_json:
        put({"act": act.id, "state": act.state, "documents": paths})
    else:
        print(f"{counted(len(paths), 'document')} as before:")
        for path in paths:
            print(f"  {shown(path)}")
    return True
