"""Catalogues: what is wrong with many recipes as a whole, and what their history tells."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import widetrail
from conftest import World
from conftest import widetrail as command
from widetrail.catalogue.catalogue_file import load_catalogue
from widetrail.catalogue.checking import check_all
from widetrail.catalogue.overlaps import Claimed, overlaps
from widetrail.catalogue.statistics import statistics_of, wilson
from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.library.catalogues import check_catalogue, merge_histories, quarantine_flaky
from widetrail.library.rehearsals import rehearse
from widetrail.recipe import Globs
from widetrail.recipe.outline import Claim
from widetrail.rehearsing import Rehearsed, history
from widetrail.rehearsing.expectations import Difference
from widetrail.rehearsing.history import no_history, open_history
from widetrail.rehearsing.inputs import INPUTS, Inputs
from widetrail.rehearsing.noting import Known

FILE = """catalogue: Garden
recipes: [recipes, conversions]
owners: {ines: {name: Ines Marsh}}
groups: {all: {owner: ines, recipes: "*"}}
"""


@pytest.fixture
def garden(world: World) -> World:
    (world.folder / "catalogue.yaml").write_text(FILE)
    return world


def codes(world: World, **more: object) -> list[tuple[str, str]]:
    """Return the codes of what a check finds, each with the name of its file."""
    checked = check_catalogue(world.folder, **more)  # type: ignore[arg-type]
    return [(one.rule, Path(one.file).name) for one in checked.findings]


def test_the_demo_world_says_what_is_asked_of_it(world: World) -> None:
    checked = check_catalogue(world.folder)
    assert {one.rule for one in checked.findings} == {"stale-proof", "coverage"}
    assert checked.is_well and len(checked.findings) == 30  # nothing was run yet


def test_the_demo_world_is_a_sound_catalogue(garden: World) -> None:
    checked = check_catalogue(garden.folder)
    assert (checked.recipes, checked.broken, checked.findings) == (15, (), ())
    assert checked.is_well and checked.rehearsals > 150
    ran = command("catalogue", "check", garden.folder)
    assert (ran.status, ran.out) == (0, "15 recipes, 201 rehearsals: 0 errors, 0 warnings\n")


def _second(world: World) -> None:
    (world.folder / "recipes/more").mkdir()
    shutil.copy(world.folder / "recipes/huemoss.trail.yaml", world.folder / "recipes/more")


def _unrehearsed(world: World) -> None:
    for path in (world.folder / "recipes").glob("huemoss*.rehearsal.yaml"):
        path.unlink()


def _same_name(world: World) -> None:
    (world.folder / "recipes/more").mkdir()
    for name in ("huemoss.trail.yaml", "huemoss.rehearsal.yaml"):
        shutil.copy(world.folder / "recipes" / name, world.folder / "recipes/more")
    world.edit("recipes/more/huemoss.trail.yaml", lambda t: t.replace("id: huemoss", "id: moss"))


def _overlapping(world: World) -> None:
    (world.folder / "recipes/more").mkdir()
    told = (world.folder / "recipes/huemoss.trail.yaml").read_text()
    (world.folder / "recipes/more/moss.trail.yaml").write_text(
        told.replace("id: huemoss", "id: moss")
    )


def _dead(world: World) -> None:
    reasons = world.folder / "recipes/desk.unproved.yaml"
    told = "  - {at: items.gone, branch: taken, why: it was there once}\n"
    reasons.write_text(reasons.read_text() + told)


BAD: dict[str, tuple[Callable[[World], object], list[tuple[str, str]]]] = {
    "double-id": (
        _second,
        [("double-id", "huemoss.trail.yaml"), ("no-proof", "huemoss.trail.yaml")],
    ),
    "no-proof": (_unrehearsed, [("no-proof", "huemoss.trail.yaml")]),
    "double-name": (
        _same_name,
        [
            ("recipes-overlap", "huemoss.trail.yaml"),
            ("recipes-overlap", "huemoss.trail.yaml"),
            ("double-name", "huemoss.rehearsal.yaml"),
        ],
    ),
    "recipes-overlap": (
        _overlapping,
        [
            ("no-proof", "moss.trail.yaml"),
            ("recipes-overlap", "moss.trail.yaml"),
            ("recipes-overlap", "moss.trail.yaml"),
        ],
    ),
    "unproved": (_dead, [("unproved", "desk.unproved.yaml")]),
}


@pytest.mark.parametrize("code", BAD)
def test_what_is_wrong_with_recipes_as_a_whole_is_told(code: str, garden: World) -> None:
    spoil, told = BAD[code]
    spoil(garden)
    assert sorted(codes(garden)) == sorted(told)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("recipes: [recipes, conversions]", "recipes: [recipes, nothing]"), {"no-folder"}),
        (('recipes: "*"', 'recipes: "[a-s]*"'), {"no-owner"}),
        (("owner: ines", "owner: nobody"), {"no-owner"}),
        (("groups: {", "groups: {old: {owner: ines, recipes: moss}, "), {"dead-excuse"}),
        (("groups:", "policy: {sign: [ines, tomas]}\ngroups:"), {"no-owner"}),
        (
            ("groups:", "overlaps: [{between: [desk, huemoss], why: once}]\ngroups:"),
            {"dead-excuse"},
        ),
        (("groups:", "history: runs\ngroups:"), {"stale-proof"}),
        (
            ("groups:", "history: runs\npolicy: {coverage: 95}\ngroups:"),
            {"stale-proof", "coverage"},
        ),
    ],
)
def test_what_the_file_of_a_catalogue_asks_is_judged(
    change: tuple[str, str], told: set[str], garden: World
) -> None:
    garden.edit("catalogue.yaml", lambda text: text.replace(*change))
    assert {code for code, _ in codes(garden)} == told


def test_a_group_names_the_platforms_that_its_recipes_are_for(garden: World) -> None:
    more = 'recipes: "*", platforms: [windows, linux]}'
    garden.edit("catalogue.yaml", lambda text: text.replace('recipes: "*"}', more))
    assert codes(garden) == []
    only = "- for: {platform: windows}\n    sign: {file: "
    garden.edit("recipes/huemoss.trail.yaml", lambda text: text.replace("- sign: {file: ", only, 1))
    assert codes(garden) == [("no-platform", "huemoss.trail.yaml")]


def test_an_overlap_can_be_allowed(garden: World) -> None:
    _overlapping(garden)
    allowed = "overlaps: [{between: [moss, huemoss], why: one is the other's early name}]\n"
    garden.edit("catalogue.yaml", lambda text: text + allowed)
    assert codes(garden) == [("no-proof", "moss.trail.yaml")]


def test_a_file_that_is_none_is_refused(garden: World) -> None:
    for text in ("recipes: recipes", "catalogue: x\nrecipes: ../other", "catalogue: x\nowner: me"):
        (garden.folder / "catalogue.yaml").write_text(text)
        with pytest.raises(DocumentUnusable):
            check_catalogue(garden.folder)
    with pytest.raises(InputUnusable, match=r"catalogue\.yaml"):
        check_catalogue(garden.folder / "recipes")
    assert command("catalogue", "check", garden.folder / "recipes").status == 2


@pytest.mark.sweep
def test_what_is_broken_is_told_and_the_rest_goes_on(garden: World) -> None:
    (garden.folder / "recipes/huemoss.trail.yaml").write_text("recipe: 1\n")
    (garden.folder / "recipes/desk-look.rehearsal.yaml").write_bytes(b"\xff")
    checked = check_catalogue(garden.folder)
    assert checked.recipes == 14 and not checked.is_well and len(checked.broken) == 2
    ran = command("catalogue", "check", garden.folder)
    assert ran.status == 1 and "2 files cannot be used" in ran.out
    for path in (garden.folder / "recipes").glob("*.rehearsal.yaml"):
        if not path.name.startswith(("huemoss", "desk-look")):
            path.unlink()
    again = rehearse([garden.folder / "recipes", garden.folder / "conversions/"], jobs=2)
    assert len(again.broken) == 2 and not again.passed and len(again.results) > 9
    assert all(one.passed for one in again.results)


def test_proofs_go_stale(garden: World) -> None:
    garden.edit("catalogue.yaml", lambda text: text + "policy: {proof_days: 30}\nhistory: runs\n")
    for path in (garden.folder / "recipes").glob("*.yaml"):
        if not path.name.startswith("huemoss"):
            path.unlink()
    shutil.rmtree(garden.folder / "conversions")
    (garden.folder / "conversions").mkdir()
    cache = garden.folder / "cache"
    assert codes(garden, cache=cache) == [("stale-proof", "huemoss.trail.yaml")]
    runs = garden.folder / "runs"
    assert rehearse([garden.folder / "recipes"], history=Known(runs, cache=cache)).passed
    assert codes(garden, cache=cache) == []
    with open_history(runs, add=True) as known:
        old = (datetime.now(UTC) - timedelta(days=31)).isoformat()
        known._base.execute("update run set ended = ? where rehearsal like '%taken-in%'", [old])
        known._base.commit()
    [found] = check_catalogue(garden.folder, cache=cache).findings
    assert "1 passed more than 30 days ago" in found.message and found.severity == "warning"
    machine = garden.machine("glass-office") / "disks/C/note.txt"
    machine.write_text("a note")
    [found] = check_catalogue(garden.folder, cache=cache).findings
    assert "passed before its machines changed" in found.message


# Overlaps


def _claim(recipe: str, below: str, take: str = "", leave: str = "", root: str = "home") -> Claimed:
    takes, leaves = ((text,) if text else () for text in (take, leave))
    return Claimed(recipe, Claim("kept", root, below, "*" in below, takes, leaves))


@pytest.mark.parametrize(
    ("one", "other", "meet"),
    [
        (_claim("a", "Moss"), _claim("b", "Moss"), True),
        (_claim("a", "Moss"), _claim("b", "Moss/Stamps"), True),
        (_claim("a", "Moss"), _claim("b", "Mosses"), False),
        (_claim("a", "Moss", leave="Stamps/**"), _claim("b", "Moss/Stamps"), False),
        (_claim("a", "Moss", "*.page"), _claim("b", "Moss", "*.leaf"), False),
        (_claim("a", "Moss", "a*"), _claim("b", "Moss", "*z"), True),
        (_claim("a", "Moss", "a?"), _claim("b", "Moss", "a?c"), False),
        (_claim("a", "Moss", "**/*.page"), _claim("b", "Moss/old", "note.page"), True),
        (_claim("a", "Moss", "*.page"), _claim("b", "Moss/old", "note.page"), False),
        (_claim("a", "Moss/*/pages"), _claim("b", "Moss/new/pages"), True),
        (_claim("a", "Moss/*/pages"), _claim("b", "Moss/new/leaves"), False),
        (_claim("a", ".config/moss"), _claim("b", "moss", root="config"), True),
        (_claim("a", "Documents"), _claim("b", "moss", root="documents"), True),
        (_claim("a", "moss", root="config"), _claim("b", "moss", root="data"), False),
        (_claim("a", "Moss"), _claim("a", "Moss"), False),
    ],
)
def test_two_claims_overlap_where_a_path_is_taken_by_both(
    one: Claimed, other: Claimed, meet: bool
) -> None:
    for claims in ([one, other], [other, one]):
        assert bool(list(overlaps(claims, "linux"))) is meet


NAMES = st.sampled_from(["a", "b", "ab", "*", "a*", "*b", "?", "**"])
PATTERN = st.lists(NAMES, min_size=1, max_size=4).map("/".join)
PATHS = ["/".join(names) for names in ((a,) for a in ("a", "b", "ab", "aab"))] + [
    f"{a}/{b}" for a in ("a", "b", "ab") for b in ("a", "b", "abb")
]


@given(PATTERN, PATTERN)
def test_no_path_that_both_take_goes_untold(one: str, other: str) -> None:
    claims = [_claim("one", "Moss", one), _claim("other", "Moss", other)]
    matches = [Globs([pattern], ignore_case=False) for pattern in (one, other)]
    both = [path for path in PATHS if all(match(path) for match in matches)]
    found = list(overlaps(claims, "linux"))
    if both:
        assert found, (one, other, both)
    for overlap in found:
        below = overlap.path.partition("moss/")[2]
        assert all(match(below) for match in matches), (one, other, overlap.path)


# What a history tells


def _inputs(rehearsal: str, tried: str = "1") -> Inputs:
    return Inputs("moss.trail.yaml", rehearsal, "", dict.fromkeys(INPUTS, tried))


def _result(*, passed: bool, seconds: float = 1.0) -> Rehearsed:
    told = () if passed else (Difference("kept", "9", "8"),)
    return Rehearsed("x", "x", told, seconds=seconds)


def _filled(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Write a history of six weeks: one rehearsal is flaky, one is broken by a change, and one
    build was bad."""
    with open_history(path, add=True) as known:
        for day in range(42):
            moment = datetime(2026, 9, 7, 6, tzinfo=UTC) + timedelta(days=day)
            monkeypatch.setattr(history, "_now", lambda m=moment: m.isoformat())
            batch = known.begin(12)
            bad = day == 20
            for number in range(12):
                name = f"moss-{number}.rehearsal.yaml"
                fails = bad or (number == 3 and day % 5 == 2) or (number == 4 and day > 30)
                tried = "2" if number == 4 and day > 30 else "1"
                seconds = 1.0 + number + (2.0 if number == 5 and day > 31 else 0.0)
                known.add(
                    [(_inputs(name, tried), _result(passed=not fails, seconds=seconds))], batch
                )
            known.end(batch)
    monkeypatch.undo()


