"""One contract for every format.

What is read is written back to exactly that place, and nothing else changes.
"""

import os
from xml.sax.saxutils import escape

import opentimelineio as otio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.documents.model import Means, NotUnderstood, paths
from fascis.documents.registry import kind_named
from fascis.documents.targets import as_uri, readings
from tests.documents.opened import TEXTS, read, rewritten

PATHS = [
    "media/weir_01.mov",
    "/home/mara/Footage/salmon run.wav",
    "stills/été/heron.jpg",
    "../music/100% rain.flac",
    "a&b<c>.mov",
]


def timeline(targets):
    """A timeline of OpenTimelineIO's own making, with a clip for each target."""
    made = otio.schema.Timeline("The Weir")
    track = otio.schema.Track("V1")
    for n, target in enumerate(targets):
        clip = otio.schema.Clip(f"clip {n}", otio.schema.ExternalReference(target))
        clip.source_range = otio.opentime.TimeRange(
            otio.opentime.RationalTime(n, 24), otio.opentime.RationalTime(48, 24)
        )
        clip.metadata["notes"] = {
            "target_url": "not a reference",
            "quoted": 'he said "target_url": "x"',
        }
        track.append(clip)
    made.tracks.append(track)
    return made.to_json_string().encode()


def playlist(targets):
    tracks = "".join(
        f"<track><location>{escape(as_uri(t))}</location><title>a &lt; b</title></track>\n"
        for t in targets
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n<playlist version="1" '
        f'xmlns="http://xspf.org/ns/0/"><trackList>{tracks}</trackList></playlist>'
    ).encode()


def edit_list(targets):
    lines = ["TITLE: THE WEIR", "FCM: NON-DROP FRAME", ""]
    for n, target in enumerate(targets, 1):
        lines.append(
            f"{n:03}  AX       V     C        00:00:00:00 00:00:02:00 01:00:00:00 01:00:02:00"
        )
        lines.append(f"* SOURCE FILE: {target}")
    return "\r\n".join(lines).encode()


MAKERS = {
    "otio": timeline,
    "xspf": playlist,
    "m3u8": lambda targets: (
        "#EXTM3U\r\n" + "".join(f"#EXTINF:12,The river\r\n{t}\r\n" for t in targets)
    ).encode(),
    "edl": edit_list,
}


@pytest.fixture(params=TEXTS, ids=lambda f: f.name)
def format(request):
    return request.param


def test_every_reference_is_read_where_it_stands(format):
    content = MAKERS[format.name](PATHS)
    found = read(format, content)
    assert [r.means for r in found] == [Means.PATH] * len(PATHS)
    for path, reference in zip(PATHS, found, strict=True):
        start, end = reference.locator
        assert path in paths(format, reference) and content[start:end]
    assert kind_named(b"a." + format.name.encode()) is format and kind_named(b"a.mov") is None


def test_a_new_target_is_there_and_nowhere_else(format):
    content = MAKERS[format.name](PATHS)
    before = read(format, content)
    chosen = before[1]
    out = rewritten(format, content, {chosen.locator: "media/gathered/salmon.wav"})
    start, end = chosen.locator
    assert out[:start] == content[:start] and out.endswith(content[end:])
    new = out[start : len(out) - (len(content) - end)]
    assert new == format.literal("media/gathered/salmon.wav")
    after = read(format, out)
    assert paths(format, after[1])[0] == "media/gathered/salmon.wav"
    assert [r.as_written for r in after if r is not after[1]] == [
        r.as_written for r in before if r is not chosen
    ]


def test_with_nothing_to_change_nothing_changes(format):
    content = MAKERS[format.name](PATHS)
    assert rewritten(format, content, {}) == content


@given(
    st.lists(
        st.text(
            st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Zl", "Zp")), min_size=1
        ),
        min_size=1,
        max_size=5,
    )
)
def test_any_name_survives_a_rewriting(names):
    """Names of any printable characters, in every format that keeps whole text."""
    for made in TEXTS:
        if made.name == "edl":
            # a comment's text is trimmed; names with blanks at their ends are told, see below
            continue
        content = MAKERS[made.name](["first.mov"] * len(names))
        wanted = ["media/" + n.replace("/", "_").replace("\\", "_") for n in names]
        targets = {r.locator: w for r, w in zip(read(made, content), wanted, strict=True)}
        out = read(made, rewritten(made, content, targets))
        assert [w in paths(made, r) for r, w in zip(out, wanted, strict=True)] == [True] * len(
            wanted
        )


def test_the_oracle_finds_what_we_wrote(tmp_path):
    """OpenTimelineIO reads the rewritten timeline: the new target, everything else unchanged."""
    content = timeline(PATHS)
    format = kind_named(b"a.otio")
    out = rewritten(format, content, {read(format, content)[0].locator: "media/été 01.mov"})
    old, new = (otio.adapters.read_from_string(c.decode()) for c in (content, out))
    clips = list(zip(old.find_clips(), new.find_clips(), strict=True))
    assert clips[0][1].media_reference.target_url == "media/été 01.mov"
    assert (
        all(a.is_equivalent_to(b) for a, b in clips[1:])
        and clips[0][0].metadata == clips[0][1].metadata
    )


