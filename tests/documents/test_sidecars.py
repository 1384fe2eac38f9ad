"""A sidecar belongs to its photo, by either way of naming; an orphan to nobody."""

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.documents.sidecars import owners


@pytest.mark.parametrize(
    ("names", "found"),
    [([b"heron.jpg", b"heron.jpg.xmp"], {b"heron.jpg.xmp": [b"heron.jpg"]}), ([b"heron.cr3",
    b"heron.xmp"], {b"heron.xmp": [b"heron.cr3"]}),
     ([b"heron.cr3", b"heron.jpg", b"heron.xmp"], {b"heron.xmp": [b"heron.cr3", b"heron.jpg"]}),
     ([b"lost.xmp"], {b"lost.xmp": []}),
     ([b"a.jpg", b"a.jpg.xmp", b"a.xmp"], {b"a.jpg.xmp": [b"a.jpg"], b"a.xmp": [b"a.jpg"]}),
     ([b"HERON.CR3", b"heron.XMP"], {b"heron.XMP": [b"HERON.CR3"]}),
     ([b"a.jpg", b"A.jpg", b"a.jpg.xmp"], {b"a.jpg.xmp": [b"a.jpg"]}), ([b"a.xmp", b"a.xmp.xmp"],
     {b"a.xmp": [], b"a.xmp.xmp": []}),
     ([b".xmp", b"a.jpg"], {}), ([b"caf\xe9.jpg", b"caf\xe9.xmp"],
     {b"caf\xe9.xmp": [b"caf\xe9.jpg"]})],
)  # fmt: skip
def test_whom_a_sidecar_belongs_to(names, found):
    assert owners(names) == found


def test_accents_may_be_written_in_two_ways():
    one, other = (unicodedata.normalize(form, "été") for form in ("NFC", "NFD"))
    assert owners([f"{one}.jpg".encode(), f"{other}.xmp".encode()]) == {
        f"{other}.xmp".encode(): [f"{one}.jpg".encode()]
    }


@given(
    st.sets(st.binary(min_size=1, max_size=8).filter(lambda n: b"/" not in n and b"\0" not in n))
)
def test_no_sidecar_belongs_to_a_sidecar_and_none_is_left_out(stems):
    names = sorted(stems | {s + b".xmp" for s in stems})
    found = owners(names)
    assert set(found) == {n for n in names if n.lower().endswith(b".xmp") and len(n) > 4}
    assert all(
        not o.lower().endswith(b".xmp") or len(o) == 4
        for all_owners in found.values()
        for o in all_owners
    )
