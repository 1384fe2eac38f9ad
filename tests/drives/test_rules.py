"""The table of rules, against stand-ins and against real, mounted file systems.

What the rules allow, a drive takes.
"""

import errno
import os
import re
import shutil
import time
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.crossing.fit.names import allot_more
from fascis.drives.asking import ask
from fascis.drives.care.describing import rules_in_words
from fascis.drives.connected import Drives
from fascis.drives.rules import Answers, Fold, all_rules, rules_of
from fascis.files.errors import EnvironmentTrouble

DOCS = Path(__file__).parents[2] / "docs/drives.md"
REAL = ["ext4", "ext3", "ext2", "btrfs", "xfs", "exfat", "ntfs", "tmpfs"]
PLAYED = ["ext4", "btrfs", "xfs", "exfat", "ntfs", "vfat", "cifs", "unheard-of"]
NAMES = [
    *(f"a{c}b".encode() for c in '"*:<>?\\|'), b"a\x01b", b"a\tb", b"a\nb", b"dot.", b"space ",
    b"dots...", b"aux", b"CON.txt", b"com1.mov", b"con.tent",
    b"\xff\xfe", "h\u00e9ron".encode(), "he\u0301ron2".encode(), "\U0001f41f".encode(), b"x" * 255,
    "\u00e9".encode() * 127, "\u00e9".encode() * 255,
    b" leading", b".hidden", b"...", b"-dash", b"%41", b"a~1.mov",
]  # fmt: skip


@pytest.fixture(params=[*(f"real {f}" for f in REAL), *(f"played {f}" for f in PLAYED)])
def drive(request, bench):
    """A drive with a medium on a folder of it, and the rules that are claimed for it."""
    kind, filesystem = request.param.split()
    if kind == "real":
        if shutil.which(f"mkfs.{filesystem}") is None and filesystem != "tmpfs":
            pytest.skip(f"needs mkfs.{filesystem}")
        mounted = request.getfixturevalue("mounted")
        where = mounted(filesystem, 320 if filesystem == "xfs" else 150)
        drives = Drives()
    else:
        where, drives = bench.add_drive("played", filesystem), bench.again().drives
    with closing(drives.open(where)) as medium:
        made = drives.at(where)
        yield type(
            "There",
            (),
            {
                "medium": medium,
                "rules": made.rules,
                "drive": made,
                "real": kind == "real",
                "where": where,
            },
        )


def create(medium, name):
    medium.create(name).close()


def test_every_name_that_the_rules_allow_is_accepted_and_returned(drive):
    for name in NAMES:
        if not drive.real and len(name) > 255:
            continue  # The stand-in's folder cannot do it.
        if drive.rules.refuses_name(name) is None:
            create(drive.medium, name)
            assert name in drive.medium.names(b""), name
        elif not drive.real:
            with pytest.raises(OSError, match="Invalid argument"):
                create(drive.medium, name)
    assert drive.rules.refused_names(NAMES) == [
        (i, why) for i, n in enumerate(NAMES) if (why := drive.rules.refuses_name(n))
    ]


def test_names_that_are_two_by_the_rules_are_two_there(drive):
    """Every cased character of the basic plane.

    A drive that folds what the rules do not would refuse the second.
    """
    # fmt: skip
    cased = [
        chr(c)
        for c in range(0x80, 0x10000)
        if not 0xD800 <= c < 0xE000 and (chr(c).upper() != chr(c) or chr(c).lower() != chr(c))
    ]
    chosen = [*"aAkKsSiI", *(cased if drive.rules.folds is Fold.UPPER else cased[::9])]
    seen = {}
    for c in chosen:
        name = f"n{c}".encode()
        if drive.rules.fold(name) not in seen:
            create(drive.medium, name)  # FileExistsError here: a clash that planning had not named
            seen[drive.rules.fold(name)] = name
    assert len(seen) > 100


def test_case_is_one_where_the_rules_say_so(drive):
    create(drive.medium, b"Weir.mov")
    if drive.rules.folds_case and not drive.real:
        with pytest.raises(FileExistsError):
            create(drive.medium, b"WEIR.mov")
    elif not drive.rules.folds_case:
        create(drive.medium, b"WEIR.mov")
    assert b"Weir.mov" in drive.medium.names(b"")


def test_links_modes_attributes_and_holes_are_kept_where_claimed(drive):
    rules, medium = drive.rules, drive.medium
    with closing(medium.create(b"file")) as file:
        file.write(memoryview(b"x"))
        if rules.attributes:
            file.set_attributes({"user.mood": b"calm"})
            assert file.attributes()["user.mood"] == b"calm"
        if rules.modes:
            os.fchmod(file.handle, 0o754)
            assert file.status().st_mode & 0o777 == 0o754
    if rules.links:
        medium.make_link(b"file", b"link")
        medium.hard_link(b"file", b"second")
        assert medium.read_link(b"link") == b"file" and medium.status(b"second").st_nlink == 2
    elif not drive.real:
        with pytest.raises(PermissionError):
            medium.make_link(b"file", b"link")
    if rules.holes:
        with closing(medium.create(b"sparse")) as file:
            file.set_size(40_000_000)
            assert file.status().st_blocks * 512 < 1_000_000