def test_numbers_order_and_unknown_parts_survive():
    raw = (
        b'\xef\xbb\xbf{ "OTIO_SCHEMA" : "Timeline.1", "x": 12345678901234567890123, "f": 1.10, '
        b'"OTIO_SCHEMA2": 1e5, "e": NaN,\n'
        b'  "tracks": [{"OTIO_SCHEMA":"Future.9","target_url":"other"}, {"target_url" '
        b':\t"a\\u0020b.mov", "OTIO_SCHEMA": "ExternalReference.1"}]}'
    )
    format = kind_named(b"a.otio")
    (reference,) = read(format, raw)
    assert reference.as_written == "a b.mov"
    assert rewritten(format, raw, {reference.locator: "c.mov"}) == raw.replace(
        b'"a\\u0020b.mov"', b'"c.mov"'
    )


def test_several_media_references_and_sequences():
    clip = otio.schema.Clip("c")
    frames = otio.schema.ImageSequenceReference(
        target_url_base="file:///stills/", name_prefix="fr.", name_suffix=".exr", start_frame=98,
            frame_step=2, rate=24, frame_zero_padding=4,
        available_range=otio.opentime.TimeRange(otio.opentime.RationalTime(0, 24),
            otio.opentime.RationalTime(12, 24)),
    )  # fmt: skip
    clip.set_media_references(
        {"DEFAULT_MEDIA": otio.schema.ExternalReference("a.mov"), "frames": frames}, "frames"
    )
    found = read(kind_named(b"a.otio"), clip.to_json_string().encode())
    assert {r.as_written for r in found} == {"a.mov", "file:///stills/"}
    sequence = next(r.sequence for r in found if r.sequence)
    assert sequence.names() == [
        frames.target_url_for_image_number(i).rpartition("/")[2]
        for i in range(frames.number_of_images_in_sequence())
    ]


def test_an_edit_list_refers_by_name_where_it_has_no_path():
    content = (
        b"TITLE: CUT\n001  WEIR_01  V     C        00:00:00:00 00:00:02:00 01:00:00:00 "
        b"01:00:02:00\n"
        b"002  AX       V     D    012 00:00:00:00 00:00:02:00 01:00:00:00 01:00:02:00\n* FROM "
        b"CLIP NAME: salmon.wav\n"
        b"003  BL       V     C        00:00:00:00 00:00:02:00 01:00:00:00 01:00:02:00\n"
    )
    found = read(kind_named(b"x.edl"), content)
    assert [(r.means, r.as_written) for r in found] == [
        (Means.NAME, "WEIR_01"),
        (Means.NAME, "salmon.wav"),
    ]
    with pytest.raises(ValueError, match="no path stands"):  # by name: not rewritten
        rewritten(kind_named(b"x.edl"), content, {found[0].locator: "x"})


@pytest.mark.parametrize(
    ("written", "paths", "foreign"),
    [("file:///a%20b.mov", ["/a b.mov"], False), ("file://localhost/a.mov", ["/a.mov"], False),
    ("a%20b.mov", ["a%20b.mov", "a b.mov"], False),
     ("C:\\Clips\\a.mov", ["C:/Clips/a.mov"], True), ("file:///C:/Clips/a.mov", ["C:/Clips/a.mov"],
     True), ("\\\\nas\\a.mov", ["//nas/a.mov"], True),
     ("http://river/a.mov", [], False), ("a\0b", [], False), ("", [], False), ("file:///%FF.mov",
     ["/" + os.fsdecode(b"\xff.mov")], False),
     ("file://nas/share/a.mov", ["//nas/share/a.mov"], True), ("file:///a%00b", [], False)],
)  # fmt: skip
def test_what_a_target_means(written, paths, foreign):
    assert [r.path for r in readings(written)] == paths and all(
        r.foreign is foreign for r in readings(written)
    )


DEEP = b'{"OTIO_SCHEMA":"Timeline.1","a":' + b"[" * 100_000 + b"]" * 100_000 + b"}"
BOMB = (
    b'<!DOCTYPE p [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><playlist '
    b'xmlns="http://xspf.org/ns/0/">&b;</playlist>'
)


@pytest.mark.parametrize(
    ("name", "content", "sentence"),
    [("otio", b'{"OTIO_SCHEMA": "Timeline.1", "tracks": ', "not valid JSON at line 1"),
     ("otio", DEEP, "nested too deep"), ("otio", b"[]", "not a timeline"),
     ("otio", b'{"OTIO_SCHEMA":"T.1","n":' + b"9" * 5000 + b"}", "a number"), ("otio", b'"\xff"',
     "not valid UTF-8 at byte 1"),
     ("otio", b'{"OTIO_SCHEMA":"ExternalReference.1","target_url":"a","target_url":"b"}',
     "appears twice"),
     ("otio", b'{"OTIO_SCHEMA":"ImageSequenceReference.1","target_url_base":"a","start_frame":"x"}',
     "not valid"),
     ("xspf", BOMB, "document type"), ("xspf", b"<playlist xmlns='http://xspf.org/ns/0/'>",
     "not valid XML at line 1"), ("xspf", b"<a/>", "not a playlist"),
     ("xspf", b'<?xml version="1.0" encoding="UTF-16"?><a/>', "XML|UTF-16"),
     ("xspf", b'<playlist xmlns="http://xspf.org/ns/0/">' + b"<a>" * 5000, "nested too deep"),
     ("m3u8", b"#EXTM3U\na\0b", "byte 9 is zero"), ("edl", b"just words\n", "no event"), ("edl",
     b"\0", "not text")],
)  # fmt: skip
def test_bad_input_is_one_clear_sentence(name, content, sentence):
    with pytest.raises(NotUnderstood, match=sentence):
        read(kind_named(b"a." + name.encode()), content)


@given(st.binary(max_size=300))
def test_no_bytes_break_a_reader(content):
    for made in TEXTS:
        try:
            read(made, content)
        except NotUnderstood as error:
            assert str(error).endswith(".")
