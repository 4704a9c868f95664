"""Lint: what is found in a recipe, and that one broken part hides nothing in another."""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import jsonschema
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import widetrail as product
import widetrail_demo
from conftest import BASE, widetrail, with_parts
from conftest import CODES_PAGE as PAGE
from widetrail.findings import Finding
from widetrail.library.revisions import fix
from widetrail.recipe import examine, fixing
from widetrail.reporting.explained import explained
from widetrail.reporting.finding_forms import FORMS
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
    _, findings = examine(text, "moss.trail.yaml", KINDS, "alma")
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


CODES = explained()
EXAMPLES = [(code, told.bad, told.good) for code, told in CODES.items() if told.bad]
OF_FILE = re.findall(r"### `([a-z-]+)`", PAGE.split("## The file")[1].split("\n## ")[0])
"""The codes whose examples are of a file as it is written."""


def test_the_recipe_of_the_page_has_no_findings() -> None:
    assert found(BASE) == []


@pytest.mark.parametrize(("code", "bad", "good"), EXAMPLES, ids=[code for code, *_ in EXAMPLES])
def test_each_code_is_told_where_the_page_says_so(code: str, bad: str, good: str) -> None:
    whole = BASE.__add__ if code in OF_FILE else with_parts
    assert code in {rule for _, rule, _ in found(whole(bad))}
    assert found(whole(good)) == []


SAID_BY = ("Struck", "flaw", "expected_one_of", "find", "finding", "Finding", "_words")
"""What makes a finding, with its code as the first text that is given."""


def test_every_code_of_a_recipe_has_its_place_on_the_page() -> None:
    package = Path(product.__file__).parent
    codes = {"needless-excuse"}
    for path in package.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            given: list[ast.expr] = []
            if isinstance(node, ast.Call):
                name = getattr(node.func, "id", getattr(node.func, "attr", ""))
                given = node.args if name in SAID_BY else []
            elif isinstance(node, ast.FunctionDef) and node.name == "_words":
                tuples = (r.value for r in ast.walk(node) if isinstance(r, ast.Return))
                given = [t.elts[0] for t in tuples if isinstance(t, ast.Tuple)]
            elif isinstance(node, ast.Assign) and getattr(node.targets[0], "id", "") == "code":
                given = [node.value]
            texts = [one.value for one in given if isinstance(one, ast.Constant)]
            told = [text for text in texts if isinstance(text, str)]
            told = told if isinstance(node, ast.FunctionDef) else told[:1]
            codes |= {text for text in told if re.fullmatch(r"[a-z]+(-[a-z]+)*", text)}
    assert len(codes) > 90
    assert codes - CODES.keys() == set()
    assert CODES.keys() - codes == set()
    elsewhere = set(re.findall(r"### `([a-z-]+)`", PAGE.split("## Told elsewhere")[1]))
    without = {code for code, told in CODES.items() if not told.bad}
    assert without == elsewhere | {"yaml-size", "too-many"}


def test_help_and_sarif_tell_what_a_code_means() -> None:
    for code in ("no-check", "yaml-size", "place"):
        shown = " ".join(widetrail("help", code).out.split())
        assert f"{code} (a finding of lint): {CODES[code].meaning}" in shown
    assert "Did you mean" in widetrail("help", "no-chek").err


# What is printed


@pytest.fixture
def broken(tmp_path: Path) -> Path:
    path = tmp_path / "moss & fern.trail.yaml"
    path.write_text(BROKEN)
    return path


def test_the_line_is_shown_with_a_caret_at_the_column(tmp_path: Path) -> None:
    path = tmp_path / "moss.trail.yaml"
    path.write_text(BASE.replace("from: notes", 'from: {x: "シダ\u200b"}').replace("pages:", "p:"))
    lines = widetrail("lint", path).out.splitlines()
    shown = [n for n, line in enumerate(lines) if line.endswith("^")]
    assert shown
    for number in shown:
        head, source = lines[number - 2], lines[number - 1]
        assert "\u200b" not in source, "what does not show is escaped"
        column = int(head.removeprefix(f"{path}:").split(":")[1])
        assert lines[number].index("^") - lines[number].index("|") == column + 1


def test_codes_are_selected_and_ignored(broken: Path) -> None:
    def codes(*options: str) -> set[str]:
        told = json.loads(widetrail("lint", broken, *options, "--json").out)
        return {finding["rule"] for finding in told["findings"]}

    every = codes()
    assert codes("--select", "unknown-name,unknown-place") == {"unknown-name", "unknown-place"}
    assert codes("--ignore", "unknown-name", "--ignore", "word") == every - {"unknown-name", "word"}
    ran = widetrail("lint", broken, "--select", "unused")
    assert (ran.status, ran.out.strip()) == (0, "1 recipe: 0 errors, 0 warnings")


def test_sarif_is_valid(broken: Path) -> None:
    ran = widetrail("lint", broken, "--as", "sarif")
    told = json.loads(ran.out)
    assert ran.status == 1
    own = json.loads((Path(__file__).parent / "cases/sarif-2.1.0.json").read_text())
    jsonschema.validate(told, own)
    [run] = told["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert [rules[r["ruleIndex"]] for r in run["results"]] == [r["ruleId"] for r in run["results"]]
    places = [r["locations"][0]["physicalLocation"] for r in run["results"]]
    assert {(p["region"]["startLine"], p["region"]["startColumn"]) for p in places} == {
        (line, column) for line, column, *_ in positions(BROKEN)
    }
    assert {p["artifactLocation"]["uri"] for p in places} == {broken.as_uri()}
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**told, "version": "2.0"}, own)


