"""How long it takes to hold 200,000 files against the rules of a file system, clashes among them.

    python benchmarks/rules.py FOLDER

Makes the files once below FOLDER, surveys them, and plans against exFAT, ext4 and both.
"""

import statistics
import sys
import time
from pathlib import Path

from fascis.crossing.fit.limits import Columns, clashes, holding_problems, name_problems
from fascis.crossing.fit.names import keep_apart
from fascis.crossing.model.fates import Fates
from fascis.crossing.scope.gathering import Gathering
from fascis.drives.connected import Drives
from fascis.drives.model import Drive
from fascis.drives.rules import rules_of
from fascis.library.references.uses import Uses
from fascis.library.survey import survey

FILES, FOLDERS = 200_000, 400


def make(folder: Path) -> None:
    if (folder / "made").exists():
        return
    for f in range(FOLDERS):
        (folder / f"shoot {f:03}").mkdir(parents=True)
        for i in range(FILES // FOLDERS):
            name = f"h\u00e9ron_{i:04}.jpg" if f % 2 else f"weir_{i:04}.mov"
            name = (
                f"what? {i}.mov"
                if i == 7 and f % 10 == 0
                else "WEIR_0009.mov"
                if i == 8 and f % 10 == 0
                else name
            )
            (folder / f"shoot {f:03}" / name).touch()
    (folder / "made").touch()


def drive(filesystem: str) -> Drive:
    return Drive(
        filesystem,
        filesystem,
        filesystem,
        rules_of(filesystem),
        Path("/"),
        1 << 42,
        1 << 41,
        4096,
        "usb",
        False,
        False,
        True,
        True,
    )


def main(folder: Path) -> None:
    make(folder)
    found = survey(Drives().open(folder))
    fates = Fates().of(found)
    for names in (["ext4"], ["exfat"], ["exfat", "ntfs"]):
        drives, times = [drive(n) for n in names], []
        for _ in range(5):
            begun = time.perf_counter()
            apart = keep_apart(found, Uses(), fates, Gathering(), [d.rules for d in drives], {})
            columns = Columns(found, fates)
            problems = [*name_problems(drives, apart)]
            for d in drives:
                problems += holding_problems(d, "The Weir", columns, Gathering(), dict)
            clashing = len(clashes(drives, columns, Gathering(), apart))
            times.append(time.perf_counter() - begun)
        print(
            f"{'+'.join(names):<12} {statistics.median(times):.2f} s, {len(found)} files, "
            f"{clashing} clash"
        )


main(Path(sys.argv[1]))
