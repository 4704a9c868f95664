"""The recipe language: cases from files, globs, releases."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import World, widetrail
from widetrail.recipe import Globs, examine
from widetrail.recipe.releases import parse_release, parse_releases
from widetrail.steps import KINDS

CASES = Path(__file__).parent / "cases" / "recipe"
BASE = (CASES / "base.trail.yaml").read_text()


def test_the_base_of_the_cases_has_no_finding() -> None:
    assert examine(BASE, "base", KINDS)[1] == ()


@pytest.mark.parametrize("case", sorted(CASES.glob("bad/*.case")), ids=lambda p: p.stem)
def test_bad_recipes_get_their_finding(case: Path) -> None:
    text, by, expected = case.read_text().split("\n----\n")
    assert text in BASE
    loaded, findings = examine(BASE.replace(text, by, 1), "r", KINDS)
    shown = "\n".join(map(str, findings))
    assert loaded is None
    assert expected.strip() in shown


COPY = "- new: [copy]"
RUN = "- new: [{run: [fernbook, list], %s}]"
NOTES = '{windows: "{documents}/Fernbook", else: "{home}/fernbook"}'
LICENCE = """  seat:
    title: The licence
    kind: license
    serial: {ini: "{notes}/seat.ini", at: seat/serial}
    active: {ini: "{notes}/seat.ini", at: seat/state, is: active}
    routes:
      - name: by hand
        free: [{old: [{person: Give the seat back.}]}]
        claim: [{new: [{person: Take the seat.}]}]