def test_times_are_kept_in_the_claimed_steps_and_range(drive):
    rules = drive.rules
    ends = [rules.earliest or 0, rules.latest or 4_000_000_000]
    for number, at in enumerate(
        [1_700_000_001_123_456_789, *(e * 10**9 for e in ends if e >= -(1 << 31))]
    ):
        name = f"t{number}".encode()
        with closing(drive.medium.create(name)) as file:
            os.utime(file.handle, ns=(at, at))
        kept = drive.medium.status(name).st_mtime_ns
        assert rules.keeps_time(at) and abs(kept - at) <= rules.granularity_ns, (at, kept)
    assert not rules.earliest or not rules.keeps_time((rules.earliest - 1) * 10**9)
    assert not rules.latest or not rules.keeps_time((rules.latest + 1) * 10**9)


def test_the_largest_file_is_held_and_not_more(drive):
    limit = drive.rules.largest_file
    if drive.rules.name == "FAT32":
        with closing(drive.medium.create(b"large")) as file:
            file.skip_to(limit - 4)
            file.write(memoryview(b"1234"))
            with pytest.raises(OSError, match=os.strerror(errno.EFBIG)):
                file.write(memoryview(b"5"))
        return
    if limit is None or not drive.real or not drive.rules.holes:
        assert limit is None or limit > 1 << 40
        return
    with closing(drive.medium.create(b"large")) as file:
        file.set_size(limit)
        assert file.status().st_size == limit
        if drive.rules.name == "ext4":  # ext3 made today takes a little more than one from before
            with pytest.raises(OSError, match=os.strerror(errno.EFBIG)):
                file.set_size(limit + drive.drive.block)


