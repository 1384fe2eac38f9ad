"""Hash lists from elsewhere: what is read of them, and what is ignored."""

import hashlib

import pytest
import xxhash
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from fascis.files.digests import Algorithm, Threads
from fascis.files.errors import Damaged
from fascis.files.hash_lists import HashList, is_hash_list, list_at

WEIR = b"weir" * 1000
DIGESTS = {
    Algorithm.MD5: hashlib.md5(WEIR).hexdigest(),
    Algorithm.SHA1: hashlib.sha1(WEIR).hexdigest(),
    Algorithm.SHA256: hashlib.sha256(WEIR).hexdigest(),
    Algorithm.SHA512: hashlib.sha512(WEIR).hexdigest(),
    Algorithm.BLAKE3: blake3(WEIR).hexdigest(),
    Algorithm.XXH64: xxhash.xxh64(WEIR).hexdigest(),
    Algorithm.XXH128: xxhash.xxh3_128(WEIR).hexdigest(),
    Algorithm.XXH3: xxhash.xxh3_64(WEIR).hexdigest(),
}


def digests_of(content):
    with Threads(list(Algorithm)) as threads:
        digests = threads.begin()
        digests.update(content)
        return {**digests.others(), Algorithm.BLAKE3: digests.digest()}


def read(tmp_path, content, name="card.md5"):
    path = tmp_path / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    found = list_at(path)
    return found, list(found.read())


def test_digests_beside_ours_are_those_of_everybody():
    assert {a: d.hex() for a, d in digests_of(WEIR).items()} == DIGESTS


@pytest.mark.parametrize("algorithm", list(Algorithm))
@pytest.mark.parametrize("style", ["lines", "star", "tagged", "windows", "utf-16", "bom"])
def test_lines_of_every_program_are_read(tmp_path, algorithm, style):
    digest = DIGESTS[algorithm].upper() if style == "windows" else DIGESTS[algorithm]
    tag = {"xxh3": "XXH3_64", "blake3": "BLAKE3"}.get(algorithm, algorithm.upper())
    mark = "XXH3_" if algorithm is Algorithm.XXH3 else ""
    text = {
        "lines": f"{mark}{digest}  ./A001/weir.mov\n",
        "star": f"{mark}{digest} *A001/weir.mov\n",
        "tagged": f"{tag} (A001/weir.mov) = {digest}\n",
        "windows": f"{mark}{digest}  A001\\weir.mov\r\n",
        "utf-16": f"{mark}{digest}  A001/weir.mov\r\n",
        "bom": f"\ufeff# made at the river\n{mark}{digest}  A001/weir.mov\n",
    }[style]
    content = text.encode("utf-16") if style == "utf-16" else text.encode()
    found, (listed,) = read(tmp_path, content, "list.txt")
    assert listed.place == b"A001/weir.mov" and found.told() == []
    assert listed.holds(digests_of(WEIR), len(WEIR))
    assert not listed.holds(digests_of(WEIR + b"!"), len(WEIR) + 1)


def test_names_of_any_kind_keep_their_bytes(tmp_path):
    digest = DIGESTS[Algorithm.MD5]
    lines = f"\\{digest}  two\\nlines\\\\\n{digest}  späť.mov\n".encode() + (
        f"{digest}  odd ".encode() + b"\xff.mov\n"
    )
    _, found = read(tmp_path, lines)
    assert [x.place for x in found] == [b"two\nlines\\", "späť.mov".encode(), b"odd \xff.mov"]


def test_what_is_wrong_is_counted_and_never_followed(tmp_path):
    digest = DIGESTS[Algorithm.MD5]
    text = f"{digest}  a.mov\nnonsense\n{digest}  ../../etc/passwd\n{digest}  /etc/passwd\n"
    found, listed = read(tmp_path, text + f"CRC32 (b.mov) = deadbeef\n{'ab' * 7}  c.mov\n")
    assert [x.place for x in listed] == [b"a.mov"]
    assert (found.bad, found.first_bad, found.leads_out) == (1, 2, 2)
    assert found.unknown == {"crc32", "a digest of 14 digits"}
    assert len(found.told()) == 3
    for content in (
        b"",
        b"nonsense\n",
        b"<?xml version='1.0'?><other/>",
        b"<hashlist version='1.1'",
    ):
        with pytest.raises(Damaged):
            read(tmp_path, content, "none.mhl")