asks:"""
OLD_WORDS = [
    ("    set_in: ", "    told_by: ", "set_in"),
    (f"folder: {NOTES}", 'each: "{home}/fernbook/*"\n    holds: x', "contains"),
    (COPY, RUN % "undone_by: [fernbook, list]", "undo"),
    (COPY, RUN % "ended_by: [fernbook, list]", "finally"),
    (COPY, RUN % "tells: {pages: '(.*)'}", "prints"),
    ("existing: back up", "await: {pages: 2}", "wait"),
    ("existing: back up", "existing: put aside", "back up"),
    ("existing: back up", "existing: overwrite", "replace"),
    ("existing: back up", "existing: pass by", "skip"),
    ("existing: back up", "existing: stop", "refuse"),
    ("compare: same", "compare: at least", "at_least"),
    ("revision: 3", "revision: 3\nuses: {trellisdesk: '>=5'}", "relies_on"),
]


@pytest.mark.parametrize(("text", "by", "new"), OLD_WORDS, ids=[new for *_, new in OLD_WORDS])
def test_an_old_word_is_a_finding_that_names_the_new_one(text: str, by: str, new: str) -> None:
    assert text in BASE
    _, findings = examine(BASE.replace(text, by, 1), "r", KINDS)
    assert f'It is written "{new}" now' in [f.hint for f in findings]


def test_the_old_way_to_ask_for_what_old_has_is_a_finding() -> None:
    text = BASE.replace("existing: back up", "wait: {pages: covers old}")
    (finding,) = examine(text, "r", KINDS)[1]
    assert "{at_least: old}" in finding.message
    loaded, _ = examine(text.replace("covers old", "{at_least: old}"), "r", KINDS)
    assert loaded is not None


def test_american_spelling_is_understood_with_one_warning() -> None:
    text = BASE.replace("recognise:", "recognize:").replace("asks:", LICENCE)
    loaded, findings = examine(text, "r", KINDS)
    assert loaded is not None, findings
    assert list(loaded.recipe.licences) == ["seat"]
    (finding,) = (f for f in findings if f.rule == "spelling")
    assert (finding.severity, finding.line) == ("warning", 11)


def test_all_findings_come_at_once() -> None:
    broken = BASE.replace("title: Notes", "titel: Notes").replace("revision: 3", "revision: x")
    rules = {f.rule for f in examine(broken, "r", KINDS)[1]}
    assert rules == {"unknown-key", "missing-key", "number"}


def test_scalars_stay_text() -> None:
    loaded, _ = examine(BASE.replace("name: Fernbook", "name: 1.10"), "r", KINDS)
    assert loaded is not None
    assert loaded.recipe.application.name == "1.10"


@given(st.text(max_size=200))
def test_any_text_is_read_or_refused_with_findings(text: str) -> None:
    loaded, findings = examine(text, "any", KINDS)
    assert loaded is None
    assert findings


@given(st.integers(0, len(BASE) - 1), st.sampled_from("{}[]:*&!|>'\"%@`\\\t\n-#?, \x00é"))
def test_any_change_of_a_recipe_is_read_or_refused(at: int, char: str) -> None:
    loaded, findings = examine(BASE[:at] + char + BASE[at + 1 :], "any", KINDS)
    assert (loaded is None) == any(f.severity == "error" for f in findings)


@pytest.mark.parametrize(
    ("glob", "path", "matches"),
    [
        ("cache/**", "cache", True),
        ("cache/**", "cache/a/b", True),
        ("cache/**", "cached", False),
        ("*.tmp", "a.tmp", True),
        ("*.tmp", "a/b.tmp", False),
        ("**/*.tmp", "b.tmp", True),
        ("**/*.tmp", "a/b/c.tmp", True),
        ("a/**/z", "a/z", True),
        ("a/**/z", "a/b/c/z", True),
        ("a?c", "abc", True),
        ("a?c", "a/c", False),
        ("[ab]x", "bx", True),
        ("[!ab]x", "bx", False),
        ("**", "anything/at all", True),
        ("lock", "Lock", False),
    ],
)
def test_globs(glob: str, path: str, matches: bool) -> None:
    assert Globs([glob], ignore_case=False)(path) is matches


def test_globs_follow_the_case_of_the_platform() -> None:
    assert Globs(["Lock"], ignore_case=True)("lOCK")


ORDERED = (
    "7 beta 2",
    "7 rc 1",
    "7",
    "7 sp1",
    "7.0.1",
    "9.9",
    "10.0.2b3",
    "10.0.2",
    "10.0.2.1",
    "10.1",
    "24.2-lts",
    "2024",
    "2024 R3",
    "2024.1",
    "2025",
)


def test_releases_are_in_the_order_people_mean() -> None:
    releases = [parse_release(text) for text in ORDERED]
    assert None not in releases
    assert sorted(releases, key=lambda r: r.order if r else ()) == releases


@given(st.sampled_from(ORDERED), st.sampled_from(["", ".0", ".0.0", "-lts", " final"]))
def test_spellings_of_one_release_are_equal(text: str, tail: str) -> None:
    plain = text.removesuffix("-lts")
    if plain[-1].isdigit() and plain.replace(".", "").isdigit():
        assert parse_release(plain) == parse_release(plain + tail)


def test_ranges_hold_at_their_bounds() -> None:
    allowed = parse_releases(">=7, <10")
    held = [text for text in ORDERED if (r := parse_release(text)) and r in allowed]
    assert held == ["7", "7 sp1", "7.0.1", "9.9"]


def test_lint_ends_with_1_and_names_the_place(world: World) -> None:
    world.edit("recipes/sporelog.trail.yaml", lambda s: s.replace("- new: [copy]", "- new: [cp]"))
    ran = widetrail("lint", world.recipe)
    assert ran.status == 1
    assert f"{world.recipe}:92:19: items.collection.routes.1.legs.0.new.0: expected" in ran.out
    found = widetrail("lint", world.recipe, "--json")
    assert found.status == 1
    assert [f["rule"] for f in found.json["findings"]] == ["step-kind", "step-kind"]


def test_lint_of_the_demo_recipes_is_clean(world: World) -> None:
    ran = widetrail("lint", world.folder / "recipes")
    assert (ran.status, ran.out) == (0, "12 recipes: 0 errors, 0 warnings\n")
    ran = widetrail("lint", world.folder / "conversions")
    assert (ran.status, ran.out) == (0, "3 recipes: 0 errors, 0 warnings\n")
