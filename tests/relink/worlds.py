"""Worlds in which media went astray, made up by a seed.

What a library knew, what became of its files, and decoys.

What is right is judged by content alone: a found file must have the bytes that the lost one had.
"""

import os
import random
import shutil
import sqlite3
import unicodedata
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from blake3 import blake3

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.relink.contents import Contents
from fascis.relink.index import look_in
from fascis.relink.outcome import State
from tests.library.making import timeline, write

WORDS = [
    "weir",
    "salmon",
    "heron",
    "otter",
    "sluice",
    "breach",
    "ladder",
    "dawn",
    "mist",
    "bank",
    "spillway",
    "river",
    "millrace",
    "tide",
    "eel",
    "reed",
]
KNOWN = ("times", "sizes", "digests", "nothing")
CHANGES = (
    "stay",
    "rename",
    "above",
    "case",
    "form",
    "split",
    "merge",
    "drive",
    "scatter",
    "delete",
)
DECOYS = ("other size", "other content", "proxy", "backup", "stale backup")


@dataclass
class World:
    """A library whose media moved."""

    bench: object
    rng: random.Random
    known: str
    was: dict[str, bytes] = field(default_factory=dict)  # path as the documents have it → content
    decoys: tuple = DECOYS
    changes: tuple = CHANGES
    log: list = field(default_factory=list)

    @property
    def inside(self):
        return self.bench.drives / "inside"

    def make(self, folders=6, most=24):
        """Files, documents that refer to them, a survey, then all that happens to folders."""
        rng = self.rng
        for n in range(folders):
            name = f"{rng.choice(WORDS)} é{n}" if rng.random() < 0.3 else f"{rng.choice(WORDS)} {n}"
            folder = (
                self.inside / "Footage" / (f"Year {n % 2}" if rng.random() < 0.5 else "") / name
            )
            camera, fixed = rng.random() < 0.5, rng.random() < 0.3
            for i in range(rng.randint(2, most)):
                file = f"IMG_{i:04d}.dng" if camera else f"{rng.choice(WORDS)}_{n}_{i:03d}.mov"
                size = 2048 if fixed else rng.randint(200, 9000)
                self._put(folder / file, rng.randbytes(size))
        paths = sorted(self.was)
        half = len(paths) // 2
        targets = [p if i % 3 else Path(p).as_uri() for i, p in enumerate(paths)]
        write(self.bench.library / "Feature.otio", timeline(*targets[: half + 5]))
        write(self.bench.library / "cut/Teaser.otio", timeline(*targets[half:]))
        if self.known != "nothing":
            remember(self.bench.workspace, survey_library(self.bench.workspace, self.bench.library))
            self._forget()
        by_folder = {}
        for p in paths:
            by_folder.setdefault(os.path.dirname(p), []).append(p)
        for folder, files in sorted(by_folder.items()):
            self._happens(Path(folder), files, rng.choice(self.changes))
        for p in rng.sample(paths, max(1, len(paths) // 12)):
            if self.decoys:
                self._decoy(Path(p), rng.choice(self.decoys))
        return self

    def _put(self, path, content):
        if not path.exists():
            write(path, content)
            when = self.rng.randint(1_500_000_000_000_000_000, 1_600_000_000_000_000_000)
            os.utime(path, ns=(when, when))
            self.was[str(path)] = content

    def _forget(self):
        with closing(sqlite3.connect(self.bench.workspace.register.path)) as db:
            if self.known != "times":
                db.execute("UPDATE used SET mtime_ns=0")
            if self.known == "digests":
                for p, content in self.was.items():
                    db.execute(
                        "UPDATE used SET digest=? WHERE path=?",
                        (blake3(content).digest(), os.fsencode(p)),
                    )
            db.commit()

    def _happens(self, folder, files, change):
        rng = self.rng
        self.log.append((change, str(folder)))
        if not folder.is_dir():
            return
        new = folder.with_name(f"{rng.choice(WORDS)} moved {rng.randrange(1000)}")
        if change == "rename":
            folder.rename(new)
        elif change == "above":
            above = folder.parent
            if above.name.startswith("Year") and above.is_dir():
                above.rename(above.with_name(f"{above.name} {rng.choice(WORDS)}"))
        elif change == "case":
            folder.rename(folder.with_name(folder.name.upper()))
        elif change == "form":
            other = folder.with_name(unicodedata.normalize("NFD", folder.name))
            if other.name != folder.name:
                folder.rename(other)
        elif change == "split":
            for f in files:
                part = new / "one" if rng.random() < 0.5 else new.with_name(new.name + " b")
                self._move(Path(f), part / Path(f).name)
        elif change == "merge":
            for f in files:
                self._move(Path(f), self.inside / "Merged" / Path(f).name)
        elif change == "drive":
            shutil.move(folder, self.bench.heron / f"From inside {rng.randrange(1000)}")
        elif change == "scatter":
            for f in files:
                self._move(Path(f), self.inside / f"Tidied {rng.randrange(40)}" / Path(f).name)
        elif change == "delete":
            for f in rng.sample(files, max(1, len(files) // 3)):
                os.unlink(f)
            folder.rename(new)

    @staticmethod
    def _move(old, new):
        new.parent.mkdir(parents=True, exist_ok=True)
        if not new.exists():
            old.rename(new)

    def _decoy(self, lost, kind):
        rng, content = self.rng, self.was[str(lost)]
        self.log.append((kind, str(lost)))
        elsewhere = self.inside / f"Elsewhere {rng.randrange(5)}"
        if kind == "other size":
            self._new(elsewhere / lost.name, rng.randbytes(len(content) + rng.randint(1, 500)))
        elif kind == "other content":
            self._new(elsewhere / lost.name, rng.randbytes(len(content)))
        elif kind == "proxy":
            self._new(
                self.inside / "Work/proxies" / lost.parent.name / lost.name,
                rng.randbytes(max(1, len(content) // 9)),
            )
        else:  # of its whole folder
            for p, old in self.was.items():
                if Path(p).parent == lost.parent:
                    stale = kind == "stale backup" and rng.random() < 0.2
                    self._new(
                        self.bench.heron
                        / f"{kind} {rng.randrange(2)}"
                        / lost.parent.name
                        / Path(p).name,
                        rng.randbytes(len(old)) if stale else old,
                    )

    @staticmethod
    def _new(path, content):
        if not path.exists():
            write(path, content)

    def match(self, decisions=None):
        surveyed = survey_library(self.bench.workspace, self.bench.library)
        relinking = surveyed.relinking(self.bench.workspace)
        index = look_in([self.inside, self.bench.heron])
        more = (decisions,) if decisions else ()
        return relinking.match(index, Contents(), *more)

    def judge(self, found):
        """``(wrong ties, found, findable)``.

        A lost file is findable when its bytes are somewhere.
        """
        there = set()
        for root in (self.inside, self.bench.heron):
            for folder, _, files in os.walk(root):
                there |= {blake3(Path(folder, f).read_bytes()).digest() for f in files}
        wrong, right, findable = [], 0, 0
        for i, x in enumerate(found.lost):
            content = self.was[os.fsdecode(x.path)]
            findable += blake3(content).digest() in there
            path = found.found(i)
            if found.state[i] is State.FOUND:
                if Path(os.fsdecode(path)).read_bytes() == content:
                    right += 1
                else:
                    wrong.append((x.path, path, found.why[i], found.basis[i]))
        return wrong, right, findable