@pytest.mark.sweep
def test_flaky_ones_are_found_by_statistics(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "history"
    _filled(path, monkeypatch)
    told = widetrail.history_statistics(path)
    [flaky] = told.flaky
    assert flaky.whose[1] == "moss-3.rehearsal.yaml"
    assert (flaky.failed, flaky.runs) == (8, 41) and flaky.turns == 16
    assert 0.1 < flaky.low < 8 / 41 < flaky.high < 0.35
    assert [one.whose[1] for one in told.slow[:2]] == [
        "moss-11.rehearsal.yaml",
        "moss-10.rehearsal.yaml",
    ]
    slower = next(one for one in told.slow if one.whose[1] == "moss-5.rehearsal.yaml")
    assert (slower.seconds, slower.before) == (8.0, 6.0)
    assert [week.monday for week in told.weeks] == [
        (date(2026, 9, 7) + timedelta(weeks=n)).isoformat() for n in range(6)
    ]
    assert [week.failed for week in told.weeks] == [1, 2, 13, 2, 5, 8]
    ran = command("catalogue", "statistics", path, "--quarantine", "--days", "3", "--json")
    assert ran.json["quarantined"][0]["rehearsal"] == "moss-3.rehearsal.yaml"
    assert quarantine_flaky(path) == []  # it is in by now
    with open_history(path) as known:
        [put] = known.quarantined(date.today().isoformat())
        assert put.kind == "flaky" and "8 of 41 runs" in put.why
        assert known.quarantined("2999-01-01") == []
    assert "In quarantine until" in command("catalogue", "statistics", path).out


@pytest.mark.parametrize("count", [0, 1, 5, 20])
def test_the_interval_of_a_share_holds_it(count: int) -> None:
    low, high = wilson(count, 20)
    assert 0 <= low <= count / 20 <= high <= 1 and 0.1 < high - low < 0.5


def test_one_in_quarantine_fails_without_harm(world: World) -> None:
    runs, path = world.folder / "runs", world.folder / "recipes/huemoss.rehearsal.yaml"
    whole = path.read_text()
    assert rehearse([path], history=runs).passed
    with open_history(runs, add=True) as known:
        [run] = known.runs()
        whose = (run.recipe, run.rehearsal, run.case_name)
        known.quarantine(whose, "2999-01-01", "8 of 41 runs failed", "flaky", "")
    path.write_text(whole.replace("stamps_there: 9", "stamps_there: 8"))
    ran = command("rehearse", path, "--history", runs)
    assert ran.status == 0 and "0 of 1 rehearsal passed" in ran.out
    assert "in quarantine until 2999-01-01 (8 of 41 runs failed): its failing does not" in ran.out
    assert command("rehearse", path).status == 1


def test_histories_are_merged_by_what_is_not_there_yet(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    one, other, whole = (tmp_path / name for name in ("one", "other", "whole"))
    _filled(one, monkeypatch)
    with open_history(other, add=True) as known:
        known.add([(_inputs("moss-0.rehearsal.yaml"), _result(passed=True))])
    assert merge_histories(whole, [one, other]) == 42 * 12 + 1
    assert merge_histories(whole, [other, one]) == 0
    ran = command("catalogue", "merge", whole, other)
    assert (ran.status, ran.out) == (0, "0 runs added\n")
    with open_history(whole) as known:
        assert statistics_of(known, "2026-11-01").runs == 42 * 12 + 1
        assert known.passed_with(_inputs("moss-0.rehearsal.yaml"), Path("x")) is not None
    assert command("catalogue", "merge", whole, tmp_path / "nothing").status == 2
    (tmp_path / "text").write_text("no history")
    assert command("catalogue", "statistics", tmp_path / "text").status == 2


def test_a_history_that_lies_is_no_proof(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path, of = tmp_path / "history", _inputs("moss-0.rehearsal.yaml")
    _filled(path, monkeypatch)
    for told in ("", "no JSON", "[]", '{"title": "x"}', '{"differences": [1]}'):
        with open_history(path, add=True) as known:
            known._base.execute("update run set told = ?", [told])
            known._base.commit()
            assert known.passed_with(of, Path("x")) is None
    with open_history(path, add=True) as known:
        known._base.execute("update run set ended = '9999-99-99' where rehearsal like '%-7.%'")
        known._base.commit()
    with pytest.raises(InputUnusable, match="no history"):
        widetrail.history_statistics(path)
    assert command("catalogue", "statistics", path).status == 2


def test_runs_come_as_a_table(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pytest.importorskip("pandas", reason="pandas is not installed")
    _filled(tmp_path / "history", monkeypatch)
    frame = widetrail.history_frame(tmp_path / "history")
    assert len(frame) == 42 * 12 and str(frame["ended"].dtype).startswith("datetime64")
    shares = 1 - frame.groupby("rehearsal")["passed"].mean()
    assert shares["moss-3.rehearsal.yaml"] == pytest.approx(9 / 42)


def test_the_page_of_a_history(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pytest.importorskip("matplotlib", reason="Matplotlib is not installed")
    _filled(tmp_path / "history", monkeypatch)
    page = tmp_path / "page.html"
    ran = command("catalogue", "statistics", tmp_path / "history", "--page", page)
    assert ran.status == 0 and "moss-3.rehearsal.yaml" in ran.out
    told = page.read_text()
    assert told.count("<svg") == 2 and "8 of 41" in told and "Nothing was measured yet" in told


@pytest.mark.sweep
def test_coverage_is_kept_and_taken_from_what_is_unchanged(world: World) -> None:
    runs = world.folder / "runs"
    recipe = world.folder / "recipes/huemoss.trail.yaml"
    first = command("rehearse", recipe, "--history", runs, "--coverage", "--json")
    again = command("rehearse", recipe, "--history", runs, "--changed", "--coverage", "--json")
    assert first.status == again.status == 0 and again.json["rehearsals"] == []
    assert again.json["coverage"] == first.json["coverage"]
    [weak] = widetrail.history_statistics(runs).weak
    assert (weak.recipe, weak.coverage, weak.detected) == ("huemoss", 100.0, None)


def test_nothing_is_a_history_too(garden: World) -> None:
    with no_history() as known:
        assert list(known.runs()) == [] and known.cut_off() == ""
        checked = check_all(load_catalogue(garden.folder), known)
    assert {one.rule for one in checked.findings} == {"stale-proof"}


def test_lines_of_json_tell_how_far_it_is(world: World) -> None:
    path = world.folder / "recipes/huemoss.trail.yaml"
    ran = command("rehearse", path, "--json-lines")
    lines = [json.loads(line) for line in ran.out.splitlines()]
    assert [one["done"] for one in lines] == [1, 2, 3, 4, 5, 6, 7, 7]
    assert [one["left"] for one in lines] == [6, 5, 4, 3, 2, 1, 0, 0]
    assert all(one["passed"] and one["rate"] > 0 for one in lines) and lines[-1]["end"]
    assert command("rehearse", path, "--json-lines", "--json").status == 2


@pytest.mark.sweep
def test_a_table_tells_on_a_terminal_how_far_it_is(world: World) -> None:
    pty = pytest.importorskip("pty", reason="this system has no pseudo-terminals")
    ours, theirs = pty.openpty()
    call = [sys.executable, "-m", "widetrail", "rehearse", "recipes/huemoss.trail.yaml"]
    environment = {**os.environ, "TERM": "xterm", "COLUMNS": "100", "LINES": "40"}
    with subprocess.Popen(
        call, cwd=world.folder, stdin=theirs, stdout=theirs, stderr=theirs, env=environment
    ) as ran:
        os.close(theirs)
        told = b""
        while True:
            try:
                told += os.read(ours, 65536)
            except OSError:  # it ended
                break
    os.close(ours)
    text = re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", told.decode())
    assert ran.returncode == 0 and "7 of 7 rehearsals passed" in text
    assert re.search(r"recipe +done +of +failing", text) and re.search(r"huemoss +\d +7", text)
    assert re.search(r"[\d.]+ a second, \d+ s left", text)
