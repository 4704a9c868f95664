"""Two revisions of a recipe compared: nothing that is otherwise goes untold."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import widetrail_demo
from conftest import widetrail
from widetrail.recipe.comparing import compare

OLD = """\
recipe: 1
revision: 4
application: {id: moss, name: Moss, programs: {moss: moss}}
recognise: [{sign: {folder: "{config}/Moss"}}]
places: {notes: {folder: "{config}/Moss"}}
readings: {pages: {files: "{notes}"}, words: {files: "{notes}/*.word"}}
items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {compare: same}, words: {compare: same}}
    losses: [{what: the colours, remedy: Choose them again.}]
    routes:
      - name: import
        needs: {new: {release: ">=4"}}
        legs: [{new: [{run: [moss, import], changes: notes}]}]
      - {name: copy, existing: back up, legs: [{new: [copy]}]}
"""


def differences(*changes: tuple[str, str], raised: bool = True) -> list[tuple[str, str, str, str]]:
    new = OLD.replace("revision: 4", "revision: 5") if raised else OLD
    for was, now in changes:
        assert was in new
        new = new.replace(was, now, 1)
    old_document, new_document = (yaml.load(text, yaml.CBaseLoader) for text in (OLD, new))
    found = compare(old_document, new_document)
    return [(d.weight, d.how, d.what, d.at) for d in found if d.what != "revision"]


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (
            ("{moss: moss}", "{moss: moss, sh: sh}"),
            ("safety", "added", "program", "application.programs.sh"),
        ),
        (
            (", words: {compare: same}}", "}"),
            ("safety", "gone", "check", "items.notes.checks.words"),
        ),
        (
            ("words: {compare: same}", "words: {compare: at_least}"),
            ("safety", "changed", "check", "items.notes.checks.words"),
        ),
        (
            ("existing: back up", "existing: replace"),
            ("safety", "changed", "existing", "items.notes.routes.copy.existing"),
        ),
        (
            ("places: {", 'places: {other: {folder: "{documents}/Other"}, '),
            ("safety", "added", "place", "places.other"),
        ),
        (
            ('        needs: {new: {release: ">=4"}}\n', ""),
            ("safety", "gone", "needs", "items.notes.routes.import.needs"),
        ),
        (
            ('release: ">=4"', 'release: ">=5"'),
            ("person", "changed", "needs", "items.notes.routes.import.needs"),
        ),
        (
            ("Choose them again.", "Choose others."),
            ("person", "changed", "loss", "items.notes.losses.the colours"),
        ),
        (
            ("    losses: [{what: the colours, remedy: Choose them again.}]\n", ""),
            ("person", "gone", "loss", "items.notes.losses.the colours"),
        ),
        (("title: Notes", "title: Sheets"), ("else", "changed", "words", "items.notes.title")),
        (
            ("from: notes\n", 'from: notes\n    leave: "*.tmp"\n'),
            ("person", "added", "left", "items.notes.leave"),
        ),
    ],
)
def test_what_is_otherwise_has_its_weight(
    change: tuple[str, str], expected: tuple[str, str, str, str]
) -> None:
    assert differences(change) == [expected]


def test_a_step_that_changed_is_one_gone_and_one_added() -> None:
    at = "items.notes.routes.import.legs"
    assert differences(("[moss, import]", "[moss, import, --all]")) == [
        ("safety", "gone", "step", at),
        ("safety", "added", "step", at),
    ]


def test_the_order_of_routes_is_told() -> None:
    routes = OLD[OLD.index("      - name: import") :]
    cut = routes.index("      - {name: copy")
    first, second = routes[:cut], routes[cut:]
    assert differences((routes, f"{second}{first}")) == [
        ("person", "moved", "order-of-routes", "items.notes.routes")
    ]


def test_a_revision_that_was_not_raised_is_told() -> None:
    found = differences(("title: Notes", "title: Sheets"), raised=False)
    assert ("person", "changed", "same-revision", "revision") in found


DEMO = sorted((Path(widetrail_demo.__file__).parent / "recipes").glob("*.trail.yaml"))


def leaves(value: Any, at: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    pairs: Any = value.items() if isinstance(value, dict) else enumerate(value)
    for key, inner in pairs:
        if isinstance(inner, dict | list):
            yield from leaves(inner, (*at, key))
        else:
            yield (*at, key)


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_no_change_goes_untold(data: st.DataObject) -> None:
    path = data.draw(st.sampled_from(DEMO))
    old = yaml.load(path.read_text(), yaml.CBaseLoader)
    new = yaml.load(path.read_text(), yaml.CBaseLoader)
    where: Sequence[str | int] = data.draw(st.sampled_from(list(leaves(old))))
    holder = new
    for part in where[:-1]:
        holder = holder[part]
    if isinstance(holder, dict) and data.draw(st.booleans()):
        del holder[where[-1]]
    else:
        holder[where[-1]] = "another"
    assert compare(old, old) == []
    assert [d for d in compare(old, new) if d.what != "same-revision"]
    there = {d.at for d in compare(old, new)}
    assert {d.at for d in compare(new, old)} == there


def test_revisions_in_git_are_compared(tmp_path: Path) -> None:
    path = tmp_path / "moss.trail.yaml"
    path.write_text(OLD)
    git = ["git", "-c", "user.name=x", "-c", "user.email=x@example.com", "-C", str(tmp_path)]
    for words in (["init", "-q"], ["add", "."], ["commit", "-q", "-m", "first"]):
        subprocess.run([*git, *words], check=True)
    path.write_text(OLD.replace("compare: same", "compare: at_least", 1))
    told = json.loads(widetrail("compare", "--git", "HEAD", path, "--json").out)
    assert [d["what"] for d in told[str(path)]["differences"]] == ["check", "same-revision"]
    page = tmp_path / "page.html"
    shown = widetrail("compare", "--git", "HEAD", path, "--page", page)
    assert "- {compare: same}" in shown.out
    assert "items.notes.checks.pages" in page.read_text()
    for revision in ("no-such", "--output=x"):
        ran = widetrail("compare", f"--git={revision}", path)
        assert ran.status == 2
        assert revision in ran.err or str(path) in ran.err
    assert widetrail("compare", path).status == 2
