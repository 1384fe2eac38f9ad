"""Names, lists, writers, walking: laws of the bottom room."""

import csv
import errno
import io
import os
import shutil
import subprocess
import unicodedata

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fascis.files import inventory
from fascis.files.disk.digest import digest_of, digest_of_bytes
from fascis.files.disk.medium import PosixMedium, read_small
from fascis.files.disk.walk import walk
from fascis.files.disk.writer import AtomicWriter, write_whole
from fascis.files.errors import Damaged, EnvironmentTrouble
from fascis.files.inventory import Entry, InventoryWriter, read_inventory
from fascis.files.manifest import format_line, parse_line, read_manifest, write_manifest
from fascis.files.names import all_listed, elided, folded, listed, safe_place, shown, unlisted
from fascis.files.records import records
from fascis.words.figures import duration, number, size

NAME = st.binary(min_size=1, max_size=40).filter(
    lambda b: b"\0" not in b and b"/" not in b and b not in (b".", b"..")
)
PLACE = st.lists(NAME, min_size=1, max_size=4).map(b"/".join)
_LETTERS = st.characters(exclude_categories=["Cs"], exclude_characters="/\0\ufffd")
_PART = st.text(_LETTERS, min_size=1).filter(lambda part: part not in (".", ".."))
LISTABLE = st.lists(_PART, min_size=1, max_size=4).map(lambda p: "/".join(p).encode())


@given(PLACE)
def test_a_place_survives_being_listed(place):
    assert unlisted(*listed(place)) == place


@given(PLACE)
def test_what_is_shown_is_one_plain_line(place):
    text = shown(place)
    assert not {c for c in text if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp")} - {
        "\u200d"
    }
    text.encode("utf-8")


@given(LISTABLE, st.binary(min_size=32, max_size=32))
def test_a_manifest_line_survives(place, digest):
    line = format_line(digest, place)
    assert line.count(b"\n") == 1 and parse_line(line) == (digest, place)


@given(st.lists(st.tuples(PLACE, st.integers(0, 2**62), st.integers(-(2**60), 2**60)), max_size=5))
def test_an_inventory_survives(rows):
    entries = [Entry(p, s, t, digest_of_bytes(p), "original") for p, s, t in rows]
    out = io.StringIO(newline="")
    InventoryWriter(out).write(entries)
    assert list(read_inventory(io.StringIO(out.getvalue(), newline=""), "x")) == entries


@given(st.binary(max_size=2000), st.integers(1, 300))
def test_a_digest_does_not_depend_on_how_it_is_read(content, chunk):
    class Slow(io.BytesIO):
        def readinto(self, buffer):
            return super().readinto(memoryview(buffer)[:chunk])

    assert digest_of(Slow(content)) == digest_of_bytes(content)


@pytest.mark.skipif(shutil.which("b3sum") is None, reason="b3sum is not installed")
def test_b3sum_reads_what_is_written(tmp_path):
    names = [b"plain.mov", b"new\nline", b"back\\slash", "ü 🪿".encode(), b"cr\rname", b" spaces  "]
    for name in names:
        (tmp_path / os.fsdecode(name)).write_bytes(name)
    with open(tmp_path / "sums", "wb") as out:
        assert write_manifest(out, [(digest_of_bytes(n), n) for n in names]) == len(names)
    assert subprocess.run(
        ["b3sum", "--check", "sums"], cwd=tmp_path, capture_output=True
    ).stdout.count(b": OK") == len(names)


@pytest.mark.parametrize(
    "line",
    [
        b"",
        b"short  x\n",
        b"0" * 64 + b"  ../out\n",
        b"0" * 64 + b"  /etc/passwd\n",
        b"g" * 64 + b"  x\n",
        b"\\" + b"0" * 64 + b"  bad\\q\n",
        b"0" * 64 + b" one space\n",
    ],
)
def test_a_line_that_is_not_a_manifest_line(line):
    assert parse_line(line) is None


def test_a_damaged_manifest_says_where():
    text = format_line(b"\1" * 32, b"fine.mov") + b"rubbish\n"
    with pytest.raises(Damaged, match=r"line 2 is not a manifest line"):
        list(read_manifest(io.BytesIO(text), "manifest.b3"))


@pytest.mark.parametrize(
    "text",
    [
        "path\n",
        "path,path_encoding,size_bytes,mtime_ns,blake3,role\n../x,utf-8,1,1,,other\n",
        "path,path_encoding,size_bytes,mtime_ns,blake3,role\nx,utf-8,many,1,,other\n",
    ],
)
def test_a_damaged_inventory_is_refused(text):
    with pytest.raises(Damaged, match="inventory"):
        list(read_inventory(io.StringIO(text), "inventory.csv"))