def test_a_file_takes_whole_blocks(drive):
    before = drive.medium.space()[1]
    for i in range(20):
        with closing(drive.medium.create(b"f%d" % i)) as file:
            file.write(memoryview(b"x" * 5000))
            file.flush()
    drive.medium.sync()
    taken = before - drive.medium.space()[1]
    if drive.rules.name not in ("btrfs", "XFS"):  # these count their own records lazily
        assert (
            taken <= 20 * -(-5000 // drive.drive.block) * drive.drive.block + 64 * drive.drive.block
        )
        assert drive.drive.block >= 512


# -- asking the drive itself -----------------------------------------------------------------------


def test_what_a_drive_says_of_itself_is_true_and_leaves_nothing_behind(drive):
    before = sorted(drive.medium.names(b""))
    said = ask(drive.medium)
    assert said is not None and sorted(drive.medium.names(b"")) == before
    assert Answers.from_json(said.as_json()) == said
    rules = drive.rules.with_answers(said)
    assert rules.asked
    for name in NAMES:  # never looser than the table, for another computer may read it
        if drive.rules.known and drive.rules.refuses_name(name):
            assert rules.refuses_name(name)
        if rules.refuses_name(name) is None and (drive.real or len(name) < 256):
            create(drive.medium, name)
    if drive.real and drive.rules.certain:
        assert (
            said.folds is Fold.NONE
            and not said.reserved
            and said.links
            and said.modes
            and said.attributes
        )


def test_an_unknown_file_system_is_believed_what_it_says(bench):
    """The most cautious rules until it is tested; then its own."""
    where = bench.add_drive("strange", "unheard-of")
    drives = bench.again().drives
    drive = drives.at(where)
    assert drive.rules.refuses_name(b"what?") and not drive.rules.known
    asked = drives.asked(drive, where)
    assert (
        asked.rules.asked and drives.at(where).rules.asked
    )  # and remembered while it stays mounted
    assert sorted(p.name for p in where.iterdir()) == ["stand-in.json"]


@pytest.mark.parametrize(
    "facts",
    [
        {"capacity": 1_000_000},
        {"read_only": True},
        {"connected": False},
        {"faults": [{"kind": "write-error", "name": "Case"}]},
    ],
)
def test_a_drive_that_is_full_read_only_or_failing_is_not_tested(bench, facts):
    where = bench.add_drive("poor", "exfat", **facts)
    drives = bench.again().drives
    drive = next(d for d in drives.connected() if d.label == "poor")
    try:
        asked = drives.asked(drive, where)
    except EnvironmentTrouble:
        pytest.fail("asking never fails; it does not answer")
    assert asked.rules.asked == ("faults" in facts) and not list(where.glob(".fascis-asks-*"))


def test_a_drive_that_is_removed_while_it_is_tested(bench):
    where = bench.add_drive("going", "exfat")
    count = [0]

    def step(name):
        count[0] += name == "create"
        if count[0] == 7:
            bench.add_drive("going", "exfat", connected=False)
            bench.workspace.drives.stand_ins()

    bench.step = step
    drives = bench.again().drives
    assert not drives.asked(drives.at(where), where).rules.asked


# -- as data ---------------------------------------------------------------------------------------


# fmt: skip
@given(
    st.lists(
        st.binary(min_size=1, max_size=300).filter(lambda n: b"/" not in n and b"\0" not in n),
        max_size=12,
    ),
    st.sampled_from(all_rules()),
)
def test_many_names_are_checked_like_single_ones(names, rules):
    assert rules.refused_names(names) == [
        (i, w) for i, n in enumerate(names) if (w := rules.refuses_name(n))
    ]


@given(st.binary(min_size=1, max_size=20), st.sampled_from(all_rules()))
def test_folding_twice_folds_no_more(name, rules):
    assert rules.fold(rules.fold(name)) == rules.fold(name)


def test_every_row_has_a_source_and_is_in_the_documentation():
    text = DOCS.read_text()
    rows = {line.split("|")[1].strip(): line for line in text.splitlines() if line.startswith("| ")}
    for rules in all_rules():
        row = rows[rules.name]
        assert rules.source and rules.source in text, rules.name
        cells = [c.strip() for c in row.split("|")]
        assert cells[3] == ("255 characters" if rules.utf16_names else "255 bytes"), rules.name
        assert cells[4] == ("yes" if rules.reserved else "no"), rules.name
        assert (
            cells[5]
            == {Fold.NONE: "two", Fold.UPPER: "one", Fold.FULL: "one, and accents"}[rules.folds]
        ), rules.name
        # fmt: skip
        kept = [
            n
            for n, k in (
                ("links", rules.links),
                ("modes", rules.modes),
                ("attributes", rules.attributes),
                ("holes", rules.holes),
            )
            if k
        ]
        assert cells[6] == (", ".join(kept) or "none"), rules.name
        assert (
            cells[7]
            == {1: "1 ns", 100: "100 ns", 10**9: "1 s", 2 * 10**9: "2 s"}[rules.granularity_ns]
        ), rules.name
    assert len(rows) >= len(all_rules())


def test_rules_in_words_say_what_matters():
    fat, ext4 = (
        " ".join(rules_in_words(rules_of("vfat"))),
        " ".join(rules_in_words(rules_of("ext4"))),
    )
    assert "No file over 4.29" in fat and "one name" in fat and "Keeps no links, permissions" in fat
    assert "two files" in ext4 and "No file over" not in ext4 and "Keeps no" not in ext4
    assert (
        re.search(r"1980 to 2107", fat) and time.gmtime(rules_of("exfat").earliest).tm_year == 1980
    )


class Narrow:
    """A driver with an ASCII character set, which folds two names in one, and knows no times."""

    def __init__(self, inner):
        self._inner = inner

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def create(self, place, mode=0o600):
        if not place.isascii():
            raise PermissionError(errno.EPERM, "not in the character set")
        folder, _, name = place.rpartition(b"/")
        same = [n for n in self._inner.names(folder) if n.lower() == name.lower()]
        return (
            self._inner.open(folder + b"/" + same[0]) if same else self._inner.create(place, mode)
        )


def test_a_driver_with_another_character_set_is_tested_and_its_results_count(bench):
    with closing(bench.workspace.drives.open(bench.heron)) as medium:
        said = ask(Narrow(medium))
        rules = rules_of("a driver nobody knows").with_answers(said)
        assert said.largest_code == 0x7F and said.folds is Fold.UPPER and not said.long_names
        assert sorted(medium.names(b"")) == [b"stand-in.json"]
        assert "character set" in rules.refuses_name("h\u00e9ron".encode())
        names = ["h\u00e9ron.mov".encode(), "\u9dfa.mov".encode(), b"plain.mov", b"PLAIN.mov"]
        new = allot_more([], names, [rules])
        assert new[names[0]] == b"heron.mov" and len({new.get(n, n).lower() for n in names}) == 4


# fmt: skip
@pytest.mark.parametrize(
    ("largest", "names"),
    [(0x7F, ["h\u00e9", "\u0159"]), (0xFF, ["\u0159", "\u9dfa"]), (0xFFFF, ["\U0001f41f"])],
)
def test_a_character_set_that_ends_early_is_held_to(largest, names):
    rules = rules_of("vfat").with_answers(
        Answers(Fold.UPPER, frozenset(), "", False, True, False, False, False, False, 1, largest)
    )
    assert all("character set" in rules.refuses_name(n.encode()) for n in names)
    assert rules.refuses_name(chr(min(largest, 0x7A)).encode()) is None
    new = allot_more([], [n.encode() + b".mov" for n in names], [rules])
    assert all(rules.refuses_name(n) is None for n in new.values()) and len(
        set(new.values())
    ) == len(names)
    assert "Letters only up to" in " ".join(rules_in_words(rules))
