"""One layout for recipes: what is said stays, comments stay with what they are of."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import widetrail_demo
from conftest import widetrail
from widetrail.errors import InputUnusable
from widetrail.recipe.layout import formatted

HOME = Path(__file__).parent.parent
RECIPES = sorted(
    [
        *Path(widetrail_demo.__file__).parent.rglob("*.trail.yaml"),
        *HOME.glob("examples/**/*.trail.yaml"),
    ]
)
UNTIDY = """\
# Of Fern and Daughters
revision: 2
recipe:    1
items:

    notes:
        from: notes            # where it is told
        title: Notes


        # compared on both sides
        checks: {pages: {compare: same}}
        routes:
        # the usual way
        -   legs:
            -   new: [copy]    # all of it
            name: copy
            # what is there
            existing: back up
        -   {name: other, legs: [{new: [copy]}]}
        # nothing more
readings:
  # how many
  pages: {files: "{notes}"}
  said:
     text: "{notes}/said"
     at: >-
       ^one
       two$
application: {id: moss, name: Moss}
recognise:
- sign: {folder: "{config}/Moss"}
places: {notes: {folder: "{config}/Moss"}}
# the end
"""
TIDY = """\
# Of Fern and Daughters
recipe:    1
revision: 2
application: {id: moss, name: Moss}

recognise:
  - sign: {folder: "{config}/Moss"}

places: {notes: {folder: "{config}/Moss"}}

readings:
  # how many
  pages: {files: "{notes}"}
  said:
    text: "{notes}/said"
    at: >-
      ^one
      two$

items:
  notes:
    title: Notes
    from: notes            # where it is told

    # compared on both sides
    checks: {pages: {compare: same}}
    routes:
      # the usual way
      - name: copy
        # what is there
        existing: back up
        legs:
          - new: [copy]    # all of it
      - {name: other, legs: [{new: [copy]}]}
    # nothing more
# the end
"""


def test_it_is_laid_out_and_stays_so() -> None:
    assert formatted(UNTIDY, "moss") == TIDY
    assert formatted(TIDY, "moss") == TIDY
    assert formatted("\ufeff" + UNTIDY.replace("\n", "\r\n"), "moss") == TIDY


def comments(text: str) -> Counter[str]:
    return Counter(line.partition(" #")[2].strip() for line in text.split("\n") if " #" in line)


@pytest.mark.parametrize("path", RECIPES, ids=lambda path: path.name)
def test_nothing_that_is_said_changes(path: Path) -> None:
    text = path.read_text()
    told = formatted(text, path.name)
    assert yaml.safe_load(told) == yaml.safe_load(text)
    assert comments(told) == comments(text)
    assert formatted(told, path.name) == told
    assert not any(line != line.rstrip() for line in told.split("\n"))


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_however_it_is_written_it_is_laid_out_alike(data: st.DataObject) -> None:
    """Empty lines come in and go, and what is said stays as it is."""
    path = data.draw(st.sampled_from(RECIPES))
    told = formatted(path.read_text(), path.name)
    if "|\n" in told or ">-\n" in told:
        return  # in a block of text an empty line is one of its lines
    lines = told.split("\n")
    for at in sorted(data.draw(st.sets(st.integers(0, len(lines) - 1), max_size=5)), reverse=True):
        lines.insert(at, " " * data.draw(st.integers(0, 4)))
    again = formatted("\n".join(lines), path.name)
    assert yaml.safe_load(again) == yaml.safe_load(told)
    assert [x for x in again.split("\n") if x] == [x for x in told.split("\n") if x]
    assert "\n\n\n" not in again


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("a: [", "is no YAML"),
        ("- one", "is no mapping of keys"),
        ("recipe: 1\nlists:\n  - - one\n    - two\n", "is not laid out"),
        ("recipe: 1\n---\nrecipe: 1\n", "is no YAML"),
    ],
)
def test_what_has_no_layout_is_refused(text: str, why: str) -> None:
    with pytest.raises(InputUnusable) as told:
        formatted(text, "moss")
    assert told.value.what == why


def test_it_is_checked_and_written(tmp_path: Path) -> None:
    path = tmp_path / "moss.trail.yaml"
    path.write_text(UNTIDY)
    ran = widetrail("format", tmp_path, "--check", "--json")
    assert (ran.status, json.loads(ran.out)["changed"]) == (1, [str(path)])
    assert path.read_text() == UNTIDY
    assert widetrail("format", path).status == 0
    assert path.read_text() == TIDY
    assert widetrail("format", path, "--check").status == 0