@pytest.mark.parametrize(
    ("place", "safe"),
    [
        (b"a/b", True),
        (b"", False),
        (b"/a", False),
        (b"a/../b", False),
        (b"a//b", False),
        (b"..", False),
        (b"a\0b", False),
    ],
)
def test_places_that_lead_out_are_not_safe(place, safe):
    assert safe_place(place) is safe


def test_names_that_become_one():
    assert folded("CAFE\u0301.JPG".encode()) == folded("caf\u00e9.jpg".encode()) and folded(
        b"a"
    ) != folded(b"b")


def test_figures_in_words():
    assert (
        size(311_300_000_000) == "311.3\u00a0GB"
        and size(1) == "1\u00a0byte"
        and size(999_999) == "1.00\u00a0MB"
    )
    assert (
        number(4822) == "4\u00a0822"
        and duration(11_100) == "3\u00a0h\u00a005\u00a0min"
        and len(elided("x" * 50, 21)) == 21
    )


# -- writing and walking ---------------------------------------------------------------------------


@pytest.mark.parametrize("call", ["open", "fsync", "replace"])
def test_an_atomic_write_that_fails_leaves_the_old_bytes(tmp_path, monkeypatch, call):
    (tmp_path / "identity.json").write_bytes(b"old")
    fd = os.open(tmp_path, os.O_RDONLY)

    def fail(*_a, **_k):
        raise OSError(errno.ENOSPC, "full")

    with monkeypatch.context() as m:
        m.setattr(f"fascis.files.disk.writer.os.{call}", fail)
        with pytest.raises(EnvironmentTrouble, match="the drive is full"):
            write_whole(fd, b"identity.json", b"new")
    os.close(fd)
    assert (tmp_path / "identity.json").read_bytes() == b"old" and os.listdir(tmp_path) == [
        "identity.json"
    ]


def test_leaving_without_commit_changes_nothing(tmp_path):
    fd = os.open(tmp_path, os.O_RDONLY)
    with pytest.raises(KeyError), AtomicWriter(fd, b"x") as writer:
        writer.file.write(b"half")
        raise KeyError
    os.close(fd)
    assert os.listdir(tmp_path) == []


def test_a_walk_follows_no_link_and_keeps_order(tmp_path):
    (tmp_path / "b").mkdir()
    (tmp_path / "a").mkdir()
    (tmp_path / "a" / "x").write_bytes(b"1")
    (tmp_path / "loop").symlink_to(tmp_path)
    fd = os.open(tmp_path, os.O_RDONLY)
    found = list(walk(fd))
    os.close(fd)
    assert (
        [f.place for f in found] == [b"", b"a", b"b"]
        and found[0].names == [b"loop"]
        and found[1].names == [b"x"]
    )


class TestMedium:
    @pytest.fixture
    def medium(self, tmp_path):
        medium = PosixMedium.at(tmp_path)
        yield medium
        medium.close()

    def test_creating_never_overwrites(self, medium, tmp_path):
        (tmp_path / "x").write_bytes(b"old")
        with pytest.raises(FileExistsError):
            medium.create(b"x")
        assert (tmp_path / "x").read_bytes() == b"old"

    def test_renaming_never_replaces_not_even_an_empty_folder(self, medium, tmp_path):
        (tmp_path / "a").mkdir()
        (tmp_path / "b").mkdir()
        with pytest.raises(FileExistsError):
            medium.rename_new(b"a", b"b")
        with pytest.raises(FileExistsError):
            medium.move_into_claimed(b"a", b"b")
        assert sorted(os.listdir(tmp_path)) == ["a", "b"]

    @pytest.mark.parametrize("work", ["open", "create", "make_folder"])
    def test_no_link_is_followed_on_the_way(self, medium, tmp_path, tmp_path_factory, work):
        outside = tmp_path_factory.mktemp("outside")
        (outside / "x").write_bytes(b"theirs")
        (tmp_path / "link").symlink_to(outside)
        with pytest.raises(OSError, match=r"Not a directory|symbolic"):
            getattr(medium, work)(b"link/x")
        assert (outside / "x").read_bytes() == b"theirs" and os.listdir(outside) == ["x"]

    def test_a_pipe_is_not_waited_for(self, medium, tmp_path):
        os.mkfifo(tmp_path / "pipe")
        with pytest.raises(OSError, match="not a regular file"):
            medium.open(b"pipe")

    def test_a_renamed_folder_is_found_under_its_new_name_only(self, medium):
        medium.make_folder(b"a")
        medium.create(b"a/x").close()
        medium.rename_new(b"a", b"b")
        assert medium.exists(b"b/x") and not medium.exists(b"a/x")

    def test_small_files_are_limited(self, medium, tmp_path):
        (tmp_path / "big").write_bytes(b"x" * 100)
        assert read_small(medium, b"big") == b"x" * 100
        with pytest.raises(EnvironmentTrouble, match="larger"):
            read_small(medium, b"big", 99)


