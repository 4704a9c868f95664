"""Sheets of recipes: all that one says is told, in the words of a plan, with what proves it."""

from __future__ import annotations

import html
import json
import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import widetrail
import widetrail_demo
from conftest import World
from conftest import widetrail as command
from widetrail.formats.texts import for_people
from widetrail.library.publishing import sheet, sheet_pages, sheets
from widetrail.library.recipes import load_recipe
from widetrail.library.rehearsals import rehearse
from widetrail.planning.recipe_steps import steps_of_licence, steps_of_route
from widetrail.reporting.sheet_page import render_sheet
from widetrail.steps import words_of

DEMO = Path(widetrail_demo.__file__).parent / "recipes"
RECIPES = sorted(DEMO.glob("*.trail.yaml"))
TOLD = ("title", "what", "remedy", "before", "maker", "releases", "name", "secret", "text", "why")
"""Keys of a recipe whose texts a person is to read as they are."""


def leaves(document: Any, *under: str) -> Iterator[tuple[tuple[str, ...], str]]:
    if isinstance(document, dict):
        for key, value in document.items():
            yield from leaves(value, *under, key)
    elif isinstance(document, list):
        for value in document:
            yield from leaves(value, *under)
    else:
        yield under, str(document)


def words_of_page(page: str) -> str:
    return re.sub(r"\s+", " ", html.unescape(re.sub(r"<[^>]+>", "", page)))


@pytest.mark.parametrize("recipe", RECIPES, ids=lambda path: path.name.partition(".")[0])
def test_all_that_a_person_is_to_read_of_a_recipe_is_on_its_sheet(recipe: Path) -> None:
    loaded = load_recipe(recipe)
    there = words_of_page(render_sheet(sheet(recipe)))
    read = 0
    for under, text in leaves(loaded.tree):
        in_step = {"legs", "ready", "free", "claim"} & {*under}
        told = under[-1] in TOLD and not in_step
        if told and under[0] in ("application", "items", "asks", "excuses"):
            shown = re.sub(r"\{(\w[\w.]*)\}", r"‹\1›", text)
            assert re.sub(r"\s+", " ", for_people(shown)) in there, under
            read += 1
        if under[-1] == "person":
            assert re.sub(r"\{(\w[\w.]*)\}", r"‹\1›", text) in there, under
    assert read > 3
    for name, cases in loaded.tree["places"].items():
        assert f"{name}" in there
        for _, path in leaves(cases):
            if path.startswith("{") and "/" in path:
                assert re.sub(r"\{(\w[\w.]*)\}", r"‹\1›", path) in there, name


OURS = ("note", "pack", "publish", "enter", "remnants")
"""Kinds of steps whose words hold nothing of the machines but the item's place."""


def test_a_sheet_has_the_steps_that_a_plan_has(world: World) -> None:
    names = ("sporelog", "huemoss", "desk", "dewcast", "tillbook")
    files = [world.folder / f"recipes/{name}.trail.yaml" for name in names]
    recipes = {one.id: one for one in widetrail.load_recipes(files)}
    old, new = (widetrail.open_machine(world.folder / m) for m in (world.old, world.new))
    plan = widetrail.plan(list(recipes.values()), old, new, world.parcel)
    compared = set()
    for planned in plan.items:
        loaded = recipes[planned.recipe]
        item = loaded.recipe.items.get(planned.item)
        if item is None or planned.instance:
            continue
        route = next(one for one in item.routes if one.name == planned.route)
        told = steps_of_route(loaded, planned.item, route)
        steps = [step for step in plan.steps if step.item == planned.id]
        kinds = [list(dict.fromkeys((s.station, s.kind) for s in some)) for some in (told, steps)]
        assert kinds[0] == kinds[1], planned.id
        for mine, real in zip(told, steps, strict=False):
            if mine.kind in OURS and real.kind == mine.kind:
                words = words_of(real)
                for path in filter(None, (planned.old_path, planned.new_path)):
                    words = words.replace(path, f"‹{item.from_}›")
                assert words_of(mine) == words
                compared.add(mine.kind)
    assert compared == set(OURS)


def test_a_licences_sheet_tells_its_acts_without_a_machines_name() -> None:
    [loaded] = widetrail.load_recipes([DEMO / "loamlens.trail.yaml"])
    route = loaded.recipe.licences["licence"].routes[1]
    steps = steps_of_licence(loaded, "licence", route)
    assert {step.station for step in steps} == {"old", "new", "between"}
    there = words_of_page(render_sheet(sheet(DEMO / "loamlens.trail.yaml")))
    assert "errand ‹release›.request ‹release›.answer" in there
    assert "computer between" in there


def test_where_things_are_is_told_apart_by_platform() -> None:
    made = sheet(DEMO / "frondsign.trail.yaml")
    assert made.platforms == ("Windows", "macOS", "Linux")
    by_name = {place.name: place for place in made.places}
    where = [cases[0].where for cases in by_name["settings"].cases]
    assert where == [
        ("‹config›/Frondsign/settings.xml",),
        ("‹preferences›/example.fernlight.frondsign.plist",),
        ("‹config›/frondsign/settings.toml",),
    ]
    assert by_name["default"].everywhere and not by_name["signs"].everywhere
    assert [case.when for case in by_name["default"].cases[0]] == ["version <4", "version >=4", ""]


