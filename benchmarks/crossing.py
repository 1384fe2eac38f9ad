"""Compares a crossing up to *verified* with the recipe a careful person would type.

In one run, cold cache.

The recipe: ``cp -a``, ``sync -f``, drop caches, ``b3sum`` of the source, ``b3sum --check`` on the
copy.
Shapes: (a) 8 files of 256 MiB, (b) 20,000 files of 4 to 80 KB. Pairs in alternating order; the
ratio of medians with the spread of the pairs' ratios; beside it the sum of reading, writing and
reading the same bytes with direct I/O.

Needs root (to drop caches), cp, b3sum. Usage:
    python benchmarks/crossing.py --source FOLDER --to FOLDER_ON_ANOTHER_FILE_SYSTEM \
        [--pairs 7] [--shape a|b]
"""

from __future__ import annotations

import argparse
import mmap
import os
import random
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

MIB = 1 << 20


def make(root: Path, shape: str) -> int:
    """Makes the files; returns their bytes."""
    total = 0
    generator = random.Random(7)
    if shape == "a":
        root.mkdir(parents=True)
        for i in range(8):
            with open(root / f"reel {i}.mov", "wb") as out:
                for _ in range(16):
                    out.write(generator.randbytes(16 * MIB))
            total += 256 * MIB
        return total
    block = generator.randbytes(1 << 20)
    for i in range(20_000):
        folder = root / f"day {i // 500:02d}"
        folder.mkdir(parents=True, exist_ok=True)
        size, at = generator.randrange(4_000, 80_000), generator.randrange(900_000)
        (folder / f"frame_{i:05d}.jpg").write_bytes(i.to_bytes(4, "big") + block[at : at + size])
        total += size + 4
    return total


def cold() -> None:
    """Empties the page cache."""
    os.sync()
    Path("/proc/sys/vm/drop_caches").write_text("3")


def recipe(source: Path, to: Path) -> float:
    cold()
    begun = time.perf_counter()
    copy = to / "by hand"
    subprocess.run(["cp", "-a", source, copy], check=True)
    subprocess.run(["sync", "-f", copy], check=True)
    Path("/proc/sys/vm/drop_caches").write_text("3")
    sums = to / "sums"
    with open(sums, "wb") as out:
        subprocess.run(
            "find . -type f -print0 | xargs -0 b3sum",
            shell=True,
            cwd=source,
            stdout=out,
            check=True,
        )
    subprocess.run(
        ["b3sum", "--check", "--quiet", sums], cwd=copy, check=True, stdout=subprocess.DEVNULL
    )
    took = time.perf_counter() - begun
    shutil.rmtree(copy)
    sums.unlink()
    return took


def crossing(source: Path, to: Path, state: Path) -> float:
    workspace = Workspace(state / "data", state / "state", state / "config", Drives())
    cold()
    begun = time.perf_counter()
    plan = make_plan(
        workspace,
        survey_library(workspace, source),
        to,
        Choices(name="by fascis", after=After.COPY),
    )
    work = Crossing.start(workspace, plan, decided=True)
    assert work.run().value == "settled"
    took = time.perf_counter() - begun
    assert work.copies.proven()
    work.close()
    shutil.rmtree(to / "by fascis")
    return took


def direct_sum(source: Path, to: Path, total: int) -> float:
    """Seconds to read, write and read as many bytes with direct I/O."""
    buffer = mmap.mmap(-1, 8 * MIB)
    begun = time.perf_counter()
    total = total // len(buffer) * len(buffer)
    here, there = source.parent / "direct", to / "direct"
    _direct(here, os.O_WRONLY | os.O_CREAT, buffer, total)  # not counted: something to read
    cold()
    begun = time.perf_counter()
    _direct(here, os.O_RDONLY, buffer, total)
    _direct(there, os.O_WRONLY | os.O_CREAT, buffer, total)
    _direct(there, os.O_RDONLY, buffer, total)
    took = time.perf_counter() - begun
    here.unlink()
    there.unlink()
    return took


def _direct(path: Path, flags: int, buffer: mmap.mmap, total: int) -> None:
    fd = os.open(path, flags | os.O_DIRECT, 0o600)
    for _ in range(total // len(buffer)):
        if flags & os.O_WRONLY:
            os.write(fd, buffer)
        else:
            os.readv(fd, [buffer])
    if flags & os.O_WRONLY:
        os.fsync(fd)
    os.close(fd)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--source", type=Path, required=True)
    parser.add_argument("--to", type=Path, required=True)
    parser.add_argument("--pairs", type=int, default=7)
    parser.add_argument("--shape", choices=["a", "b"], action="append")
    given = parser.parse_args()
    for shape in given.shape or ["a", "b"]:
        source = given.source / f"benchmark {shape}"
        total = make(source, shape)
        state = Path(tempfile.mkdtemp(dir=given.source))
        ours, theirs, direct = [], [], []
        for pair in range(given.pairs):
            for turn in (0, 1) if pair % 2 else (1, 0):
                if turn:
                    ours.append(crossing(source, given.to, state))
                else:
                    theirs.append(recipe(source, given.to))
            direct.append(direct_sum(source, given.to, total))
        ratios = sorted(o / t for o, t in zip(ours, theirs, strict=True))
        print(
            *(f"{o:.2f}/{t:.2f}/{d:.2f}" for o, t, d in zip(ours, theirs, direct, strict=True)),
            flush=True,
        )
        a, b, c = (statistics.median(x) for x in (ours, theirs, direct))
        print(
            f"({shape}) {total / 1e9:.2f} GB: crossing {a:.2f} s, recipe {b:.2f} s, ratio of "
            f"medians {a / b:.2f}"
            f" (pairs {ratios[0]:.2f} to {ratios[-1]:.2f}); direct I/O sum {c:.2f} s, crossing / "
            f"sum {a / c:.2f}",
            flush=True,
        )
        shutil.rmtree(source)
        shutil.rmtree(state)


if __name__ == "__main__":
    main()
