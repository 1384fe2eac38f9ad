"""The scales and the steps after verification: look, switch over, set aside, delete, take back."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtGui import QGuiApplication

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.policy import Act, acts, would_delete
from fascis.crossing.model.states import State
from fascis.crossing.status.deleting import Deleting, deleting_with_others, release_with_others
from fascis.crossing.status.opened import Opened
from fascis.crossing.status.scales import Balance, weigh
from fascis.desktop.crossings.answers import Situation, clock, step_after, why_not_delete
from fascis.desktop.crossings.page import AtScales, CrossingPage, Offer, Opening, OpeningActions
from fascis.desktop.crossings.seen import Listed, Seen
from fascis.desktop.crossings.view import CrossingRow, CrossingsView
from fascis.desktop.kit.tasks import Task
from fascis.files.codes import Code, Stays
from fascis.files.errors import Refused
from fascis.files.names import elided, shown
from fascis.words.figures import listed, number, size
from fascis.words.speech import tr, trn

# Until a busy drive is checked again.
_AGAIN_MS = 3_000


class Host(Protocol):
    """Chooses a crossing, runs work with it, and shows its pages."""

    current: Listed | None
    opened: Opened
    view: CrossingsView
    page: CrossingPage
    opener: Callable[[str], None]
    leave_to_receipts: Callable[[str], None]

    @property
    def seen(self) -> Seen | None:
        """What was last read of the chosen crossing."""

    def show(self) -> None:
        """Shows the chosen crossing again."""

    def load(self, then: Callable[[], object] | None = None) -> None:
        """Reads all crossings again."""

    def again(self, error: str = "") -> None:
        """Reads it again, or shows the error."""

    def back(self) -> None:
        """Leaves an inner page."""

    def screen(self, name: str) -> None:
        """Shows an inner page."""

    def situation(self) -> Situation:
        """The facts for the answers."""

    def frees(self) -> str:
        """The text of the last station."""

    def run(self, id: str, skip: bool = False, bring: bool = False, choose: bool = True) -> None:
        """Runs a crossing."""

    def without(self, number: int) -> None:
        """Gives up a destination."""

    def do(
        self,
        title: str,
        words: str,
        work: Callable[[Crossing], Any],
        then: Callable[[], object] | None = None,
    ) -> None:
        """Does one step with the chosen crossing, in a task."""


class Steps:
    """The steps of a crossing that has arrived.

    Args:
        host: knows which one is chosen.
        tasks: the parent of tasks.
    """

    def __init__(self, host: Host, tasks: QObject) -> None:
        self._tasks = tasks
        self._host = host
        self.balance: Balance | None = None
        self.list: Deleting | None = None
        # For the present balance; results of an earlier one do not count.
        self._turn = 0
        self._weighing: set[tuple[str, int]] = set()
        self.screens = {"open": self._open_screen, "delete": self._delete_screen}

    def forget(self) -> None:
        """The balance is outdated, or belongs to another crossing."""
        self.balance, self.list = None, None
        self._turn += 1

    def show(self, row: CrossingRow) -> None:
        """Shows the scales; computes the balance first if needed."""
        if self.balance is None:
            self._weigh()
        self._host.view.show_balance(row, self.balance, self._host.frees())

    def _weigh(self) -> None:
        chosen = self._host.current
        if chosen is None or (chosen.id, self._turn) in self._weighing:
            return
        id, turn = chosen.id, self._turn
        self._weighing.add((id, turn))

        def work() -> tuple[Balance, Deleting]:
            crossing = self._host.opened.of(id)
            balance = weigh(crossing)
            newer = balance.newer + balance.left
            return balance, deleting_with_others(crossing, newer, balance.lost)

        def done(outcome: Any) -> None:
            self._weighing.discard((id, turn))
            if self._host.current is None or self._host.current.id != id or turn != self._turn:
                # Another one is chosen, or a step changed it meanwhile.
                return
            if isinstance(outcome, BaseException):
                self._host.again(str(outcome))
            else:
                self.balance, self.list = outcome
                self._host.show()
                # Slow to answer does not mean out of balance.
                if self.balance and self.balance.busy:
                    QTimer.singleShot(_AGAIN_MS, lambda: self._again_if_busy(id))

        Task(work, done, self._tasks)

    def _again_if_busy(self, id: str) -> None:
        current = self._host.current
        if (
            current is not None
            and current.id == id
            and self.balance is not None
            and self.balance.busy
        ):
            self._weigh()

    def show_panel(self) -> None:
        """Shows the possible steps at the scales."""
        c, seen = self._host.current, self._host.seen
        assert c and seen
        s, drive = self._host.situation(), seen.drive
        # Files that a part leaves for others are not set aside.
        others = [] if seen.part else self._others()
        step = step_after(s.state, seen.after, s.looked, self.balance, bool(others))
        titles = {
            State.SETTLED: tr("Before home goes to {drive}", drive=drive),
            State.SWITCHED: tr("Home is {drive}", drive=drive),
            State.PARKED: tr("Originals set aside"),
            State.RELEASED: tr("The originals are deleted"),
        }
        if seen.after is After.COPY:
            titles[State.SETTLED] = tr("One more copy")
        if seen.updates:
            titles[State.SETTLED] = tr("The copy is up to date")
        scales = AtScales(
            title=titles[s.state],
            lines=_lines(seen),
            step=step,
            plan=self.list if would_delete(s.state, seen.after) else None,
            why_not=why_not_delete(s),
            state=s.state,
            balance=self.balance,
        )
        offers = self._offers(c.id, seen, s, step)
        if others:
            first = elided(shown(others[0]), 24)
            offers["lead"] = Offer(tr("Let {name} use the new place first", name=first), self.lead)
            offers.pop("park", None)
        self._host.page.show_scales(scales, offers, lambda: self._host.screen("delete"))

    def _offers(self, crossing: str, seen: Seen, s: Situation, step: str) -> dict[str, Offer]:
        """The possible steps at the scales, by name."""
        drive = seen.drive
        offers = {
            "open": Offer(
                tr("Open it from {drive}", drive=drive), lambda: self._host.screen("open")
            ),
            "prove": Offer(tr("Read the copy again"), self.prove),
            "switch": Offer(tr("Switch over: home is {drive}", drive=drive), self.switch),
            "park": Offer(tr("Set the originals aside (frees nothing yet)"), self.park),
            "receipt": Offer(tr("See the receipt"), lambda: self._host.leave_to_receipts(crossing)),
            "put_back": Offer(tr("Put the originals back"), self.put_back),
            "undo": Offer(tr("Take back the switch"), self.undo),
            "again": Offer(tr("Look again"), self.look_again),
        }
        if s.state is State.SETTLED:
            offers["undo"] = Offer(tr("End here: home stays, and so does the copy"), self.undo)
        if len(seen.labels) > 1:
            offers["prove"] = Offer(tr("Read the copies again"), self.prove)
        if seen.only_compared:
            accept = tr("Accept the comparison: this drive cannot prove more")
            offers["accept"] = Offer(accept, self.accept_comparison)
        if step == "bring":
            newer = len(self.balance.newer) if self.balance else 0
            along = trn("Bring {n} file along", "Bring {n} files along", newer)
            offers["bring"] = Offer(along, self.bring_along)
            offers["leave"] = Offer(
                trn("Leave it at the old place", "Leave them at the old place", newer), self.leave
            )
        in_trouble = self.balance is not None and bool(self.balance.trouble)
        if len(seen.drives) > 1 and in_trouble and s.state is not State.RELEASED:
            other = seen.drives[1]
            without = tr("Continue without {label}; its copy stays", label=elided(other.label, 18))
            offers["without"] = Offer(without, lambda: self._host.without(other.number))
        if s.proven or s.state is State.RELEASED:
            del offers["prove"]
        if Act.SET_ASIDE not in acts(s.state):
            del offers["park"]
        return offers

    def bring_along(self) -> None:
        """Copies, verifies and settles files that changed at the old place."""
        if self._host.current:
            self._host.run(self._host.current.id, bring=True)

    def leave(self) -> None:
        """Decides that changed files stay at the old place."""
        if self._host.current and self.balance:
            newer = list(self.balance.newer)
            self._host.do(
                tr("Noted"),
                tr("What is newer stays at the old place, and is never deleted."),
                lambda crossing: crossing.leave_newer(newer),
            )

    def prove(self) -> None:
        """Reads the copy once more, after its drive was connected again."""
        seen = self._host.seen
        if self._host.current is None or seen is None:
            return

        def work(crossing: Crossing) -> None:
            if not crossing.prove():
                if all(d.only_compared or d.copies.proven() for d in crossing.demanded):
                    # Equal after reconnecting: the person decides whether that is enough.
                    return
                raise Refused(
                    Code.NOT_PROVEN,
                    tr(
                        "It was read, perhaps from memory again. Remove {drive} safely, connect "
                        "it, then read it again. The originals stay.",
                        drive=seen.drive,
                    ),
                )

        self._host.do(
            tr("Reading the copy again"),
            tr("Every file on {drive} that was perhaps read from memory.", drive=seen.drive),
            work,
        )

    def accept_comparison(self) -> None:
        """The person confirms that a comparison is enough if the drive cannot prove more."""
        if self._host.current:
            self._host.do(
                tr("Noted"),
                tr("The copy was compared after its drive was connected again; that is enough."),
                Crossing.accept_comparison,
            )

    def look_again(self) -> None:
        """Computes the balance again."""
        self.forget()
        self._host.show()

    def _open_screen(self) -> None:
        assert self._host.current
        path = str(self._host.current.target)

        def copy_path() -> None:
            if board := QGuiApplication.clipboard():
                board.setText(path)

        seen = self._host.seen
        copy = Opening(
            path=shown(path),
            documents=seen.documents if seen else [],
            unknown=seen.references.get("not_understood", 0) if seen else 0,
            opened=bool(seen and seen.looked),
        )
        actions = OpeningActions(
            copy_path=copy_path,
            show_folder=lambda: self._host.opener(path),
            looked=self.looked,
            back=self._host.back,
        )
        self._host.page.show_open(copy, actions)

    def looked(self) -> None:
        """The person confirms having looked."""
        assert self._host.current
        self._host.do(tr("Noted"), tr("You have looked at it in its new place."), Crossing.looked)

    def switch(self) -> None:
        """Switches over."""
        assert self._host.current
        self._host.do(tr("Switching over"), tr("Home goes to the new place."), Crossing.switch)

    def _others(self) -> list[str]:
        """Libraries that use originals, by their names."""
        stays = self.list.stays if self.list is not None else []
        needed = (s.by for s in stays if s.why is Stays.USED_ELSEWHERE)
        return sorted({name for by in needed for name in by})

    def lead(self) -> None:
        """Updates the documents of other libraries to the new place."""
        assert self._host.current
        self._host.do(
            tr("Leading other libraries to the new place"),
            tr(
                "Their documents are written again and read back; their old versions are kept "
                "beside them. Taking back the switch takes this back too."
            ),
            Crossing.lead_others,
        )

    def park(self) -> None:
        """Sets the originals aside."""
        assert self._host.current
        self._host.do(
            tr("Setting aside"),
            tr("Looking at the originals once more, then one rename."),
            Crossing.park,
        )

    def put_back(self) -> None:
        """Gives the originals their name back."""
        assert self._host.current
        self._host.do(tr("Putting back"), tr("One rename."), Crossing.put_back)

    def undo(self) -> None:
        """Takes the switch back."""
        assert self._host.current
        self._host.do(
            tr("Taking back"), tr("Home goes back to the old place; the copy stays."), Crossing.undo
        )

    def _delete_screen(self) -> None:
        seen = self._host.seen
        if self._host.current is None or self.list is None or seen is None:
            self._host.back()
            return
        self._host.page.show_deleting(
            self.list, seen.source_drive, listed(seen.labels), self._host.back, self.delete
        )

    def delete(self) -> None:
        """Deletes the listed originals; each is checked once more right before."""
        if self._host.current is None or self.list is None or self._host.seen is None:
            return
        if why_not_delete(self._host.situation()):
            return
        self._host.do(
            tr("Deleting the originals"),
            trn(
                "{n} file, each compared once more right before.",
                "{n} files, each compared once more right before.",
                self.list.files,
            ),
            release_with_others,
            (lambda: self._host.load(self._host.again)) if self._host.seen.in_split else None,
        )


def _lines(seen: Seen) -> list[tuple[str, str, str]]:
    release, source = seen.release, seen.source_drive
    if release:
        lines = [
            (
                tr("Deleted"),
                trn("{n} file", "{n} files", release["files"]),
                tr("{count} bytes long", count=number(release["bytes"])),
            ),
            (
                tr("Free on {source} before", source=source),
                size(release["free_before"]),
                tr("{count} bytes", count=number(release["free_before"])),
            ),
            (
                tr("Free on {source} after", source=source),
                size(release["free_after"]),
                tr("measured again: {count} bytes", count=number(release["free_after"])),
            ),
        ]
        if release.get("loose_files"):
            lines.insert(
                1,
                (
                    tr("and loose ones"),
                    trn("{n} file", "{n} files", release["loose_files"]),
                    tr("{count} bytes long", count=number(release["loose_bytes"])),
                ),
            )
        lines += [(tr("Less space was freed than was deleted"), "", r) for r in release["reasons"]]
        by_reason: dict[str, int] = {}
        for left in release["left_behind"]:
            by_reason[left["why"]] = by_reason.get(left["why"], 0) + 1
        return lines + [
            (trn("{n} file stays", "{n} files stay", n), "", Stays(why).words)
            for why, n in by_reason.items()
        ]
    lines = _arrived(seen)
    if seen.parked_at:
        lines.append((tr("Originals set aside"), "", shown(seen.parked_at)))
    lines.append((tr("Looked at by you"), tr("yes") if seen.looked else tr("not yet"), ""))
    return lines


def _arrived(seen: Seen) -> list[tuple[str, str, str]]:
    lines = [
        (
            tr("{name}: whole on {label}", name=shown(seen.name), label=d.label),
            "",
            tr("verified, settled {time}", time=clock(d.settled_at)),
        )
        for d in seen.drives
    ]
    if seen.followers:
        words = seen.followers_wait or tr(
            "led to {drive}: {followers_named}",
            drive=seen.drive,
            followers_named=seen.followers_named,
        )
        what = trn("{n} document follows", "{n} documents follow", len(seen.followers))
        lines.append((what, "", words))
    if gathered := seen.references.get("gathered", 0):
        lines.append(
            (
                trn("{n} loose file gathered", "{n} loose files gathered", gathered),
                "",
                tr("they are now in two places"),
            )
        )
    if missing := seen.references.get("missing", 0):
        lines.append(
            (
                trn("{n} file missing", "{n} files missing", missing),
                "",
                tr("documents will not find them, as before"),
            )
        )
    if unknown := seen.references.get("not_understood", 0):
        lines.append(
            (
                trn("{n} document not understood", "{n} documents not understood", unknown),
                "",
                tr("balance holds for what could be checked"),
            )
        )
    return lines
