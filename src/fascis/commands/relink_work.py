"""The work of ``relink``, and of ``undo`` for it; imported only when one runs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import typer
from msgspec import Struct

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
from fascis.relink.acts import Act, acts_of, recall
from fascis.relink.contents import Contents
from fascis.relink.index import Index, look_in
from fascis.relink.outcome import Decisions, Match, State, evidence_words
from fascis.relink.pairs import Basis
from fascis.relink.relinking import Relinking, also_lost, known_away
from fascis.relink.returned import folders_to_look_in, old_paths, returned_moves
from fascis.words.figures import NBSP, number
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

_MOST_TOLD = 200


class Wanted(Struct, frozen=True):
    """The options of the command."""

    library: str
    search: list[str]
    apply: bool
    accept: list[str]
    refuse: list[str]
    locate: list[str]
    check: bool = False
    returned: bool = False


def relink(wanted: Wanted, as_json: bool) -> None:
    """Looks for what a library lost, and updates its documents if asked to."""
    workspace = from_environment()
    folders = [Path(s).absolute() for s in wanted.search]
    if not folders and not wanted.locate and not wanted.returned:
        usage(tr("Name a folder to look in: --search DIR."), as_json)
    for folder in folders:
        if not folder.is_dir():
            usage(tr("There is no folder {folder} to look in.", folder=shown(str(folder))), as_json)
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
            say(tr("No path of its documents leads to where a drive was mounted before."))
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
            usage(tr("There is no file {found}; nothing was changed.", found=shown(found)), as_json)
    look = [
        *folders,
        *folders_to_look_in(relinking.lost, back),
        *(Path(os.fsdecode(f)).parent for f in located.values()),
    ]
    if relinking.lost and look:
        index = look_in(look, lambda n: say(tr("{count} files seen", count=number(n))), control)
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
    """Splits ``OLD=NEW``; relative paths count from the library's folder."""
    old, _, new = text.partition("=") if text.count("=") == 1 else text.rpartition("=/")
    if not old or not new:
        usage(tr("{text} is not OLD=NEW.", text=shown(text)), as_json)
    new = "/" + new if text.count("=") > 1 else new
    return fsname(old.rstrip("/") or "/"), os.path.join(root, fsname(new.rstrip("/")))


def _move(text: str, root: bytes, as_json: bool) -> Moved:
    old, new = _both(text, root, as_json)
    return Moved(os.path.join(root, old), new)


def _lost_path(relinking: Relinking, given: bytes, as_json: bool) -> bytes:
    """The lost file that a person names: by its path, or by its name if only one has it."""
    mine = [
        x.path
        for x in relinking.lost
        if given in (x.path, x.name, x.path.removeprefix(relinking.root + b"/"))
    ]
    if len(mine) != 1:
        what = tr("no lost file") if not mine else tr("several lost files")
        usage(tr("{given} names {what}.", given=shown(given), what=what), as_json)
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


def _tell_move(move: dict[str, Any]) -> None:
    """Prints one folder move."""
    print(
        trn(
            "  {from_}\n    is now {to}: explains {n} file",
            "  {from_}\n    is now {to}: explains {n} files",
            move["files"],
            from_=shown(move["from"]),
            to=shown(move["to"]),
        )
    )
    if move["against"]:
        print(tr("    against it: {reasons}", reasons=", ".join(move["against"])))
    if not move["certain"]:
        print(tr("    only when you say so: --accept OLD=NEW"))
    for name, files in move["also_lost_by"].items():
        print(
            trn(
                "    {name} lost {n} file there too",
                "    {name} lost {n} files there too",
                files,
                name=shown(name),
            )
        )


def _tell(record: dict[str, Any], match: Match, act: Act | None) -> None:
    print(
        tr(
            "{count} lost: {count_2} found, {count_3} to decide, {count_4} found nowhere.",
            count=number(record["lost"]),
            count_2=number(record["found"]),
            count_3=number(record["ambiguous"]),
            count_4=number(record["unfound"]),
        )
    )
    for move in record["folder_moves"]:
        _tell_move(move)
    undecided = [t for t in record["ties"] if t["found"] is None]
    for tie in [t for t in record["ties"] if t["found"]][:_MOST_TOLD]:
        print(
            tr(
                "  {lost}\n    is {found} ({basis})",
                lost=shown(tie["lost"]),
                found=shown(tie["found"]),
                basis=Basis(tie["basis"]).words,
            )
        )
    for tie in undecided[:_MOST_TOLD]:
        print(tr("  {lost}\n    to decide: {why}", lost=shown(tie["lost"]), why=tie["why"]))
        for path in tie["candidates"][:9]:
            told = shown(path)
            if differs := ", ".join(map(evidence_words, tie["differs"].get(path, []))):
                told = tr("{path} (differs: {differs})", path=told, differs=differs)
            print(f"      {told}")
    if record["old_paths"]:
        print(
            trn(
                "  {n} file is found by a path that leads to where a drive used to be; "
                "other programs do not follow it. --returned --apply updates these paths.",
                "  {n} files are found by a path that leads to where a drive used to be; "
                "other programs do not follow it. --returned --apply updates these paths.",
                record["old_paths"],
            )
        )
    for path in record["unfound_files"][:_MOST_TOLD]:
        print(tr("  found nowhere: {path}", path=shown(path)))
    for label, files in record["known_on_drives_away"].items():
        print(
            tr(
                "  {label} is away; it is known to have {count} of them.",
                label=shown(label),
                count=number(files),
            )
        )
    if act is not None:
        print(
            trn(
                "{n} document changed; each is kept beside, as it was. fascis undo {id} takes it "
                "back.",
                "{n} documents changed; each is kept beside, as it was. fascis undo {id} takes "
                "it back.",
                len(act.documents),
                id=act.id[:8],
            )
        )
    elif record["found"]:
        print(
            tr(
                "Nothing was changed. With --apply the documents lead to what was "
                "found:{nbsp}{count}.",
                nbsp=NBSP,
                count=number(record["found"]),
            )
        )


def found_for_copy(
    workspace: Workspace, surveyed: Surveyed, search: list[str], as_json: bool
) -> Surveyed:
    """A survey as if the library's documents led to files found in some folders.

    For the copy that a crossing makes.
    """
    folders = [Path(s).absolute() for s in search]
    for folder in folders:
        if not folder.is_dir():
            usage(tr("There is no folder {folder} to look in.", folder=shown(str(folder))), as_json)
    relinking = surveyed.relinking(workspace)
    if not relinking.lost:
        return surveyed
    match = relinking.match(look_in(folders), Contents())
    found, lost = match.files(State.FOUND), relinking.files
    say(
        trn(
            "{count} of {n} lost file found; the copy will refer to them.",
            "{count} of {n} lost files found; the copy will refer to them.",
            lost,
            count=number(found),
        )
    )
    return with_ties(surveyed, match.ties())


def undo(workspace: Workspace, id: str, as_json: bool) -> bool:
    """Undoes a relinking; False if there is none with this id."""
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
        print(trn("{n} document as before:", "{n} documents as before:", len(paths)))
        for path in paths:
            print(f"  {shown(path)}")
    return True
