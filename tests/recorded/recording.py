"""Runs the command line over made worlds and records what it says.

Without ids, times and figures of speed.

``python -m tests.recorded.recording`` writes the recordings again: only when what is said is meant
to change.
"""

import json
import os
import random
import re
import sys
import tempfile
from pathlib import Path

from tests.commands.test_commands import here
from tests.worlds.generator import World

FOLDER = Path(__file__).parent
SEEDS = range(9_000, 9_016)
_TIMES = {
    "seconds",
    "at",
    "when",
    "planned_at",
    "settled_at",
    "copied_at",
    "last_seen",
    "write_mb_s",
    "read_mb_s",
    "measured",
    "free_before",
    "free_after",
    "free_bytes",
    "since",
    "looked_at",
}
_LENGTH = 150
_ID = re.compile(
    r"\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b|\b[0-9a-f]{16}\b|(?<=aside "
    r")[0-9a-f]{8}\b|(?<=before-)[0-9a-f]{8}\b"
)
_CLOCK = re.compile(
    r"\b\d{1,2} [A-Z][a-z]{2}( \d{4})?,? \d{2}:\d{2}\b|\bat \d{2}:\d{2}\b|\babout [\d\u00a0]+ "
    r"(s|min|h)( \d+ min)?\b"
)


class Script:
    """One world, and what a person types in it."""

    def __init__(self, root, seed):
        root = root / (
            "w" * (_LENGTH - len(os.fspath(root)) - 1)
        )  # documents hold whole paths: their lengths are said too
        root.mkdir()
        self.random, self.root = random.Random(seed), root
        self.world = World(root, random.Random(seed))
        self.bench, self.library = self.world.bench, self.world.library
        self.said, self._ids = [], {}

    def type(self, *words):
        status, said, _ = here(self.bench.drives, *words, "--json")
        self.said.append(
            {
                "typed": self._plain(" ".join(map(str, words))),
                "status": status,
                "said": self._normal(said),
            }
        )
        return said

    def run(self):
        r = self.random
        self.type("survey", self.library)
        self.type("drives")
        self.type("drives", "--suits", self.library)
        after = r.choice(("copy", "keep", "park", "release"))
        more = r.choice(
            (
                (),
                ("--no-gather",),
                ("--leave-out", "proxy"),
                ("--loose-too",),
                ("--leave-out", "unused"),
            )
        )
        to = self.bench.drives / r.choice(("heron", "otter"))
        relocate = ("relocate", self.library, "--to", to, "--after", after, *more)
        self.type(*relocate, "--dry-run")
        said = self.type(*relocate, "--yes")
        there = to / self.library.name
        if there.exists():
            self.type("survey", there)
            self.type("verify", there)
        self.type("receipts", said["crossing"]) if said.get("crossing") else None
        self.type("resume")
        if said["state"] in ("settled", "switched", "parked"):
            self.type(
                *r.choice(
                    (
                        ("undo", said["crossing"]),
                        ("release", said["crossing"], "--yes"),
                        ("park", said["crossing"]),
                    )
                )
            )
        self.type(
            "relink",
            self.library if self.library.exists() else there,
            "--search",
            self.world.inside,
        )
        self.type("receipts")
        return self.said

    def _normal(self, said, key=""):
        if key == "drives" and isinstance(said, list):
            said = [
                d for d in said if d.get("stand_in")
            ]  # Other drives of this machine are left out.
        if isinstance(said, dict):
            return {self._plain(k): self._normal(v, k) for k, v in said.items()}
        if isinstance(said, list):
            return [self._normal(v, key) for v in said]
        if key == "verified_at" and said:
            return None
        if (key in _TIMES and isinstance(said, (int, float))) or (
            isinstance(said, float) and said > 1e9
        ):
            return 0
        return self._plain(said) if isinstance(said, str) else said

    def _plain(self, text):
        text = text.replace(os.path.realpath(self.root), "ROOT").replace(str(self.root), "ROOT")
        text = _CLOCK.sub("TIME", text)
        return _ID.sub(lambda m: self._ids.setdefault(m[0], f"ID{len(self._ids) + 1}"), text)


def recorded(seed, root):
    """The output for one world."""
    return Script(root, seed).run()


def write_anew():
    """Writes every recording again."""
    for seed in SEEDS:
        with (
            tempfile.TemporaryDirectory(prefix=f"world{seed}-") as home,
            tempfile.TemporaryDirectory(prefix=f"at{seed}-") as root,
        ):
            os.environ["HOME"] = home
            for name in ("XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
                os.environ.pop(name, None)
            said = recorded(seed, Path(root))
            (FOLDER / f"{seed}.json").write_text(
                json.dumps(said, indent=0, sort_keys=True, ensure_ascii=False) + "\n"
            )
            print(seed, len(said), file=sys.stderr)


if __name__ == "__main__":
    write_anew()
