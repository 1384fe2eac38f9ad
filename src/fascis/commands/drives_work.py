"""The work of ``drives``; imported only when it runs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from msgspec import Struct

from fascis.commands.named import resolve
from fascis.commands.progress import stoppable
from fascis.commands.telling import put, say, usage
from fascis.crossing.fit.suiting import Suits, suits
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.in_use import taking_part
from fascis.crossing.status.old_place import begun_again, copied_bytes, set_aside
from fascis.crossing.status.queue import all_crossings
from fascis.drives.care.describing import (
    built_words,
    file_system_words,
    flags,
    rules_in_words,
    rules_known_by,
    speed_words,
    state_words,
    transport_words,
)
from fascis.drives.care.measuring import measure
from fascis.drives.care.preparing import LIBRARIES, make_folder_for_libraries
from fascis.drives.care.removal import remove_safely
from fascis.drives.model import Drive
from fascis.drives.rules import Rules
from fascis.drives.system.udisks import mount
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.errors import Refused
from fascis.files.names import shown
from fascis.library.known.recognising import Recognition
from fascis.library.known.shelves import Shelf, read_shelves
from fascis.words.figures import moment, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment


class Wanted(Struct, frozen=True):
    """The options of the command."""

    drive: str = ""
    measure: bool = False
    mount: bool = False
    remove: bool = False
    make_folder: bool = False
    folder: str = ""
    suits: str = ""

    @property
    def acts(self) -> bool:
        """True if something is to be done with one drive."""
        return self.measure or self.mount or self.remove or self.make_folder


def drives(wanted: Wanted, as_json: bool) -> None:
    """Shows drives, or does something with one."""
    workspace = from_environment()
    if wanted.suits:
        _tell_suits(workspace, wanted.suits, as_json)
        return
    if wanted.acts and not wanted.drive:
        usage(
            tr("Name the drive: its label, the beginning of its UUID, or a folder on it."), as_json
        )
    shelves = _shelves(workspace)
    if wanted.drive:
        shelves = [_one(workspace, shelves, wanted.drive, as_json)]
    done = _do(workspace, shelves[0], wanted) if wanted.acts else {}
    if wanted.mount or wanted.remove:
        uuid = shelves[0].drive.uuid
        shelves = [s for s in _shelves(workspace) if s.drive.uuid == uuid] or shelves
    if as_json:
        put({"drives": [_object(s) for s in shelves], **done})
        return
    for shelf in shelves:
        if wanted.drive:
            _tell_one(shelf)
        else:
            _tell(shelf)


def _shelves(workspace: Workspace) -> list[Shelf]:
    crossings, damaged = all_crossings(workspace)
    parked, copied = set_aside(crossings), copied_bytes(crossings)
    for error in damaged:
        say(str(error))
    for begun in begun_again(crossings):
        say(begun.sentence)
    for crossing in crossings:
        crossing.close()
    recognition = Recognition(workspace.drives)
    for drive in recognition.unsearched(workspace.drives.connected()):
        recognition.search(drive)
    found = read_shelves(workspace, parked, recognition, copied=copied)
    for error in workspace.drives.damaged:
        say(str(error))
    for shelf in found:
        if shelf.back:
            was = tr(
                "{label} at {mount}",
                label=shown(shelf.back.label),
                mount=shown(str(shelf.back.mount)),
            )
            say(
                tr(
                    "{label} is known again; it was {was}. fascis relink LIBRARY --returned "
                    "updates old paths.",
                    label=shown(shelf.drive.label),
                    was=was,
                )
            )
    return found


def _one(workspace: Workspace, shelves: list[Shelf], given: str, as_json: bool) -> Shelf:
    found = [
        s
        for s in shelves
        if s.drive.label == given or (len(given) >= 4 and s.drive.uuid.startswith(given))
    ]
    if not found and os.path.lexists(given):
        uuid = workspace.drives.uuid_at(Path(given).absolute())
        found = [s for s in shelves if s.drive.uuid == uuid]
    if len(found) != 1:
        if found:
            words = trn(
                "{n} drive is called {given}.",
                "{n} drives are called {given}.",
                len(found),
                given=shown(given),
            )
        else:
            words = tr("No drive called {given} is known.", given=shown(given))
        usage(words, as_json)
    return found[0]


# -- doing -----------------------------------------------------------------------------------------


def _do(workspace: Workspace, shelf: Shelf, wanted: Wanted) -> dict[str, Any]:
    drive, done = shelf.drive, dict[str, Any]()
    if wanted.mount:
        where = _mounted(drive)
        say(tr("{label} is mounted at {where}.", label=shown(drive.label), where=shown(str(where))))
        done["mounted_at"] = shown(str(where))
        drive = workspace.drives.at(where)
    if wanted.make_folder:
        where, shelf.drive = make_folder_for_libraries(
            workspace.drives, drive, wanted.folder or LIBRARIES
        )
        say(tr("{where} is there, and can be written.", where=shown(str(where))))
        done["folder"] = shown(str(where))
    if wanted.measure:
        done["measured"] = _measured(workspace, shelf, drive)
    if wanted.remove:
        done["removed"] = _removed(workspace, drive)
    return done


def _mounted(drive: Drive) -> Path:
    if drive.connected:
        return drive.mount
    if drive.mounted:
        raise Refused(
            Code.AWAY,
            tr("{label} is away; connect it first. Nothing was changed.", label=shown(drive.label)),
        )
    return mount(drive)


def _measured(workspace: Workspace, shelf: Shelf, drive: Drive) -> dict[str, Any]:
    control = Control()
    speed = stoppable(lambda: measure(workspace.drives, drive, control=control), control)
    workspace.register.put_drives([drive])
    workspace.register.put_speed(drive.uuid, speed.write_mb_s, speed.read_mb_s)
    shelf.speed = speed.write_mb_s, speed.read_mb_s, workspace.clock()
    if speed.proven:
        told = tr("{label}: writes {write} MB/s, reads {read} MB/s.")
    else:
        told = tr("{label}: writes {write} MB/s, reads {read} MB/s (perhaps from memory).")
    say(
        told.format(
            label=shown(drive.label), write=f"{speed.write_mb_s:.0f}", read=f"{speed.read_mb_s:.0f}"
        )
    )
    return {
        "write_mb_s": round(speed.write_mb_s, 1),
        "read_mb_s": round(speed.read_mb_s, 1),
        "bytes": speed.bytes,
        "proven": speed.proven,
    }


def _removed(workspace: Workspace, drive: Drive) -> str:
    if not drive.connected and drive.mounted and not drive.silent:
        raise Refused(Code.AWAY, tr("{label} is away already.", label=shown(drive.label)))
    crossings, _ = all_crossings(workspace)
    name = next((shown(c.places.header.name) for c in crossings if taking_part(c, drive.uuid)), "")
    for crossing in crossings:
        crossing.close()
    if name:
        raise Refused(
            Code.HELD_BY_ANOTHER,
            tr(
                "{label} takes part in the crossing of {name}, which is running. Pause "
                "or stop that first; what is verified is kept. Nothing was changed.",
                label=shown(drive.label),
                name=name,
            ),
        )
    off = remove_safely(drive)
    if off:
        say(tr("{label} can be unplugged.", label=shown(drive.label)))
        return "off"
    say(tr("{label} is unmounted and can be unplugged.", label=shown(drive.label)))
    return "unmounted"


# -- telling ---------------------------------------------------------------------------------------


def _state(drive: Drive) -> str:
    if drive.silent:
        return "silent"
    if not drive.mounted:
        return "not-mounted"
    return "connected" if drive.connected else "away"


def _known_by(rules: Rules) -> str:
    if rules.asked:
        return "asked"
    return "certain" if rules.certain else "assumed"


def _object(shelf: Shelf) -> dict[str, Any]:
    d = shelf.drive
    write, read, at = shelf.speed or (None, None, None)
    return {
        "uuid": d.uuid,
        "label": d.label,
        "filesystem": d.filesystem,
        "mount": shown(str(d.mount)) if d.mounted else "",
        "capacity_bytes": d.capacity,
        "free_bytes": d.free,
        "block_bytes": d.block,
        "transport": d.transport,
        "rotational": d.rotational,
        "read_only": d.read_only,
        "removable": d.removable,
        "connected": d.connected,
        "stand_in": d.stand_in,
        "state": _state(d),
        "last_seen": shelf.seen_at,
        "rules": rules_in_words(d.rules),
        "rules_known_by": _known_by(d.rules),
        "flags": flags(d, shelf.character),
        "errors": d.errors,
        "twin_of": d.twin_of,
        "link_mbit": d.link_mbit,
        "measured": {"write_mb_s": write, "read_mb_s": read, "at": at} if shelf.speed else None,
        "former_mounts": [shown(str(f.mount)) for f in shelf.former],
        "libraries": [
            {
                "library_id": s.library,
                "name": shown(s.name),
                "path": shown(str(s.root)),
                "standing": s.standing,
                "verified": not (s.home or s.parked or s.says),
            }
            for s in shelf.standings
        ],
    }


def _tell(shelf: Shelf) -> None:
    d = shelf.drive
    state = state_words(d, shelf.seen_at) or tr(
        "{size} free of {size_2}", size=size(d.free), size_2=size(d.capacity)
    )
    words = [
        file_system_words(d),
        transport_words(d),
        speed_words(shelf.speed),
        tr("read-only") if d.read_only else "",
    ]
    words += [tr("stand-in")] if d.stand_in else []
    place = shown(str(d.mount)) if d.mounted else ""
    print(f"{shown(d.label):<24} {state:<34} {' · '.join(filter(None, words)):<36} {place}")


def _tell_one(shelf: Shelf) -> None:
    _tell(shelf)
    d = shelf.drive
    for line in filter(
        None,
        (built_words(d), *flags(d, shelf.character), *rules_in_words(d.rules), rules_known_by(d)),
    ):
        print(f"  {line}")
    for s in shelf.standings:
        print(f"  {shown(s.name)} ({s.standing_words})  {shown(str(s.root))}")
        if s.says:
            home = tr("here") if s.says.at_home else shown(s.says.identity.home.path)
            last = max((h.when for h in s.says.identity.history), default=None)
            if last:
                when = moment(last.timestamp())
                print(
                    tr("    its file says: home {home}, last crossing {when}", home=home, when=when)
                )
            else:
                print(tr("    its file says: home {home}", home=home))
    for f in shelf.former:
        print(tr("  was {label} at {mount}", label=shown(f.label), mount=shown(str(f.mount))))


def _tell_suits(workspace: Workspace, library: str, as_json: bool) -> None:
    surveyed = survey_library(workspace, resolve(workspace, library))
    if not surveyed.survey.folders:
        usage(surveyed.problems[0].sentence, as_json)
    found = suits(surveyed)
    if as_json:
        put({"library": shown(surveyed.name), "file_systems": [_suits_object(s) for s in found]})
        return
    for s in found:
        print(f"{s.choice.name:<8} {s.verdict}\n         {s.choice.good}\n         {s.choice.cost}")
        for p in s.problems:
            print(f"         - {p.sentence}")


def _suits_object(s: Suits) -> dict[str, Any]:
    problems = [
        {"severity": p.severity.value, "code": p.code, "sentence": p.sentence} for p in s.problems
    ]
    return {
        "filesystem": s.choice.filesystem,
        "verdict": s.verdict,
        "clashing": s.clashing,
        "good": s.choice.good,
        "cost": s.choice.cost,
        "problems": problems,
    }
