"""The window in another language: nothing of it is left in English, and everything fits."""

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from babel.messages.pofile import read_po

ROOT = Path(__file__).parent.parent.parent
CATALOGS = ROOT / "src/fascis/words/locale"
WORD = re.compile(r"[^\W\d_]{3,}")
# What documents in the demo's world call their own columns, and a command that is typed.
DATA = {"stands", "called", "came", "scan", "check"}


# What is put into a sentence, and what the originals' folder is called once it is set aside.
NO_WORDS = re.compile(r"\{[^}]*\}|set aside [0-9a-f]{8}")


def words(text):
    return {w.lower() for w in WORD.findall(NO_WORDS.sub(" ", text))}


def catalog(language):
    with (CATALOGS / language / "LC_MESSAGES/fascis.po").open("rb") as text:
        return [m for m in read_po(text, locale=language) if m.id]


def names_in(folder):
    """The words in the names of files: they are the same in every language."""
    names = (n for _, folders, files in os.walk(folder) for n in (*folders, *files))
    return {w for name in names for w in words(name)}


def told(said):
    return " ".join(said) if isinstance(said, tuple) else said


@pytest.mark.long
@pytest.mark.timeout(300)
def test_no_english_is_left_in_the_window_and_everything_fits(tmp_path):
    walked = subprocess.run(
        [sys.executable, "-m", "tests.desktop.tongue", str(tmp_path)],
        cwd=ROOT,
        env={**os.environ, "LC_ALL": "de_DE.UTF-8", "QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
    )
    assert walked.returncode == 0, walked.stderr.decode()[-2000:]
    found = json.loads(walked.stdout)
    german, english = set(), set()
    for message in catalog("de"):
        english |= words(told(message.id))
        german |= words(told(message.string))
    english -= german | names_in(tmp_path) | words(str(tmp_path)) | DATA
    assert len(found["seen"]) > 800
    left = {text: words(text) & english for text in found["seen"] if words(text) & english}
    assert left == {}
    assert found["clipped"] == {}


@pytest.mark.parametrize("language", ["de", "fr"])
def test_a_catalog_has_every_sentence_with_all_that_is_put_into_it(language):
    with (CATALOGS / "fascis.pot").open("rb") as text:
        wanted = {m.id for m in read_po(text) if m.id}
    messages = catalog(language)
    assert {m.id for m in messages} == wanted
    for message in messages:
        ids = message.id if isinstance(message.id, tuple) else (message.id,)
        said = message.string if isinstance(message.string, tuple) else (message.string,)
        assert len(said) == len(ids) and all(said), message.id
        parts = [set(re.findall(r"\{(\w+)[^}]*\}", s)) - {"n"} for s in (*ids, *said)]
        assert all(p == parts[0] for p in parts), message.id
        # Text before a sentence on the command line puts it below another.
        assert len(ids[0]) - len(ids[0].lstrip(" ")) == len(said[0]) - len(said[0].lstrip(" "))
