"""Recipes of an older version of the language: read, and upgraded, as they were really written."""

from pathlib import Path

import pytest

from conftest import World, widetrail
from widetrail.findings import errors_of
from widetrail.formats import digest
from widetrail.library.revisions import upgrade
from widetrail.recipe import examine, load_recipe_text
from widetrail.recipe.upgrading import upgraded
from widetrail.steps import KINDS

CASES = sorted((Path(__file__).parent / "cases/older-language").glob("*.trail.yaml"))


def changed_lines(before: str, after: str) -> list[tuple[str, str]]:
    lines = zip(before.splitlines(), after.splitlines(), strict=True)
    return [(one, other) for one, other in lines if one != other]


@pytest.mark.parametrize("path", CASES, ids=lambda path: path.name.partition(".")[0])
def test_what_was_written_before_the_words_changed_is_upgraded(path: Path) -> None:
    before = path.read_text()
    assert errors_of(examine(before, path.name, KINDS)[1])
    after = upgraded(before, KINDS)
    assert not errors_of(examine(after, path.name, KINDS)[1])
    changed = changed_lines(before, after)  # no line was added or lost
    for one, other in changed:
        assert one.partition("#")[2] == other.partition("#")[2], "comments stay"
        assert len(set(one.split()) ^ set(other.split())) <= 8
    assert upgraded(after, KINDS) == after


@pytest.mark.parametrize("path", CASES, ids=lambda path: path.name.partition(".")[0])
def test_one_that_says_so_is_read_as_it_is(path: Path) -> None:
    text = path.read_text().replace("recipe: 1\n", "recipe: 0\n", 1)
    loaded = load_recipe_text(text, path.name, KINDS)
    assert loaded.recipe == load_recipe_text(upgraded(text, KINDS), path.name, KINDS).recipe
    assert loaded.digest == digest(text.encode())
    assert loaded.text == text
    assert [f.severity for f in loaded.findings if f.rule == "older-language"] == ["warning"]


def test_names_that_look_like_old_words_stay() -> None:
    text = (CASES[0].parent / "mistvane.trail.yaml").read_text()
    named = text.replace(
        "readings:\n", "readings:\n  holds: {files: x}\n  told_by: {files: y}\n", 1
    )
    after = upgraded(named, KINDS)
    assert "  holds: {files: x}\n" in after
    assert "  told_by: {files: y}\n" in after


def test_the_command_shows_a_diff_and_writes_when_told(tmp_path: Path) -> None:
    source = CASES[0].parent / "sporelog.trail.yaml"
    path = tmp_path / source.name
    path.write_bytes(source.read_bytes())
    ran = widetrail("format", "--upgrade", path)
    assert ran.status == 0
    assert "Say --yes" in ran.err
    added = [line for line in ran.out.splitlines() if line.startswith("+ ")]
    assert any("set_in:" in line for line in added)
    assert path.read_bytes() == source.read_bytes()
    assert widetrail("format", "--upgrade", "--check", path).status == 1
    assert path.read_bytes() == source.read_bytes()
    told = widetrail("format", "--upgrade", "--json", path).json
    [one] = upgrade([path])
    assert told == {"changed": [{"file": str(path), "text": one.after}]}
    assert widetrail("format", "--upgrade", "--yes", path).status == 0
    assert path.read_text() == one.after
    assert widetrail("lint", path).status == 0
    ran = widetrail("format", "--upgrade", "--check", path)
    assert (ran.status, "Nothing to upgrade" in ran.out) == (0, True)


def test_a_move_is_made_with_a_recipe_of_an_older_language(world: World) -> None:
    text = world.recipe.read_text().replace("recipe: 1\n", "recipe: 0\n", 1)
    world.recipe.write_text(text.replace("set_in:", "told_by:"))
    assert "told_by:" in world.recipe.read_text()
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    done = world.walk(world.new)
    assert done.status == 0, done.err
    assert "told_by:" in (world.parcel / "data/recipes/sporelog.trail.yaml").read_text()
