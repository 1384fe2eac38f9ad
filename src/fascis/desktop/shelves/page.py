"""A library, or a copy of one, in the side panel."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from msgspec import Struct, field

from fascis.desktop.copies.page import CopiesPage, CopyActions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, FullBar, button, label, tip
from fascis.desktop.kit.words import ROLE_WORDS
from fascis.files.names import elided, shown
from fascis.files.times import whole
from fascis.library.identity import kind_words
from fascis.library.known.places import KnownPlaces
from fascis.library.known.shelves import OnShelf
from fascis.library.references.summary import Summary
from fascis.library.standing import Standing
from fascis.words.figures import moment, percent, size
from fascis.words.speech import tr, trn


def _kind_words(s: OnShelf) -> str:
    if s.parked:
        return tr("originals, set aside")
    if s.home:
        return kind_words(s.kind)
    return tr("{kind}, a copy", kind=kind_words(s.kind))


class OnDisplay(Struct, frozen=True):
    """A library or a copy, with the known facts around it.

    Attributes:
        drive: the name of its drive.
        known: its known paths; None for an unknown library.
        full: the used share of its drive now, and after the originals are deleted.
        best: the most suitable drive for it, if any.
        warnings: warnings, shown first.
        away: a text that its drive is not connected; actions that need the drive are not offered
            then.
        archived: its home is on a removable drive.
    """

    standing: OnShelf
    drive: str
    known: KnownPlaces | None
    full: tuple[float, float] | None
    best: str | None
    warnings: Sequence[str] = ()
    away: str = ""
    archived: bool = False


class LibraryActions(Struct, frozen=True):
    """The actions on it; None for those not possible now.

    ``readable``: the number of documents that are not understood and have a proposed reading.
    """

    plan: Do
    parts: Do
    survey: Do
    forget: Do
    crossing: Do
    strands: Do | None = None
    relink: Do | None = None
    read: Do | None = None
    readable: int = 0
    copies: CopyActions = field(default_factory=CopyActions)


def _question(standing: OnShelf) -> tuple[str, Path]:
    return "forget", standing.root


class LibraryPage:
    """Shows libraries in a side panel."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel
        self._copies = CopiesPage(panel)

    def show_library(self, library: OnDisplay, actions: LibraryActions) -> None:
        """A library or a copy: its contents, its copies, and its drive afterwards.

        Warnings first.
        """
        s, drive, full, away = library.standing, library.drive, library.full, library.away
        known = library.known
        panel = self._panel
        if s.summary:
            changed = tr("last change {when}", when=moment(whole(s.summary.last_change_ns) / 1e9))
        else:
            changed = tr("not looked at yet")
        panel.begin(
            shown(s.name),
            tr(
                "{kind_words} · on {drive} · {changed}",
                kind_words=_kind_words(s),
                drive=shown(drive),
                changed=changed,
            ),
        )
        path = label(elided(shown(str(s.root)), 46), quiet=True)
        path.setToolTip(tip(shown(str(s.root))))
        panel.add(path)
        for warning in library.warnings:
            panel.add(label(warning, wrong=True))
        if away:
            panel.add(label(away))
        if s.parked:
            panel.add(
                label(
                    tr(
                        "Set aside after a crossing. It frees nothing until you delete "
                        "it; nothing is ever deleted automatically."
                    )
                )
            )
            panel.end(button(tr("See its crossing"), actions.crossing, main=True))
            return
        # If it is elsewhere too, that comes first.
        elsewhere = known is not None and len(known.all) > 1
        if known and elsewhere:
            self._copies.tell_copies(known, actions.copies)
        if s.summary:
            self._what_it_holds(s.summary, actions)
        if known and not elsewhere:
            self._copies.tell_copies(known, actions.copies)
        if full and not library.archived:
            self._how_full(drive, s.size, *full)
        self._what_can_be_done(library, actions)

    def _how_full(self, drive: str, frees: int, now: float, after: float) -> None:
        """The used share of its drive, now and afterwards."""
        panel = self._panel
        panel.head(tr("{drive}, after the originals are deleted", drive=shown(drive)))
        panel.add(FullBar(now, tr("now {percent} full", percent=percent(now))))
        panel.space(3)
        panel.add(
            FullBar(
                after,
                tr("{percent} full", percent=percent(after)),
                tr("frees {size}", size=size(frees)),
                after=True,
            )
        )

    def _what_can_be_done(self, library: OnDisplay, actions: LibraryActions) -> None:
        panel, s, best, away = self._panel, library.standing, library.best, library.away
        buttons = []
        if away:
            forget = [button(tr("Forget it (touches no file)"), actions.forget)] if s.home else []
            panel.end(*forget)
            return
        # Damage is repaired before anything else.
        repair = actions.copies.repair[:1]
        for where, take in repair:
            buttons.append(
                button(tr("Take the good files from {where}", where=shown(where)), take, main=True)
            )
        strands = actions.strands if s.summary else None
        # A library at home on its own drive has arrived: it is not urged back.
        urges = not (library.archived and strands)
        if strands and not urges:
            buttons.append(button(tr("See its strands"), strands, main=not repair))
        if best:
            words = tr("Plan the crossing to {best}", best=shown(best))
            buttons.append(button(words, actions.plan, main=urges and not repair))
        else:
            panel.add(label(tr("No other connected drive has room for it."), quiet=True))
        if strands and urges:
            buttons.append(button(tr("See its strands"), strands))
        if best and s.home and s.summary:
            buttons.append(button(tr("Take a part of it…"), actions.parts))
        buttons.append(button(tr("Look at it again"), actions.survey))
        if s.home:
            take_off = partial(self._ask_to_forget, library, actions)
            buttons.append(button(tr("Take it off the shelf…"), take_off, link=True))
        panel.end(*buttons)

    def _ask_to_forget(self, library: OnDisplay, actions: LibraryActions) -> None:
        """The meaning of taking a library off the shelf, before it is done."""
        panel, name = self._panel, shown(library.standing.name)
        panel.begin(tr("Take {name} off the shelf?", name=elided(name, 40)))
        panel.add(label(tr("No file is changed: the folder stays as it is.")))
        panel.add(
            label(
                tr(
                    "Fascis then no longer knows which media its documents use, and does not keep "
                    "these files when another library or folder that holds them is deleted after a "
                    "crossing."
                )
            )
        )
        back = partial(self.show_library, library, actions)
        panel.end(
            button(tr("Keep it on the shelf"), back, main=True, back=True),
            button(tr("Take it off the shelf"), actions.forget),
        )
        panel.remember(_question(library.standing))

    def asks_about(self, standing: OnShelf) -> bool:
        """True while it asks whether this library is to be taken off the shelf."""
        return self._panel.shows(_question(standing))

    def _what_it_holds(self, summary: Summary, actions: LibraryActions) -> None:
        """Its roles with their bytes, then what must be done before it is copied."""
        panel = self._panel
        panel.head(tr("What it holds"))
        for role, (files, _, allocated) in sorted(summary.roles.items(), key=lambda x: -x[1][2]):
            if role.remakeable:
                words = trn("{n} file, can be made again", "{n} files, can be made again", files)
            else:
                words = trn("{n} file", "{n} files", files)
            panel.add_row(ROLE_WORDS[role], size(allocated), words)
        if summary.bytes > summary.allocated * 1.05 + 1_000_000:
            panel.add(
                label(
                    tr(
                        "{size} by their lengths; the rest are holes that take no room.",
                        size=size(summary.bytes),
                    ),
                    quiet=True,
                )
            )
        self._before_it_travels(summary, actions)

    def _offer_to_read(self, read: Do, readable: int) -> None:
        if readable:
            words = trn(
                "Fascis found where {n} of them keeps its paths.",
                "Fascis found where {n} of them keep their paths.",
                readable,
            )
            self._panel.add(label(words))
        self._panel.add(button(tr("Read what is not understood…"), read, link=True))

    def _before_it_travels(self, s: Summary, actions: LibraryActions) -> None:
        """What is missing, what lies outside, what could be left out; empty if all is fine."""
        panel = self._panel

        def of(standing: Standing) -> tuple[int, int]:
            return s.standing.get(standing, (0, 0))

        missing, away, loose = map(of, (Standing.MISSING, Standing.AWAY, Standing.LOOSE))
        lines = []
        lost = (
            (missing, trn("{n} file missing", "{n} files missing", missing[0])),
            (away, trn("{n} file away", "{n} files away", away[0])),
        )
        for (files, total), words in lost:
            if files:
                lines.append(
                    (words, size(total) if total else "", tr("last known size") if total else "")
                )
        if loose[0]:
            lines.append(
                (
                    trn("{n} file loose", "{n} files loose", loose[0]),
                    size(loose[1]),
                    tr("used, and outside its folder: gathered"),
                )
            )
        if s.not_understood:
            lines.append(
                (
                    trn(
                        "{n} document not understood",
                        "{n} documents not understood",
                        s.not_understood,
                    ),
                    "",
                    tr("what they refer to is not known"),
                )
            )
        if not lines and not s.unused[0]:
            return
        panel.head(tr("Incomplete: fix before copying") if lines else tr("Could be left out"))
        for left, right, quiet in lines:
            panel.add_row(left, right, quiet)
        if actions.relink is not None and (missing[0] or away[0]):
            panel.add(button(tr("Relink: look for what is lost"), actions.relink, link=True))
        if actions.read is not None and s.not_understood:
            self._offer_to_read(actions.read, actions.readable)
        if s.remakeable:
            panel.add_row(
                tr("Can be made again"), size(s.remakeable), tr("proxies, renders, previews")
            )
        if s.unused[0]:
            panel.add_row(
                tr("Unused"),
                size(s.unused[1]),
                trn(
                    "{n} file that nothing refers to",
                    "{n} files that nothing refers to",
                    s.unused[0],
                ),
            )
