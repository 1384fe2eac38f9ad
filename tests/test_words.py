"""Sentences and figures: each sentence is one message, figures follow the person's locale."""

import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


def run(code, **environment):
    """What a program prints that starts with these variables."""
    script = f"from fascis.words.figures import *\nfrom fascis.words.speech import tr, trn\n{code}"
    done = subprocess.run(
        [sys.executable, "-c", script],
        env={"PATH": "", "PYTHONPATH": str(ROOT / "src"), **environment},
        capture_output=True,
        check=True,
    )
    return done.stdout.decode().strip().replace("\xa0", " ").replace("\u202f", " ")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ('x = "There is no folder."', "not a message"),
        ('x = f"{tr("No file")} of {name} is here"', "glued"),
        ('x = tr("No file") + " of it"', "glued"),
        ('x = f"There is no {name}."', "not a message"),
    ],
)
def test_a_sentence_that_is_not_ready_is_found(text, why, tmp_path):
    """The check itself finds what it is for."""
    sys.path.insert(0, str(ROOT / "scripts"))
    try:
        import sentences
    finally:
        sys.path.pop(0)
    import ast

    finder = sentences._Finder("x.py", text.splitlines())
    finder.visit(ast.parse(text.replace('{tr("', "{tr('").replace('")}', "')}")))
    assert [why in w.why for w in finder.wrong[:1]] == [True]
    quiet = sentences._Finder("x.py", ['x = tr("There is no folder.")'])
    quiet.visit(ast.parse('"""Some words here."""\nx = tr("There is no folder.")'))
    assert quiet.wrong == []


@pytest.mark.parametrize(
    ("language", "figures"),
    [
        ("C", "123.5 MB|4 822|85%|a, b and c"),
        ("C.UTF-8", "123.5 MB|4 822|85%|a, b and c"),
        ("de_DE.UTF-8", "123,5 MB|4.822|85 %|a, b und c"),
        ("fr_FR.UTF-8", "123,5 Mo|4 822|85 %|a, b et c"),
        ("en_US.UTF-8", "123.5 MB|4,822|85%|a, b, and c"),
        ("xx_YY", "123.5 MB|4 822|85%|a, b and c"),
    ],
)
def test_figures_follow_the_locale(language, figures):
    code = 'print("|".join((size(123456789), number(4822), percent(0.853), listed(list("abc")))))'
    assert run(code, LC_ALL=language) == figures


def test_times_of_day_and_dates_follow_the_locale():
    code = "print(clock(0), day(0))"
    assert run(code, LC_ALL="C", TZ="UTC") == "00:00 01 Jan 1970"
    assert run(code, LC_ALL="de_DE.UTF-8", TZ="UTC") == "00:00 1. Jan. 1970"
    assert run(code, LC_ALL="en_US.UTF-8", TZ="UTC") == "12:00 AM Jan 1, 1970"


def test_lc_all_comes_before_a_category_and_that_before_lang():
    code = "print(number(4822))"
    assert run(code, LANG="de_DE.UTF-8", LC_NUMERIC="en_US.UTF-8") == "4,822"
    assert run(code, LANG="de_DE.UTF-8", LC_NUMERIC="en_US.UTF-8", LC_ALL="C") == "4 822"


def test_a_number_stays_with_its_noun():
    code = 'print(repr(trn("{n} file of {name}", "{n} files of {name}", 3, name="A")))'
    assert run(code, LC_ALL="C") == "'3\\xa0files of A'"


def test_a_part_that_is_missing_is_an_error_and_not_half_a_sentence():
    with pytest.raises(subprocess.CalledProcessError):
        run('tr("{name} is away.", drive="A")')
