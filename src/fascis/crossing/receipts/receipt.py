"""The receipt: the readable record of a crossing, as JSON and as a self-contained page."""

from __future__ import annotations

import html
import json
from collections.abc import Iterable
from typing import Any

from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.journal import LED, Journal
from fascis.crossing.journal.opening import making_sense
from fascis.crossing.journal.which import Which
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.problems import stays_because
from fascis.crossing.model.states import State
from fascis.files.errors import Damaged, EnvironmentTrouble, FascisError
from fascis.files.names import place_text, shown
from fascis.library.roles import Role
from fascis.library.survey import Kind
from fascis.words.figures import NBSP, exact, moment, number, size
from fascis.words.speech import language, tr, trn

FORMAT = 1


def receipt_of(journal: Journal) -> dict[str, Any]:
    """The record of a crossing so far, from its journal alone.

    Sizes in bytes, times in seconds since 1970.

    Raises:
        Damaged: what is in the journal makes no sense.
    """
    with making_sense(journal.path):
        record = _record_of(journal)
        # Every value can be written as JSON.
        json.dumps(record)
        return record


def receipts_of(journals: Iterable[Journal]) -> tuple[list[dict[str, Any]], list[FascisError]]:
    """The records of many crossings, and the errors of those that cannot be read."""
    records, unreadable = [], list[FascisError]()
    for journal in journals:
        try:
            records.append(receipt_of(journal))
        except (Damaged, EnvironmentTrouble) as error:
            unreadable.append(error)
    return records, unreadable


def _record_of(journal: Journal) -> dict[str, Any]:
    h = journal.header
    every = [Copies(journal, n) for n in range(len(h.destinations))]
    demanded = [c for c in every if c.state is not State.UNDONE] or every[:1]
    home = demanded[0]
    files, total = home.going()
    verified_files, verified_bytes = min(c.verified() for c in demanded)
    left_files, left_bytes = _left_out(home)
    discarded_files, discarded_bytes = home.sums(Which.DISCARDED)
    return {
        "format": FORMAT,
        "crossing": h.crossing,
        "library_id": h.library_id,
        "name": shown(h.name),
        "state": journal.state.value,
        "from": shown(h.source),
        "from_drive": h.source_drive.model_dump(),
        "to": h.target(home.number),
        "to_drive": h.destinations[home.number].drive.model_dump(),
        "destinations": [
            {
                "to": h.target(c.number),
                "drive": h.destinations[c.number].drive.model_dump(),
                "home": c is home and h.after is not After.COPY,
                "state": c.state.value,
                "verified_files": c.verified()[0],
                "verified_bytes": c.verified()[1],
                "proven": c.proven(),
                "settled_at": c.value("settled_at"),
            }
            for c in every
        ],
        "after": h.after.value,
        "lacks": h.lacks,
        "planned_at": h.planned_at,
        "settled_at": journal.value("settled_at"),
        "files": files,
        "bytes": total,
        "verified_files": verified_files,
        "verified_bytes": verified_bytes,
        "holds": _held(home),
        "proven": all(c.proven() for c in demanded),
        "trusted": h.trusts,
        "digest": "BLAKE3",
        "seconds": journal.value("seconds", 0.0),
        "left_out": {"roles": h.leave_out, "files": left_files, "bytes": left_bytes},
        "discarded": {"roles": h.discard, "files": discarded_files, "bytes": discarded_bytes},
        "gathered": dict(zip(("files", "bytes"), home.sums(Which.GATHERED), strict=True)),
        "written_anew": [place_text(i.place) for i in home.items(Which.WRITTEN_ANEW)],
        "references": h.references,
        "opened": home.value("opened"),
        "not_copied": [
            {"path": place_text(i.place), "why": i.copy.name.lower() if i.copy else "waiting"}
            for c in demanded
            for i in c.items(Which.GOING_HINDERED)
        ],
        "followers": journal.followers(),
        "led": bool(journal.value(LED)),
        "decisions": h.decisions,
        "attention": [
            {"path": place_text(p), "drive": d, "meaning": m, "at": at}
            for p, d, m, at in journal.attentions()
        ],
        "acts": [
            {"what": k, "subject": s, "begun": b, "ended": e, "outcome": o}
            for k, s, b, e, o in journal.acts()
        ],
        "release": journal.value("release"),
        "looked_at": journal.value("looked_at"),
        "parked_at": journal.value("parked_at"),
    }


