"""Lint: what is found in a recipe, and that one broken part hides nothing in another."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import widetrail
import widetrail_demo
from widetrail.recipe import examine
from widetrail.steps import KINDS

BROKEN = """\
recipe: 1
revision: 0
application: {id: moss, name: Moss, programs: {moss: moss}, scren: [moss, list]}
recognise: [{sign: {folder: "{config}/Moss"}}]
places:
  notes: {folder: "{confg}/Moss"}
  other: {foldr: "{config}/Other"}
readings:
  pages: {files: "{notes}"}
  broken: {json: "{notes}/a.json"}
items:
  notes:
    title: Notes
    from: nots
    paths: [{ini: "{notes}/x.ini", at: a/b, outside: never}, {ini: "{nowhere}/x", at: c/d}]
    checks: {pages: {compare: same}, broken: {compare: same}, missing: {compare: same}}
    routes:
      - {name: copy, existing: destroy, legs: [{new: [copy]}]}
      - {name: other, legs: [{new: [{run: [mos, export]}]}]}
  second:
    from: other
    routes: [{name: copy, legs: [{new: [copi]}]}]
"""


def found(text: str) -> list[tuple[int, str, str]]:
    _, findings = examine(text, "moss.trail.yaml", KINDS)
    return [(f.line, f.rule, f.where) for f in findings]


def test_one_broken_part_hides_nothing_in_another() -> None:
    told = found(BROKEN)
    assert {
        (6, "unknown-name", "places.notes.folder"),
        (14, "unknown-place", "items.notes.from"),
        (15, "unknown-name", "items.notes.paths.1.ini"),
        (16, "unknown-reading", "items.notes.checks.missing"),
        (19, "unknown-program", "items.notes.routes.1.legs.0.new.0.run.0"),
    } <= set(told)
    assert {line for line, *_ in told} == {2, 3, 6, 7, 10, 14, 15, 16, 18, 19, 20, 22}
    assert not [t for t in told if t[1] == "unused"], "what may be used by a broken part is"
    assert not [t for t in told if "broken" in t[2] and t[1] == "unknown-reading"]


DEMO = sorted((Path(widetrail_demo.__file__).parent / "recipes").glob("*.trail.yaml"))
JUNK = ["", "no such word", "{", "../x", [], {}, {"unknown": "key"}, ["a", {"b": "c"}], "*" * 300]


def spots(value: object, at: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Give the keys and numbers that lead to each part of a document."""
    pairs = value.items() if isinstance(value, dict) else enumerate(value)  # type: ignore[arg-type]
    for key, inner in pairs:
        yield (*at, key)
        if isinstance(inner, dict | list):
            yield from spots(inner, (*at, key))


def held(document: Any, where: Sequence[str | int]) -> Any:
    for part in where[:-1]:
        document = document[part]
    return document


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_whatever_breaks_a_planted_fault_is_told(data: st.DataObject) -> None:
    """A part of a recipe becomes junk or goes: an item that has nothing to do with it still tells
    of the place that there is not."""
    path = data.draw(st.sampled_from(DEMO))
    document = yaml.load(path.read_text(), yaml.CBaseLoader)
    own = {
        "title": "Planted",
        "from": "nowhere_at_all",
        "losses": [{"what": "all", "remedy": "no"}],
    }
    document["items"]["planted"] = own
    every = [w for w in spots(document) if w[:2] != ("items", "planted") and w != ("items",)]
    for where in data.draw(st.lists(st.sampled_from(every), min_size=1, max_size=3)):
        try:
            if data.draw(st.booleans()):
                held(document, where)[where[-1]] = data.draw(st.sampled_from(JUNK))
            else:
                del held(document, where)[where[-1]]
        except (KeyError, IndexError, TypeError):
            continue  # it went with another
    text = yaml.safe_dump(document, allow_unicode=True, sort_keys=False)
    assert "items.planted.from" in {where for _, rule, where in found(text)}


PAGE = (Path(__file__).parent.parent / "docs/findings.md").read_text()
EXAMPLES = re.findall(
    r"### `([a-z-]+)`\n\n.*?Bad:\n\n```yaml\n(.*?)```\n\nGood:\n\n```yaml\n(.*?)```",
    PAGE,
    re.DOTALL,
)
BASE = re.findall(r"```yaml\n(recipe: 1.*?)```", PAGE, re.DOTALL)[0]


def with_parts(fragment: str) -> str:
    """Return the recipe of the page with the parts that an example has in their place."""
    document = yaml.load(BASE, yaml.CBaseLoader)
    for section, parts in yaml.load(fragment, yaml.CBaseLoader).items():
        if isinstance(parts, dict) and isinstance(document.get(section), dict):
            document[section] |= parts
            document[section] = {k: v for k, v in document[section].items() if v != "null"}
        else:
            document[section] = parts
    return yaml.safe_dump(document, sort_keys=False, allow_unicode=True)


def test_the_recipe_of_the_page_has_no_findings() -> None:
    assert found(BASE) == []


@pytest.mark.parametrize(("code", "bad", "good"), EXAMPLES, ids=[code for code, *_ in EXAMPLES])
def test_each_code_is_told_where_the_page_says_so(code: str, bad: str, good: str) -> None:
    assert code in {rule for _, rule, _ in found(with_parts(bad))}
    assert found(with_parts(good)) == []


def test_every_rule_of_lint_has_its_place_on_the_page() -> None:
    rules = Path(widetrail.__file__).parent / "recipe/lint"
    trees = [ast.parse(path.read_text()) for path in rules.glob("*.py")]
    calls = [node for tree in trees for node in ast.walk(tree) if isinstance(node, ast.Call)]
    struck = [c for c in calls if isinstance(c.func, ast.Name) and c.func.id == "Struck"]
    codes = {call.args[0].value for call in struck if isinstance(call.args[0], ast.Constant)}
    assert len(codes) > 30
    assert codes | {"needless-excuse"} == {code for code, *_ in EXAMPLES}