def positions(text: str) -> list[tuple[int, int]]:
    return [(f.line, f.column) for f in examine(text, "moss.trail.yaml", KINDS)[1]]


def test_annotations_and_junit_hold_each_finding(broken: Path) -> None:
    lines = widetrail("lint", broken, "--as", "github").out.splitlines()
    assert len(lines) == len(positions(BROKEN))
    assert lines[0].startswith(f"::error file={broken},title=number,line=2,col=11::expected 1 ")
    top = ElementTree.fromstring(widetrail("lint", broken, "--as", "junit").out)
    [suite] = top
    assert int(suite.attrib["failures"]) == len(lines) == len(list(suite))


def test_what_annotations_cannot_hold_is_escaped() -> None:
    finding = Finding("a,b:c%.yaml", 1, 1, "code", "", "one\ntwo: 50 %, three")
    told = FORMS["github"]({Path("a"): (finding,)})
    assert (
        told == "::error file=a%2Cb%3Ac%25.yaml,title=code,line=1,col=1::one%0Atwo: 50 %25, three"
    )


def test_an_editor_finds_each_finding_in_the_text(broken: Path) -> None:
    matcher = json.loads((Path(__file__).parent.parent / "docs/problem-matcher.json").read_text())
    [pattern] = matcher["problemMatcher"][0]["pattern"]
    found = [
        (int(m[pattern["line"]]), int(m[pattern["column"]]))
        for line in widetrail("lint", broken).out.splitlines()
        if (m := re.match(pattern["regexp"], line)) and m[pattern["file"]] == str(broken)
    ]
    assert found == positions(BROKEN)


# What is put right

UNTIDY = """\
recipe: 1                                  # the language
revision: 1
application: {id: moss, name: Moss}
recognize: [{sign: {folder: "{config}/Moss"}}]
places: {notes: {folder: "{config}/Moss"}}
readings:
  pages: {files: "{notes}"}
  more: {files: "{notes}/more"}            # not yet
excuses:                                   # looked at in May
  - {finding: no-check, at: items.notes, why: Nobody counts them.}
  - {finding: unused, at: readings.more, why: Next time.}
  - finding: unused                        # gone since
    at: places.gone
    why: It was.

items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {compare: same}}       # all of them
    routes:
      - name: copy
        needs: {new: {administrator: yes, release: ">=3"}}   # both
        legs: [{new: [copy]}]
      - name: again
        needs:
          new: {administrator: yes}
        legs: [{new: [copy]}]
"""
TIDY = (
    UNTIDY.replace("recognize", "recognise")
    .replace("  - {finding: no-check, at: items.notes, why: Nobody counts them.}\n", "")
    .replace(UNTIDY[UNTIDY.index("  - finding: unused") : UNTIDY.index("\nitems:")], "")
    .replace("{administrator: yes, release", "{release")
    .replace("        needs:\n          new: {administrator: yes}\n", "")
)


def test_what_is_certain_is_put_right_and_all_else_stays(tmp_path: Path) -> None:
    path = tmp_path / "moss.trail.yaml"
    path.write_bytes(UNTIDY.replace("\n", "\r\n").encode())
    ran = widetrail("lint", path, "--fix")
    assert '+recognise: [{sign: {folder: "{config}/Moss"}}]' in ran.out
    assert "Say --yes" in ran.err
    assert path.read_bytes() == UNTIDY.replace("\n", "\r\n").encode(), "nobody said so"
    assert widetrail("lint", path, "--fix", "--yes").out.endswith("0 errors, 0 warnings\n")
    assert path.read_bytes() == TIDY.replace("\n", "\r\n").encode()
    again = widetrail("lint", path, "--fix", "--yes").out
    assert again == "1 recipe: 0 errors, 0 warnings\n", "there is nothing more to do"


def test_a_change_that_breaks_something_else_is_not_made(monkeypatch: pytest.MonkeyPatch) -> None:
    wrong = dict(fixing._FIXES) | {"needless-excuse": lambda text, finding: "recipe: 2\n"}
    monkeypatch.setattr(fixing, "_FIXES", wrong)
    fixed = fixing.fix(UNTIDY, "moss.trail.yaml", KINDS)
    assert "gone since" in fixed.after
    assert {finding.rule for finding in fixed.findings} == {"spelling", "needless-administrator"}


def test_the_demo_has_nothing_to_put_right() -> None:
    assert DEMO
    assert fix(DEMO) == []


def test_the_name_of_the_own_account_is_found_in_paths(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recipe = tmp_path / "moss.trail.yaml"
    recipe.write_text(with_parts('places: {notes: {folder: "{documents}/Imarsh/notes"}}'))
    for name, told in (("imarsh", True), ("root", False), ("notes", True), ("mars", False)):
        monkeypatch.setattr("getpass.getuser", lambda name=name: name)
        assert ("[account-name]" in widetrail("lint", recipe).out) == told, name
    assert "[account-name]" not in widetrail("lint", recipe, "--account", "").out