def _left_out(home: Copies) -> tuple[int, int]:
    """``(files, bytes)`` left out by choice; the rest of a library is not left out of its part."""
    part = home.journal.header.part
    if part is None:
        return home.sums(Which.LEFT_OUT)
    sizes = [
        i.size for i in home.items(Which.LEFT_OUT) if i.kind is Kind.FILE and part.holds(i.place)
    ]
    return len(sizes), sum(sizes)


def receipt_json(record: dict[str, Any]) -> bytes:
    """The receipt as JSON."""
    return (json.dumps(record, indent=2, ensure_ascii=False) + "\n").encode(
        "utf-8", "backslashreplace"
    )


def clock_text(at: float | None) -> str:
    """A time for a person, in the machine's time zone."""
    return moment(at) if at else tr("not yet")


# One rule a line: the window's page viewer knows only part of CSS, and a break within a value ends
# it.
_STYLE = """
body{background:#F5F1E8;color:#21303A;margin:0}
body{font:15px/1.5 Inter,'Noto Sans',sans-serif;font-variant-numeric:tabular-nums}
main{max-width:700px;margin:40px auto;padding:34px 40px}
main{background:#FBF9F4;border:1px solid #D8D1C2}
h1{font-size:24px;margin:0 0 4px}
h2{font-size:15px;margin:26px 0 6px}
p{margin:5px 0}
.quiet{color:#57636C}
.seal{font-size:17px;font-weight:600;color:#17665F}
.wrong{color:#A83420}
table{border-collapse:collapse;width:100%}
td,th{text-align:left;vertical-align:top}
td,th{padding:4px 12px 4px 0;border-bottom:1px solid #D8D1C2}
td.n,th.n{text-align:right}
code{font-family:inherit;overflow-wrap:anywhere}
@media print{body{background:#fff}main{border:0;margin:0}}
"""
# What follows "whole, verified," or replaces it.
_HOW = {
    State.SETTLED: tr("at the new place"),
    State.SWITCHED: tr("at home there"),
    State.PARKED: tr("at home there; the originals are set aside"),
    State.RELEASED: tr("at home there; the originals are deleted"),
}
_ENDED = {
    State.UNDONE: tr("Given up; the old place is home"),
    State.FAILED: tr("Stopped: a copy read back wrong. The originals are untouched"),
}


# The journal's names of acts, and their outcomes; other outcomes are sentences.
_ACTS = {
    "claim": tr("name taken"),
    "arrive": tr("arrived"),
    "bring-along": tr("newer files brought along"),
    "withdraw": tr("copy withdrawn"),
    "switch": tr("switched over"),
    "park": tr("set aside"),
    "unpark": tr("put back"),
    "release": tr("deleted"),
    "undo": tr("given up"),
}
_OUTCOMES = {
    None: tr("not finished"),
    "done": tr("done"),
    "arrived": tr("arrived"),
    "withdrawn": tr("withdrawn"),
    "put back": tr("put back"),
}


def seal(record: dict[str, Any]) -> str:
    """The one sentence about the result."""
    state = State(record["state"])
    if state not in _HOW:
        return _ENDED.get(state, tr("In progress; the originals are untouched"))
    how = _HOW[state]
    if without := len(record["not_copied"]):
        return trn(
            "Verified, without {n} file, {how}",
            "Verified, without {n} files, {how}",
            without,
            how=how,
        )
    if lacks := record.get("lacks", 0):
        return trn(
            "Whole, but for {n} file that you left out, verified, {how}",
            "Whole, but for {n} files that you left out, verified, {how}",
            lacks,
            how=how,
        )
    return tr("Whole and verified, {how}", how=how)


def _held(home: Copies) -> dict[str, int] | None:
    """What the new library contains; None if it is not whole yet, or was given up."""
    if not home.value("settled_at") or home.state is State.UNDONE:
        return None
    return dict(zip(("files", "bytes"), home.must_hold(), strict=True))


def _holds(record: dict[str, Any]) -> list[tuple[str, str]]:
    """What the new library contains, if rewritten documents change the figure."""
    holds = record.get("holds")
    if not holds or holds["bytes"] == record["bytes"]:
        return []
    figures = trn(
        "{n} file, {count}{nbsp}bytes",
        "{n} files, {count}{nbsp}bytes",
        holds["files"],
        count=number(holds["bytes"]),
        nbsp=NBSP,
    )
    return [(tr("In the new library, with documents as rewritten"), figures)]


def _of_roles(said: dict[str, Any]) -> str:
    """The number and size of the files with these roles."""
    return trn(
        "{n} file ({roles}), {size}",
        "{n} files ({roles}), {size}",
        said["files"],
        # A receipt from elsewhere may name a role that is unknown here.
        roles=", ".join(Role(r).words if r in set(Role) else r for r in said["roles"]),
        size=size(said["bytes"]),
    )