def test_a_path_of_twenty_thousand_bytes_is_listed_and_read():
    place = b"/".join([b"d" * 200] * 100)
    out = io.BytesIO()
    write_manifest(out, [(bytes(32), place)])
    assert list(read_manifest(io.BytesIO(out.getvalue()), "x")) == [(bytes(32), place)]


FIELDS = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=6)


@given(st.lists(st.tuples(FIELDS, st.integers(), FIELDS), min_size=1, max_size=6))
def test_records_are_those_of_the_standard_library(rows):
    out = io.StringIO(newline="")
    csv.writer(out, lineterminator="\r\n").writerows(rows)
    assert records(list(zip(*rows, strict=True))) == out.getvalue()


@given(st.lists(st.binary(min_size=1, max_size=6).filter(lambda p: b"\0" not in p)))
def test_many_places_are_listed_as_each_of_them(places):
    texts, encodings = all_listed(places)
    assert list(zip(texts, encodings, strict=True)) == [listed(place) for place in places]


def read_one_by_one(text):
    """The entries by the standard library's reader, record by record; None for a damaged list."""
    rows = csv.reader(io.StringIO(text, newline=""))
    header = next(rows, None)
    if header not in (list(inventory.HEADER), list(inventory.WITH_BEFORE)):
        return None
    try:
        return [inventory._entry(row, len(header)) for row in rows]
    except (ValueError, csv.Error):
        return None


def read_at_once(text):
    try:
        return list(read_inventory(io.StringIO(text, newline=""), "inventory"))
    except Damaged:
        return None


ODD = st.text(st.sampled_from('a/.,"\r\n \x00é%'), max_size=5)
FIELD = st.one_of(ODD, st.sampled_from(["utf-8", "percent", "1", "-1", "00", "zz", str(1 << 63)]))
PLAIN = st.tuples(
    st.text(st.sampled_from("ab/, ."), min_size=1, max_size=4), st.sampled_from(["utf-8"]),
    st.integers(0, 9).map(str), st.integers(-9, 9).map(str), st.sampled_from(["", "00ff"]),
    st.sampled_from(["original", "other"]),
)  # fmt: skip


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    before=st.booleans(),
    rows=st.lists(st.one_of(PLAIN.map(list), st.lists(FIELD, min_size=5, max_size=8)), max_size=9),
    raw=st.lists(st.one_of(st.just(None), ODD), max_size=9),
)
def test_an_inventory_read_at_once_is_what_it_is_record_by_record(monkeypatch, before, rows, raw):
    monkeypatch.setattr(inventory, "_READ_AT_ONCE", 60)
    header = inventory.WITH_BEFORE if before else inventory.HEADER
    text = ",".join(header) + "\r\n"
    for at, row in enumerate(rows):
        out = io.StringIO(newline="")
        csv.writer(out, lineterminator="\r\n").writerow([*row, "", ""] if before else row)
        # What is no record of a writer may stand there too.
        odd = raw[at] if at < len(raw) else None
        text += out.getvalue() if odd is None else odd
    assert read_at_once(text) == read_one_by_one(text)


@pytest.mark.parametrize("first", ["a.mov,utf-8", "%61.mov,percent"])
def test_a_damaged_inventory_names_the_record(first):
    header = ",".join(inventory.HEADER)
    text = f"{header}\r\n{first},1,2,00,original\r\nb.mov,utf-8,1,2,00,original\r\n"
    assert len(list(read_inventory(io.StringIO(text, newline=""), "list"))) == 2
    for wrong in ("c.mov,utf-8,one,2,00,original\r\n", "c.mov\r\n", "c" * 200_000 + "\r\n"):
        with pytest.raises(Damaged, match="record 4 "):
            list(read_inventory(io.StringIO(text + wrong, newline=""), "list"))


@given(st.lists(st.one_of(
    st.tuples(st.binary(min_size=32, max_size=32), PLACE).map(lambda e: format_line(*e)),
    st.binary(max_size=80).map(lambda b: b"0" * 64 + b"  " + b + b"\n"),
)))  # fmt: skip
def test_a_manifest_read_at_once_is_what_it_is_line_by_line(lines):
    content = b"".join(lines)
    expected = [parse_line(line) for line in io.BytesIO(content)]
    if None in expected:
        with pytest.raises(Damaged, match=f"line {expected.index(None) + 1} "):
            list(read_manifest(io.BytesIO(content), "manifest"))
    else:
        assert list(read_manifest(io.BytesIO(content), "manifest")) == expected


def test_long_lines_of_a_damaged_manifest_take_no_memory():
    line = b"0" * 64 + b"  " + b"a" * 900_000 + b"\n"
    stream = io.BytesIO(line * 20)
    entries = read_manifest(stream, "manifest")
    assert len(next(entries)[1]) == 900_000
    # It has read on by one line at most.
    assert stream.tell() <= 2 * len(line)
    assert len(list(entries)) == 19
