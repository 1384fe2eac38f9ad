"""What the command ``learn`` does."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from fascis.commands.progress import stoppable
from fascis.commands.telling import DONE, REFUSED, WRONG, put, say, usage
from fascis.documents.learned.search import Found
from fascis.files.control import Control
from fascis.files.names import shown
from fascis.files.sizes import counted, number
from fascis.library.learning import Learnt, confirm, forget
from fascis.library.learning import learn as look
from fascis.workspace import from_environment

_STATUS = {"readable": DONE, "uncertain": WRONG, "refused": REFUSED}


def learn(
    document: str, search: list[str], yes: bool, again: bool, choose: list[int], as_json: bool
) -> None:
    """Finds where a document of unknown make keeps its paths.

    Args:
        yes: confirm what was found.
        again: forget what was confirmed.
        choose: the fields that are taken, from 1.
    """
    workspace = from_environment()
    for folder in search:
        if not Path(folder).is_dir():
            usage(f"There is no folder {shown(folder)}.", as_json)
    control = Control()
    path, folders = Path(document), [Path(f) for f in search]
    learnt = stoppable(lambda: look(workspace, path, folders, control), control)
    if any(n < 1 or n > len(learnt.fields) for n in choose):
        usage(f"It has {counted(len(learnt.fields), 'field')}, from 1.", as_json)
    contested = any(one.contested_by for one in learnt.fields)
    if again:
        if not forget(workspace, learnt):
            say("Nothing was confirmed of it.")
    elif (yes or choose) and learnt.verdict != "refused" and (choose or not contested):
        confirm(workspace, learnt, [n - 1 for n in choose])
    if as_json:
        put(_as_json(learnt))
    else:
        _tell(learnt)
    status = _STATUS[learnt.verdict]
    if learnt.state == "confirmed" and status == WRONG:
        status = DONE
    if status != DONE:
        raise typer.Exit(status)


def _as_json(learnt: Learnt) -> dict[str, Any]:
    fields = []
    for one in learnt.fields:
        said: dict[str, Any] = {
            "where": where(one),
            "means": _means(one),
            "values": one.evidence.values,
            "lead_to_files": one.evidence.found,
            "files": one.evidence.files,
            "examples": [
                {"written": shown(written), "leads_to": shown(leads)}
                for written, leads in one.examples
            ],
        }
        if one.contested_by:
            said["contested_by"] = [where(other) for other in one.contested_by]
        fields.append(said)
    return {
        "document": shown(str(learnt.document)),
        "container": learnt.container,
        "fields": fields,
        "not_read": [
            {"where": shown(f"{x.table}.{x.column}"), "why": f"{x.alive} of {x.values} exist"}
            for x in learnt.left
        ],
        "verdict": learnt.verdict,
        "why": learnt.why,
        "state": learnt.state,
    }


def where(found: Found) -> str:
    """A field in a person's words: its columns, from the left."""
    levels = {(x.table.name, x.piece.column): None for x in found.followed.levels}
    return shown(" + ".join(f"{table}.{column}".strip(".") for table, column in levels))


def _means(found: Found) -> str:
    return "from the document's folder" if found.reading.from_folder else "whole paths"


def _tell(learnt: Learnt) -> None:
    for n, one in enumerate(learnt.fields, 1):
        e = one.evidence
        pieces = len(one.reading.pieces)
        parts = f" in {counted(pieces, 'part')}" if pieces > 1 else ""
        print(
            f"{n}. {where(one)} keeps a path{parts}. {number(e.found)} of {number(e.values)} lead "
            f"to files ({counted(e.files, 'file')})."
        )
        for written, leads in one.examples:
            print(f"     {shown(written)}  →  {shown(leads)}")
        for other in one.contested_by:
            print(f"   {where(other)} says the same: which does its program follow?")
    for left in learnt.left:
        print(
            f"Looks like a path and is left: {shown(left.table)}.{shown(left.column)} "
            f"({left.alive} of {left.values} exist)."
        )
    if learnt.state == "confirmed":
        print("Confirmed: documents of this make are understood.")
    elif learnt.verdict == "refused":
        say(f"It is left as it is. {learnt.why}")
    elif learnt.fields:
        question = "Are these the places where it keeps its media? --confirm says yes."
        say(f"{learnt.why} {question}".strip())
    else:
        say(learnt.why)
