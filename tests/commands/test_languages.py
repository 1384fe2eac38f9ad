"""The command line in another language: sentences change, and nothing that a program reads."""

import json

import pytest

from tests.commands.test_commands import fascis
from tests.commands.typed import typed

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


COMMANDS = {
    "de_DE.UTF-8": [
        ("drives",),
        ("survey", "LIBRARY", "--files"),
        ("relocate", "LIBRARY", "--to", "NOWHERE", "--dry-run"),
        ("relocate", "LIBRARY", "--to", "THERE", "--leave-out", "proxy", "--dry-run"),
    ],
    "fr_FR.UTF-8": [
        ("drives", "--suits", "LIBRARY"),
        ("look", "LIBRARY"),
        ("relocate", "LIBRARY", "--to", "THERE", "--dry-run"),
    ],
}


@pytest.mark.parametrize("language", COMMANDS)
def test_what_programs_read_is_the_same_in_every_language(bench, library, language):
    (library / "project.thing").write_bytes(b"of no make that is known")
    places = {"LIBRARY": library, "THERE": bench.heron, "NOWHERE": bench.heron / "nowhere"}
    commands = [[*(places.get(w, w) for w in words), "--json"] for words in COMMANDS[language]]
    # Twice: after the first time, what the commands remember of the drives is there.
    first = [[fascis(bench, *words)[1] for words in commands] for _ in range(2)][-1]
    others = [json.loads(out) for _, out, _ in typed(bench, language, *commands)]
    for words, english, other in zip(commands, first, others, strict=True):
        assert same(without_sentences(other)) == same(without_sentences(english)), words
        if any(sentences(english)):
            assert list(sentences(other)) != list(sentences(english)), words


def same(said):
    """Without figures of time and free space, which change by themselves."""
    changing = {"seconds", "last_seen", "free_bytes", "estimate_seconds", "at", "errors"}
    if isinstance(said, dict):
        return {k: same(v) for k, v in said.items() if k not in changing}
    return [same(one) for one in said] if isinstance(said, list) else said


WRONG = {
    ("survey", "/nowhere"): "Es gibt keinen Ordner",
    ("relocate",): "LIBRARY fehlt.",
    ("drives", "--foldr"): "Die Option --foldr gibt es nicht. Ähnlich: --folder",
    ("release", "x", "--never"): "Die Option --never gibt es nicht.",
    ("nonsense",): "Den Befehl 'nonsense' gibt es nicht.",
}


def test_help_and_wrong_calls_are_in_the_persons_language(bench):
    (status, helped, _), *wrong = typed(bench, "de_DE.UTF-8", ("relocate", "--help"), *WRONG)
    assert status == 0 and helped.startswith("Aufruf:") and "Diese Hilfe zeigen." in helped
    for english in ("Usage", "Options:", "Arguments", "Show this", "default", "required"):
        assert english not in helped, english
    for said, (status, _, told) in zip(WRONG.values(), wrong, strict=True):
        assert status == 2 and said in told and "There is no" not in told
        assert told.startswith(("Ungültiger Aufruf", "Es gibt keinen Ordner", said)), told