def test_the_conditions_of_routes_are_told_in_their_order() -> None:
    [collection, _] = sheet(DEMO / "sporelog.trail.yaml").items
    archive, folder, *_, chosen = collection.routes
    assert archive.conditions == (
        "version on the old computer is >=5.4",
        "version on the new computer is that of the old computer or later",
        "all of it is at most 2.0 GiB",
        "no shelf and no folder was left out",
    )
    assert folder.conditions == ("no shelf and no folder was left out",)
    assert chosen.by_choice and not archive.by_choice


@pytest.fixture
def moved(world: World) -> tuple[Path, Path]:
    """A recipe whose rehearsals passed, and their history."""
    recipe, history = world.folder / "recipes/huemoss.trail.yaml", world.folder / "history"
    ran = rehearse([world.folder / "recipes/huemoss.rehearsal.yaml"], history=history)
    assert ran.passed
    return recipe, history


def test_a_sheet_tells_when_each_rehearsal_last_passed_and_what_changed_since(
    moved: tuple[Path, Path],
) -> None:
    recipe, history = moved
    made = sheet(recipe, history=history)
    [proof] = [one for one in made.proofs if one.passed is not None]
    assert proof.file == "huemoss.rehearsal.yaml" and proof.passed is not None
    assert proof.passed.since == () and made.proved == 1 < len(made.proofs)
    assert f"1 of {len(made.proofs)} rehearsals passed" in words_of_page(render_sheet(made))

    recipe.write_text(recipe.read_text().replace("title: Stamps", "title: All stamps"))
    rehearsal = recipe.with_name("huemoss.rehearsal.yaml")
    rehearsal.write_text(f"{rehearsal.read_text()}# looked at again\n")
    made = sheet(recipe, history=history)
    [since] = [one.passed.since for one in made.proofs if one.passed is not None]
    assert since == ("recipe", "rehearsal") and made.proved == 0
    assert "the recipe and the rehearsal changed since" in words_of_page(render_sheet(made))


def test_a_rehearsal_that_failed_is_no_proof(moved: tuple[Path, Path], world: World) -> None:
    recipe, history = moved
    rehearsal = recipe.with_name("huemoss.rehearsal.yaml")
    rehearsal.write_text(rehearsal.read_text().replace("stamps_there: 9", "stamps_there: 8"))
    assert not rehearse([rehearsal], history=history).passed
    [passed] = [one.passed for one in sheet(recipe, history=history).proofs if one.passed]
    assert passed.since == ("rehearsal",)  # the one before it


@pytest.mark.parametrize("kind", ["nothing", "text", "other", "later"])
def test_what_is_no_history_is_refused_and_left_as_it_is(
    kind: str, world: World, tmp_path: Path
) -> None:
    path = tmp_path / "history"
    if kind == "text":
        path.write_text("a list of rehearsals\n" * 100)
    elif kind != "nothing":
        base = sqlite3.connect(path)
        base.execute("create table moss (leaf)")
        if kind == "later":
            base.execute(f"pragma application_id = {0x57544831}")
            base.execute("pragma user_version = 99")
        base.commit()
        base.close()
    before = path.read_bytes() if path.exists() else None
    recipe = world.folder / "recipes/huemoss.trail.yaml"
    with pytest.raises(widetrail.InputUnusable):
        sheet(recipe, history=path)
    if before is not None:
        with pytest.raises(widetrail.InputUnusable):
            rehearse([world.folder / "recipes/huemoss.rehearsal.yaml"], history=path)
    assert (path.read_bytes() if path.exists() else None) == before


def test_sheets_are_written_by_the_command_line(world: World, tmp_path: Path) -> None:
    done = command("sheet", world.folder / "recipes", "--to", tmp_path / "out/sheets")
    pages = sorted(path.name for path in (tmp_path / "out/sheets").iterdir())
    assert len(pages) == len(RECIPES) + 1 and "index.html" in pages
    assert f"Open {tmp_path / 'out/sheets/index.html'}" in done.out
    assert sheet_pages([world.folder / "recipes"]).keys() == set(pages)
    told = json.loads(command("sheet", world.recipe, "--json").out)
    assert [one["id"] for one in told] == ["sporelog"]
    assert sheets([world.recipe])[0].name == told[0]["name"]
    (tmp_path / "file").write_text("in the way")
    refused = command("sheet", world.recipe, "--to", tmp_path / "file")
    assert refused.status == 2 and "cannot be written" in refused.err


def test_what_a_recipe_says_is_text_on_its_page(world: World) -> None:
    recipe = world.folder / "recipes/huemoss.trail.yaml"
    evil = '"<script>alert(1)</script>\\u202e{{{{ 1234567 * 3 }}}}"'
    text = recipe.read_text()
    for was in ("title: Stamps", "what: seeing the stamps at once", "- name: folder of the stamps"):
        assert was in text
        text = text.replace(was, f"{was.partition(':')[0]}: {evil}")
    recipe.write_text(text)
    pages = sheet_pages([world.folder / "recipes"])
    assert pages["huemoss.html"].count("&lt;script&gt;alert(1)&lt;/script&gt;") > 3
    for page in pages.values():
        assert "<script" not in page and "\u202e" not in page and "3703701" not in page