def rows_of(record: dict[str, Any]) -> list[tuple[str, str]]:
    """The main figures as ``(label, figure)``, the same on the page and in the window."""
    read_from = tr("perhaps from memory: not proven on this drive")
    if record["proven"]:
        read_from = tr("from the drive itself")
    rows = [
        (
            tr("Copied"),
            trn(
                "{n} file, {count}{nbsp}bytes",
                "{n} files, {count}{nbsp}bytes",
                record["files"],
                count=number(record["bytes"]),
                nbsp=NBSP,
            ),
        ),
        (
            tr("New ones read back, others as listed")
            if record.get("trusted")
            else tr("Read back and equal"),
            trn(
                "{n} file, {count}{nbsp}bytes",
                "{n} files, {count}{nbsp}bytes",
                record["verified_files"],
                count=number(record["verified_bytes"]),
                nbsp=NBSP,
            ),
        ),
        *_holds(record),
        (tr("Read back"), read_from),
        (tr("Digest"), record["digest"]),
        (tr("Planned"), clock_text(record["planned_at"])),
        (tr("Settled"), clock_text(record["settled_at"])),
    ]
    if record["gathered"]["files"]:
        figures = trn(
            "{n} loose file, {size}",
            "{n} loose files, {size}",
            record["gathered"]["files"],
            size=size(record["gathered"]["bytes"]),
        )
        if (record["release"] or {}).get("loose_files"):
            what = tr("Gathered into the library")
        else:
            what = tr("Gathered into the library, and still where they were")
        rows.append((what, figures))
    rows += _document_rows(record)
    if record["left_out"]["files"]:
        rows.append((tr("Left out, kept at the old place"), _of_roles(record["left_out"])))
    if record["discarded"]["files"]:
        rows.append(
            (
                tr("Not copied, deleted with the originals (your choice)"),
                _of_roles(record["discarded"]),
            )
        )
    if record["parked_at"]:
        rows.append((tr("Originals set aside at"), shown(record["parked_at"])))
    if release := record["release"]:
        rows.append(
            (
                tr("Originals deleted"),
                trn(
                    "{n} file, {count}{nbsp}bytes",
                    "{n} files, {count}{nbsp}bytes",
                    release["files"],
                    count=number(release["bytes"]),
                    nbsp=NBSP,
                ),
            )
        )
        if release.get("discarded_files"):
            rows.append(
                (
                    tr("Discarded with them"),
                    trn(
                        "{n} file, {count}{nbsp}bytes",
                        "{n} files, {count}{nbsp}bytes",
                        release["discarded_files"],
                        count=number(release["discarded_bytes"]),
                        nbsp=NBSP,
                    ),
                )
            )
        if release.get("loose_files"):
            rows.append(
                (
                    tr("Loose originals deleted too"),
                    trn(
                        "{n} file, {count}{nbsp}bytes",
                        "{n} files, {count}{nbsp}bytes",
                        release["loose_files"],
                        count=number(release["loose_bytes"]),
                        nbsp=NBSP,
                    ),
                )
            )
        rows.append(
            (
                tr("Free on {label} before", label=record["from_drive"]["label"]),
                exact(release["free_before"]),
            )
        )
        rows.append(
            (
                tr("Free on {label} after, measured", label=record["from_drive"]["label"]),
                exact(release["free_after"]),
            )
        )
    return rows


def _what(destination: dict[str, Any], of: int) -> str:
    """The name of a destination on the page."""
    if destination["state"] == State.UNDONE.value:
        return tr("Given up")
    if of == 1:
        return tr("To")
    if destination["home"]:
        return tr("Home")
    return tr("Second copy")


def _document_rows(record: dict[str, Any]) -> list[tuple[str, str]]:
    """What happened to documents, and where they lead."""
    rows: list[tuple[str, str]] = []
    if opened := record["opened"]:
        rows.append(
            (
                tr("References that lead to a file of the copy"),
                tr(
                    "{count} of {count_2}",
                    count=number(opened["found"]),
                    count_2=number(opened["references"]),
                ),
            )
        )
    if record["written_anew"]:
        rows.append(
            (
                tr("Rewritten; the versions from before are kept in .fascis/as-it-was"),
                trn("{n} file", "{n} files", len(record["written_anew"])),
            )
        )
    if record["led"]:
        rows.append(
            (
                tr("Documents that stay, led to the new place"),
                trn("{n} document", "{n} documents", len(record["followers"])),
            )
        )
    if unknown := record["references"].get("not_understood"):
        rows.append(
            (
                tr("Not understood: what they refer to is not known"),
                trn("{n} document", "{n} documents", unknown),
            )
        )
    return rows


