"""Items that are secrets: they travel sealed, for the account alone, or are asked for again."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from build import TRAIL_HEAD, item, outcomes, trail
from conftest import widetrail
from widetrail.machine import FolderMachine
from widetrail.recipe.loader import examine
from widetrail.steps import KINDS, words_of

RECIPE = """\
recipe: 1
revision: 1
application: {id: moss, name: Moss, maker: Conker Rooms}
recognise: [{sign: {file: "{config}/moss.ini"}}]
places:
  passwords: {folder: "{data}/moss"}
readings:
  kept: {text: "{passwords}/kept", at: '^(\\S+)$', as: AS}
items:
  passwords:
    title: Passwords
    kind: secret
    from: passwords
    checks: {kept: {compare: same}}
    routes:
      - name: copy
        legs: [{new: [copy]}]
"""
AGAIN = """\
      - name: typed in again
        checks: {}
        legs: [{new: [{person: Type the passwords in once., name: typed}]}]
"""
WORD = "ripe-quince-7"


@pytest.fixture
def world(tmp_path: Path) -> Path:
    for name, user in (("old", "alva"), ("new", "brook")):
        (tmp_path / name / "disk").mkdir(parents=True)
        (tmp_path / name / "machine.yaml").write_text(
            f"machine: {name}\nplatform: linux\nsystem: '12'\nuser: {user}\n"
            "disks: {/: {folder: disk}}\n"
        )
        machine = FolderMachine(tmp_path / name)
        for path, text in ((".config/moss.ini", ""), (".local/share/moss/kept", f"{WORD}\n")):
            if name == "old" or not text:
                host = machine.host(f"/home/{user}/{path}")
                host.parent.mkdir(parents=True)
                host.write_text(text)
    (tmp_path / "moss.trail.yaml").write_text(RECIPE.replace("AS", "count") + AGAIN)
    (tmp_path / "answers.yaml").write_text("parcel.seal: seven damp stones\nmoss.typed: done\n")
    return tmp_path


def plan(world: Path, *more: str | Path) -> dict[str, Any]:
    sides = ("--old", world / "old", "--new", world / "new", "--parcel", world / "parcel")
    ran = widetrail("plan", world / "moss.trail.yaml", *sides, "--json", *more)
    assert ran.status == 0, ran.err
    told: dict[str, Any] = ran.json["plan"]
    return told


def walk(world: Path, name: str) -> None:
    answers = ("--answers", world / "answers.yaml", "--yes")
    ran = widetrail("walk", world / "parcel", "--machine", world / name, *answers)
    assert ran.status == 0, ran.err


def holding(world: Path, *apart: str) -> list[str]:
    """Return the files that hold the password, but for those below the folders named."""
    files = (path for path in world.rglob("*") if path.is_file())
    found = [path.relative_to(world) for path in files if WORD.encode() in path.read_bytes()]
    return sorted(str(path) for path in found if not any(path.is_relative_to(a) for a in apart))


def test_it_does_not_travel_in_an_open_parcel(world: Path) -> None:
    """The next way is taken, and the plan says why."""
    [item] = plan(world)["items"]
    assert item["route"] == "typed in again"
    assert [(r["route"], r["code"]) for r in item["rejected"]] == [("copy", "sealed")]
    walk(world, "new")
    assert holding(world, "old") == []


def test_without_another_way_it_stays(world: Path) -> None:
    recipe = world / "moss.trail.yaml"
    other = (
        "  look:\n    title: Look\n    from: look\n    routes:\n"
        "      - {name: copy, legs: [{new: [copy]}]}\n"
    )
    place = '  look: {file: "{config}/moss.ini"}\nreadings:'
    text = RECIPE.replace("AS", "count").replace("readings:", place)
    recipe.write_text(text + other)
    told = plan(world)
    [left] = told["left"]
    assert left["todo"] == "Plan with --seal, or type it in again on the new computer."
    walk(world, "old")
    walk(world, "new")
    assert holding(world, "old") == []


def test_sealed_it_comes_for_the_account_alone(world: Path) -> None:
    """Nothing of it can be read on the way, and modes that let others read it are not kept."""
    kept = FolderMachine(world / "old").host("/home/alva/.local/share/moss/kept")
    assert kept.stat().st_mode & 0o077
    told = plan(world, "--seal", "--answers", world / "answers.yaml")
    assert "is a secret: it travels sealed" in json.dumps(told["notices"])
    walk(world, "old")
    assert holding(world, "old") == []
    walk(world, "new")
    come = FolderMachine(world / "new").host("/home/brook/.local/share/moss")
    assert (come / "kept").read_text() == f"{WORD}\n"
    assert [at.stat().st_mode & 0o777 for at in (come, come / "kept")] == [0o700, 0o600]
    assert holding(world, "old", "new/disk/home/brook/.local/share/moss") == []


def test_a_check_that_would_tell_it_is_refused(world: Path) -> None:
    recipe = world / "moss.trail.yaml"
    recipe.write_text(RECIPE.replace("AS", "list"))
    found = widetrail("lint", recipe, "--json").json["findings"]
    assert [(one["rule"], one["where"]) for one in found] == [
        ("secret-checked", "items.passwords.checks.kept")
    ]


KEPT = "write: {ini: '{home}/fernbook.ini', at: fernbook/token, value: '{word}'"


def test_a_secret_that_its_program_keeps_is_written_there_and_nowhere_else(tmp_path: Path) -> None:
    steps = f"        legs:\n          - new:\n              - {{{KEPT}, keeps_secret: yes}}}}"
    one = trail(tmp_path, item(steps), hands={"fernbook.word": "reed bunting"})
    told = [words_of(step) for step in one.parcel.plan.steps]
    assert any("the program keeps this secret there" in words for words in told), told
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    ini = one.new.host("/home/ada/fernbook.ini")
    assert "token=reed bunting\n" in ini.read_text()
    ini.unlink()
    assert "reed bunting" not in one.everything()


def test_unless_the_recipe_says_that_the_program_keeps_it_no_secret_is_written() -> None:
    steps = f"        legs:\n          - new:\n              - {{{KEPT}}}}}"
    findings = examine(TRAIL_HEAD + "items:\n" + item(steps), "r", KINDS)[1]
    assert "secret-written" in {found.rule for found in findings}