def test_a_bag_says_by_its_name_how_and_writes_odd_letters_in_percent(tmp_path):
    line = f"{DIGESTS[Algorithm.SHA256]} data/100%25 weir.mov\n"
    _, (listed,) = read(tmp_path, line, "manifest-sha256.txt")
    assert listed.place == b"data/100% weir.mov" and listed.algorithms() == {Algorithm.SHA256}


OLDER = """<?xml version="1.0" encoding="UTF-8"?>
<hashlist version="1.1"><creatorinfo><name>Ada</name></creatorinfo>
<hash><file>A001/weir.mov</file><size>{size}</size>
<lastmodificationdate>2026-05-01T10:00:00Z</lastmodificationdate>
<{name}>{digest}</{name}><hashdate>2026-05-01T10:00:00Z</hashdate></hash></hashlist>"""
NEWER = """<?xml version="1.0" encoding="UTF-8"?>
<hashlist version="2.0" xmlns="urn:ASC:MHL:v2.0"><creatorinfo><author><name>Ada</name></author>
</creatorinfo><processinfo><process>in-place</process><roothash><content><md5>00</md5></content>
</roothash></processinfo><hashes><hash><path size="{size}">A001/weir.mov</path>
<{name} action="original" hashdate="2026-05-01T10:00:00Z">{digest}</{name}></hash>
<directoryhash><path>A001</path><content><md5>{digest}</md5></content></directoryhash>
</hashes></hashlist>"""


@pytest.mark.parametrize(("text", "name"), [
    (OLDER, "md5"), (OLDER, "sha1"), (OLDER, "xxhash64be"), (NEWER, "md5"), (NEWER, "sha256"),
    (NEWER, "xxh64"), (NEWER, "xxh128"), (NEWER, "xxh3"),
])  # fmt: skip
def test_media_hash_lists_of_both_schemas(tmp_path, text, name):
    algorithm = Algorithm.XXH64 if name == "xxhash64be" else Algorithm(name)
    where = "ascmhl/0001_A001.mhl" if text is NEWER else "A001.mhl"
    said = text.format(size=len(WEIR), name=name, digest=DIGESTS[algorithm])
    found, (listed,) = read(tmp_path, said, where)
    assert found.base == tmp_path.resolve() and listed.place == b"A001/weir.mov"
    assert listed.holds(digests_of(WEIR), len(WEIR))
    assert not listed.holds(digests_of(WEIR), len(WEIR) + 1), "its length is said too"
    assert not listed.holds(digests_of(b"x" * len(WEIR)), len(WEIR))


def test_entities_are_refused(tmp_path):
    evil = '<!DOCTYPE x [<!ENTITY a "aaaa">]>' + OLDER.partition("?>")[2]
    with pytest.raises(Damaged, match="document type"):
        read(tmp_path, evil, "evil.mhl")


@pytest.mark.parametrize(
    ("name", "is_one"),
    [("a.md5", True), ("MD5SUMS", True), ("sha256sum.txt", True), ("manifest-md5.txt", True),
     ("x.mhl", True), ("notes.txt", False), ("md5", False), ("weir.mov", False)],
)  # fmt: skip
def test_lists_are_known_by_their_names(name, is_one):
    assert is_hash_list(name) is is_one


@given(st.binary(max_size=400))
def test_any_bytes_end_in_lines_or_in_a_sentence(tmp_path_factory, content):
    path = tmp_path_factory.getbasetemp() / "any.md5"
    path.write_bytes(content)
    try:
        for listed in HashList(path, path.parent).read():
            assert b".." not in listed.place.split(b"/") and not listed.place.startswith(b"/")
    except Damaged:
        pass