def receipt_html(record: dict[str, Any]) -> bytes:
    """The receipt as one page: no scripts, nothing loaded from elsewhere, names as plain text."""
    e = html.escape
    called = tr("Crossing {id}", id=record["crossing"])
    title = tr("{name}, receipt", name=record["name"])
    body = [f"<h1>{e(record['name'])}</h1>", f"<p class=quiet>{e(called)}</p>"]
    wrong = "" if record["verified_files"] == record["files"] else " wrong"
    body.append(f"<p class='seal{wrong}'>{e(seal(record))}.</p>")
    body.append(_head(tr("From and to")) + "<table cellpadding=4>")
    ends = [(tr("From"), record["from_drive"], record["from"])]
    ends += [
        (_what(d, len(record["destinations"])), d["drive"], d["to"]) for d in record["destinations"]
    ]
    for label, drive, path in ends:
        kind = drive["filesystem"]
        if drive.get("stand_in"):
            kind = tr("{file_system}, a stand-in drive", file_system=kind)
        body.append(
            f"<tr><td>{e(label)}<td>{e(drive['label'])} ({e(kind)})<br><span "
            f"class=quiet>{e(path)}</span>"
        )
    body.append("</table>" + _head(tr("Figures")) + "<table cellpadding=4>")
    body += [f"<tr><td>{e(what)}<td class=n>{e(figure)}" for what, figure in rows_of(record)]
    body.append("</table>")
    if release := record["release"]:
        if release["reasons"]:
            body.append(
                _head(tr("Why less space was freed than was deleted"))
                + "".join(f"<p>{e(r)}</p>" for r in release["reasons"])
            )
        if release["left_behind"]:
            body.append(_head(tr("What stays at the old place")))
            body.append(
                _table(
                    (tr("File"), tr("Why")),
                    [(x["path"], stays_because(x)) for x in release["left_behind"][:500]],
                )
            )
    if record["led"]:
        body.append(_head(tr("Documents that stay, led to the new place")))
        led: list[tuple[str, ...]] = [
            (f["path"], trn("{n} reference", "{n} references", f["references"]))
            for f in record["followers"]
        ]
        body.append(_table((tr("Document"), tr("Changed")), led[:500]))
    if record["not_copied"]:
        body.append(_head(tr("Not copied; the originals stay")))
        body.append(
            _table(
                (tr("File"), tr("Why")), [(x["path"], x["why"]) for x in record["not_copied"][:500]]
            )
        )
    if record["decisions"]:
        body.append(
            _head(tr("Decided before the start"))
            + "".join(f"<p>{e(d)}</p>" for d in record["decisions"])
        )
    if record["attention"]:
        body.append(_head(tr("Needed attention")))
        body.append(
            _table(
                (tr("File"), tr("Drive"), tr("What it means")),
                [(x["path"], x["drive"], x["meaning"]) for x in record["attention"][:500]],
            )
        )
    body.append(_head(tr("What was done, in order")))
    body.append(
        _table(
            (tr("When"), tr("What"), tr("Outcome")),
            [
                (
                    clock_text(a["begun"]),
                    f"{_ACTS.get(a['what'], a['what'])}: {a['subject']}",
                    _OUTCOMES.get(a["outcome"], a["outcome"]),
                )
                for a in record["acts"]
            ],
        )
    )
    check = tr("To check the copy without Fascis, in its folder:")
    command = "b3sum --check .fascis/manifest.b3"  # for programs
    body.append(f"<p class=quiet>{e(check)} <code>{command}</code></p>")
    page = (
        f"<!doctype html><html lang={language()}><meta charset=utf-8><title>"
        f"{e(title)}</title><style>{_STYLE}</style><main>{''.join(body)}</main></html>\n"
    )
    return page.encode("utf-8", "backslashreplace")


def _head(words: str) -> str:
    return f"<h2>{html.escape(words)}</h2>"


def _table(heads: tuple[str, ...], rows: list[tuple[str, ...]]) -> str:
    out = "<table cellpadding=4><tr>" + "".join(f"<th>{html.escape(h)}" for h in heads)
    for row in rows:
        out += "<tr>" + "".join(f"<td>{html.escape(shown(cell))}" for cell in row)
    return out + "</table>"
