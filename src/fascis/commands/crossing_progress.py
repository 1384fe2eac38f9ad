"""Progress of crossings on standard error: the current step, and how much is done."""

from __future__ import annotations

import threading

from fascis.commands.progress import Saying
from fascis.commands.telling import say
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.events import Advanced, Attention, Entered, Event, Released
from fascis.crossing.status.pace import Pace
from fascis.files.names import shown
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn


class Telling(Saying):
    """Prints the engine's events, which come from any of its threads."""

    def __init__(self, crossing: Crossing) -> None:
        files, total = crossing.journal.planned()
        self._paces = [Pace(files, total, *d.copies.verified()) for d in crossing.destinations]
        self._said = ""
        self._names = [d.label for d in crossing.destinations]
        self._lock = threading.Lock()
        super().__init__(total=max(2 * sum(p.total_bytes for p in self._paces), 1))

    def __call__(self, event: Event) -> None:
        """Takes one event."""
        with self._lock:
            if isinstance(event, Advanced):
                self._paces[event.destination].advance(event)
                if self.due:
                    self._draw()
            elif isinstance(event, Entered):
                several = len(self._names) > 1 and event.destination is not None
                words = event.state.value
                words = (
                    f"{shown(self._names[event.destination or 0])}: {words}" if several else words
                )
                if words != self._said:
                    self._said = words
                    say(words)
            elif isinstance(event, Attention):
                say(f"{shown(event.place)} ({shown(event.drive)}): {event.meaning}.")
            elif isinstance(event, Released) and event.files:
                say(
                    trn(
                        "deleted {n} original, {size}",
                        "deleted {n} originals, {size}",
                        event.files,
                        size=size(event.bytes),
                    )
                )

    def _draw(self) -> None:
        words = "; ".join(
            (f"{shown(name)}: " if len(self._names) > 1 else "")
            + ", ".join(
                filter(
                    None,
                    (
                        tr(
                            "{copied} copied, {verified} of {total} verified, {done} of {files}",
                            copied=size(p.copied_bytes),
                            verified=size(p.verified_bytes),
                            total=size(p.total_bytes),
                            done=number(p.verified_files),
                            files=trn("{n} file", "{n} files", p.files),
                        ),
                        f"{size(p.bytes_a_second())}/s",
                        p.ready_words(),
                    ),
                )
            )
            for name, p in zip(self._names, self._paces, strict=True)
        )
        self.tell(words, sum(p.copied_bytes + p.verified_bytes for p in self._paces))
