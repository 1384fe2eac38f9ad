"""Looking over a home of many files, against what lists the same of them without looking.

    python benchmarks/look.py FOLDER [--files N] [--pairs N]

Makes N files in FOLDER, which must not exist, then times ``find -printf`` and ``fascis look`` in
turn, each with a cold cache where this is run as root, and a second look at the end.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ENDINGS = ("jpg", "mov", "wav", "js", "py", "txt", "dat", "png", "xmp", "cr2")
SIZES = (5, 20, 40, 80, 200)


def make(folder: Path, files: int) -> None:
    """Folders of different sizes, two levels deep."""
    dice, made, number = random.Random(1), 0, 0
    while made < files:
        here = folder / f"{number % 50:02}/{number // 50 % 40:02}/f{number:05}"
        here.mkdir(parents=True)
        count = dice.choice(SIZES)
        for n in range(count):
            (here / f"file_{n:04}.{dice.choice(ENDINGS)}").touch()
        made, number = made + count, number + 1


def cold() -> None:
    """Removes it from memory, as far as possible."""
    os.sync()
    if os.geteuid() == 0:
        Path("/proc/sys/vm/drop_caches").write_text("3")


def seconds(command: list[str], home: Path) -> float:
    """How long a command takes."""
    begun = time.monotonic()
    subprocess.run(
        command, check=True, capture_output=True, env={**os.environ, "HOME": os.fspath(home)}
    )
    return time.monotonic() - begun


def main() -> None:
    """Measures, and prints medians and their ratios."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--files", type=int, default=1_000_000)
    parser.add_argument("--pairs", type=int, default=3)
    wanted = parser.parse_args()
    make(wanted.folder, wanted.files)
    find = ["find", os.fspath(wanted.folder), "-printf", "%s %T@ %p\n"]
    look = [sys.executable, "-m", "fascis", "look", os.fspath(wanted.folder), "--json"]
    listed, looked = [], []
    with tempfile.TemporaryDirectory() as home:
        for pair in range(wanted.pairs):
            cold()
            listed.append(seconds(find, Path(home)))
            cold()
            looked.append(seconds(look, Path(home) / str(pair)))
        again = seconds(look, Path(home) / str(wanted.pairs - 1))
    shutil.rmtree(wanted.folder)
    first, base = statistics.median(looked), statistics.median(listed)
    print(f"find {base:.1f} s, look {first:.1f} s ({first / base:.2f}), again {again:.1f} s")


if __name__ == "__main__":
    main()
