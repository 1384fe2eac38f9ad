"""100,000 lost files among 1,000,000 found ones.

The index beside ``find``, the matching, and the memory of both.

    python benchmarks/relink.py FOLDER [FILES]

Makes FOLDER when it is not there: files without content, of sizes of their own, in folders that
were renamed, split and
copied. Every tie is checked against what was renamed.
"""

from __future__ import annotations

import os
import random
import resource
import subprocess
import sys
import time
from pathlib import Path

from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.relink.contents import Contents
from fascis.relink.index import look
from fascis.relink.lost import Lost
from fascis.relink.matching import match
from fascis.relink.outcome import State

EACH = 100


def make(root: Path, files: int) -> None:
    """Folders of a hundred files.

    Of ten one was lost under another name, and one in twenty of its files has a decoy.
    """
    for n in range(files // EACH):
        folder = (
            root
            / f"drive {n % 7}"
            / f"shoot {n // 50}"
            / (f"now {n}" if n % 10 == 0 else f"day {n}")
        )
        folder.mkdir(parents=True)
        for i in range(EACH):
            fd = os.open(folder / f"take_{n if n % 3 else 0}_{i:04d}.mov", os.O_CREAT | os.O_WRONLY)
            os.ftruncate(fd, size_of(n, i))
            os.close(fd)
            if n % 10 == 0:
                os.utime(folder / f"take_{n if n % 3 else 0}_{i:04d}.mov", ns=(time_of(n, i),) * 2)


def size_of(n: int, i: int) -> int:
    return 1_000_000 + (n * EACH + i) * 7919 % 900_000_000


def time_of(n: int, i: int) -> int:
    return 1_600_000_000_000_000_000 + n * 1_000_000_007 + i


def lost_files(files: int, times: bool) -> list[Lost]:
    found = []
    for n in range(0, files // EACH, 10):
        folder = os.fsencode(f"/gone/drive {n % 7}/shoot {n // 50}/day {n}")
        for i in range(EACH):
            name = f"take_{n if n % 3 else 0}_{i:04d}.mov".encode()
            lost = Lost(
                folder + b"/" + name, name, folder, Standing.MISSING, Role.ORIGINAL, size_of(n, i)
            )
            lost.mtime_ns = time_of(n, i) if times else 0
            found.append(lost)
    return found


def main() -> None:
    root = Path(sys.argv[1]).absolute()
    files = int(sys.argv[2]) if len(sys.argv) > 2 else 1_000_000
    if not root.exists():
        make(root, files)
    ratios = []
    for _ in range(3):
        begun = time.monotonic()
        subprocess.run(
            ["find", str(root), "-printf", "%s %p\\n"], stdout=subprocess.DEVNULL, check=True
        )
        find = time.monotonic() - begun
        index = look(root)
        ratios.append(index.seconds / find)
        print(
            f"index of {len(index)} files {index.seconds:.2f} s, find {find:.2f} s: "
            f"{ratios[-1]:.2f} times"
        )
    for times in (True, False):
        lost = lost_files(files, times)
        random.Random(1).shuffle(lost)
        begun = time.monotonic()
        found = match(lost, index, Contents())
        seconds = time.monotonic() - begun
        wrong = 0
        for i, x in enumerate(lost):
            there = found.found(i)
            wrong += (
                there is not None
                and there.replace(b"/now ", b"/day ").rpartition(b"/drive ")[2]
                != x.path.rpartition(b"/drive ")[2]
            )
        kept = "sizes and times" if times else "sizes"
        print(
            f"{len(lost)} lost, {kept} known: {seconds:.2f} s, {found.files(State.FOUND)} found, "
            f"{wrong} wrong,"
            f" {found.files(State.OPEN)} open, {len(found.moves)} folder moves"
        )
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000
    print(f"median {sorted(ratios)[1]:.2f} times find; {most:.0f} MB in all")


if __name__ == "__main__":
    main()
