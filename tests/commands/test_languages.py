"""The command line in another language: sentences change, and nothing that a program reads."""

import os
import subprocess
import sys

import pytest

from tests.commands.test_commands import fascis

# Texts for people; everything else is the same in every language.
SENTENCES = {
    "sentence",
    "remedy",
    "decisions",
    "rules",
    "flags",
    "label",
    "cost",
    "good",
    "verdict",
}


def without_sentences(said):
    if isinstance(said, dict) and "drives" in said:
        # Other tests mount drives meanwhile.
        mine = [d for d in said["drives"] if d["stand_in"] or d["mount"] == "/"]
        said = {**said, "drives": mine}
    if isinstance(said, dict):
        return {k: without_sentences(v) for k, v in said.items() if k not in SENTENCES}
    if isinstance(said, list):
        return [without_sentences(one) for one in said]
    return said


def sentences(said):
    if isinstance(said, dict):
        for key, value in said.items():
            yield from [str(value)] if key in SENTENCES else sentences(value)
    elif isinstance(said, list):
        for one in said:
            yield from sentences(one)


@pytest.mark.parametrize(
    ("language", "typed"),
    [
        ("de_DE.UTF-8", ("drives",)),
        ("fr_FR.UTF-8", ("drives", "--suits", "LIBRARY")),
        ("de_DE.UTF-8", ("survey", "LIBRARY", "--files")),
        ("fr_FR.UTF-8", ("look", "LIBRARY")),
        ("de_DE.UTF-8", ("relocate", "LIBRARY", "--to", "NOWHERE", "--dry-run")),
        ("fr_FR.UTF-8", ("relocate", "LIBRARY", "--to", "THERE", "--dry-run")),
        (
            "de_DE.UTF-8",
            ("relocate", "LIBRARY", "--to", "THERE", "--leave-out", "proxy", "--dry-run"),
        ),
    ],
)
def test_what_programs_read_is_the_same_in_every_language(bench, library, language, typed):
    (library / "project.thing").write_bytes(b"of no make that is known")
    places = {"LIBRARY": library, "THERE": bench.heron, "NOWHERE": bench.heron / "nowhere"}
    words = [str(places.get(word, word)) for word in typed]
    _, english, _ = fascis(bench, *words, "--json")
    _, other, _ = fascis(bench, *words, "--json", LC_ALL=language)
    assert same(without_sentences(other)) == same(without_sentences(english))
    if any(sentences(english)):
        assert list(sentences(other)) != list(sentences(english))


def same(said):
    """Without figures of time and free space, which change by themselves."""
    changing = {"seconds", "last_seen", "free_bytes", "estimate_seconds", "at", "errors"}
    if isinstance(said, dict):
        return {k: same(v) for k, v in said.items() if k not in changing}
    return [same(one) for one in said] if isinstance(said, list) else said


def test_a_wrong_call_is_reported_in_the_persons_language(bench):
    status, _, told = fascis(bench, "survey", "/nowhere", LC_ALL="de_DE.UTF-8")
    assert status == 2
    assert "Es gibt keinen Ordner" in told
    assert "There is no" not in told


def test_help_and_wrong_calls_are_in_the_persons_language(bench):
    helped = subprocess.run(
        [sys.executable, "-m", "fascis", "relocate", "--help"],
        env={**os.environ, "LC_ALL": "de_DE.UTF-8", "COLUMNS": "100"},
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert helped.startswith("Aufruf:") and "Diese Hilfe zeigen." in helped
    for english in ("Usage", "Options:", "Arguments", "Show this", "default", "required"):
        assert english not in helped, english
    for typed, said in (
        (("relocate",), "LIBRARY fehlt."),
        (("drives", "--foldr"), "Die Option --foldr gibt es nicht. Ähnlich: --folder"),
        (("release", "x", "--never"), "Die Option --never gibt es nicht."),
        (("nonsense",), "Den Befehl 'nonsense' gibt es nicht."),
    ):
        status, _, told = fascis(bench, *typed, LC_ALL="de_DE.UTF-8")
        assert status == 2 and told.startswith(("Ungültiger Aufruf", said)) and said in told
