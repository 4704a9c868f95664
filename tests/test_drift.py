"""Drift: what a next release keeps elsewhere or otherwise is found by its content."""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import swept, widetrail
from widetrail.library.recipes import load_recipe
from widetrail.machine import FolderMachine
from widetrail.tracing.drift import Drifted, find_drift

HOME = "disks/C/Users/ines"
ROAMING = f"{HOME}/AppData/Roaming"


def renamed_folder(machine: Path) -> None:
    (machine / ROAMING / "Marram/Quillbox").rename(machine / ROAMING / "Marram/Post")


def renamed_key(machine: Path) -> None:
    replaced(machine / ROAMING / "Dewcast/dewcast.json", '"theme"', '"look"')


def ini_to_json(machine: Path) -> None:
    old = machine / ROAMING / "Sporelog/sporelog.ini"
    lines = [line.partition("=") for line in old.read_text().splitlines()]
    told = {name.strip(): value.strip() for name, equals, value in lines if equals}
    old.unlink()
    old.with_suffix(".json").write_text(json.dumps({"collection": told}))


def moved_default(machine: Path) -> None:
    to = machine / HOME / "AppData/Local/Huemoss"
    (machine / HOME / "Documents/Huemoss").rename(to)


def split_in_two(machine: Path) -> None:
    old = machine / ROAMING / "Desk/strip.json"
    told = json.loads(old.read_text())
    old.unlink()
    for name, value in told.items():
        (old.parent / f"{name}.json").write_text(json.dumps({name: value}))


def renamed_file(machine: Path) -> None:
    folder = machine / ROAMING / "Tillbook"
    (folder / "tillbook.json").rename(folder / "ledgers.json")


def renamed_value_of_the_registry(machine: Path) -> None:
    replaced(machine / "registry.reg", '"Speed"=', '"Pace"=')


def renamed_table(machine: Path) -> None:
    with closing(sqlite3.connect(machine / "disks/D/Herbarium/Sporelog/specimens.db")) as database:
        database.execute("alter table specimen rename to finds")
        database.commit()


def number_for_a_name(machine: Path) -> None:
    replaced(machine / ROAMING / "Dewcast/dewcast.json", '"dusk"', '"3"')


def a_new_file(machine: Path) -> None:
    (machine / ROAMING / "Dewcast Tags").mkdir()
    (machine / ROAMING / "Dewcast Tags/tags.json").write_text('{"tags": ["heron"]}')


def moved_program(machine: Path) -> None:
    programs = machine / "disks/C/Program Files"
    (programs / "Rill").mkdir()
    (programs / "Dewcast").rename(programs / "Rill/Dewcast")
    replaced(machine / "machine.yaml", "Program Files/Dewcast/", "Program Files/Rill/Dewcast/")


def replaced(path: Path, old: str, new: str) -> None:
    data = path.read_bytes()
    codec = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8"
    text = data.decode(codec)
    assert old in text
    path.write_bytes(text.replace(old, new).encode(codec))


Planted = tuple[str, Callable[[Path], None], str, str, str]

PLANTED: list[Planted] = [
    ("quillbox", renamed_folder, "place-gone", "root", "{config}/Marram/Post"),
    ("dewcast", renamed_key, "value-renamed", "theme", 'at: "/look"'),
    (
        "sporelog",
        ini_to_json,
        "place-gone",
        "collection",
        'json: "{config}/Sporelog/sporelog.json"',
    ),
    ("huemoss", moved_default, "place-gone", "palettes", "{data}/Huemoss/Palettes"),
    ("desk", split_in_two, "value-renamed", "strip", "{config}/Desk/programs.json"),
    ("tillbook", renamed_file, "place-gone", "list", "{config}/Tillbook/ledgers.json"),
    ("desk", renamed_value_of_the_registry, "value-renamed", "speed", 'at: "Pace"'),
    ("sporelog", renamed_table, "value-renamed", "specimens", "table finds"),
    ("dewcast", number_for_a_name, "form-changed", "theme", ""),
    ("dewcast", a_new_file, "unclaimed", "tags.json", "{config}/Dewcast Tags/tags.json"),
    ("dewcast", moved_program, "sign-gone", "", "{programs}/Rill/Dewcast/dewcast.exe"),
]


def after(world: Path, folder: Path, change: Callable[[Path], None]) -> Path:
    machine = folder / "next"
    shutil.copytree(world / "machines/potting-shed", machine, symlinks=True)
    change(machine)
    return machine


def drift(world: Path, name: str, now: Path) -> list[Drifted]:
    recipe = load_recipe(world / "recipes" / f"{name}.trail.yaml")
    was = FolderMachine(world / "machines/potting-shed")
    return find_drift(recipe, was, FolderMachine(now))


@pytest.mark.parametrize(
    ("name", "change", "what", "about", "now"), PLANTED, ids=[p[1].__name__ for p in PLANTED]
)
def test_each_change_of_a_release_is_found(
    name: str,
    change: Callable[[Path], None],
    what: str,
    about: str,
    now: str,
    first_world: Path,
    tmp_path: Path,
) -> None:
    found = drift(first_world, name, after(first_world, tmp_path, change))
    mine = [one for one in found if (one.what, one.name) == (what, about)]
    assert len(mine) == 1, found
    assert not now or any(now in told for told in mine[0].now), mine


@pytest.mark.parametrize("name", swept(sorted({name for name, *_ in PLANTED}), ["sporelog"]))
def test_machines_that_are_equal_have_no_drift(
    name: str, first_world: Path, tmp_path: Path
) -> None:
    assert drift(first_world, name, after(first_world, tmp_path, lambda machine: None)) == []


def test_a_place_that_a_person_moved_is_no_drift(first_world: Path, tmp_path: Path) -> None:
    def move(machine: Path) -> None:
        fields = machine / "disks/D/Field"
        (fields / "Recordings").rename(fields / "Takes")
        settings = machine / ROAMING / "Dewcast/dewcast.json"
        replaced(settings, r"D:\\Field\\Recordings", r"D:\\Field\\Takes")

    assert drift(first_world, "dewcast", after(first_world, tmp_path, move)) == []


def test_drift_is_shown_with_positions_in_the_recipe(first_world: Path, tmp_path: Path) -> None:
    recipe = first_world / "recipes/dewcast.trail.yaml"
    before = first_world / "machines/potting-shed"
    now = after(first_world, tmp_path, renamed_key)
    ran = widetrail("trace", "drift", recipe, "--before", before, "--after", now)
    assert ran.status == 1
    line = next(n for n, x in enumerate(recipe.read_text().splitlines(), 1) if "  theme: {" in x)
    assert f"dewcast.trail.yaml:{line}:3: readings.theme: it was dusk before" in ran.out
    ran = widetrail("trace", "drift", recipe, "--before", before, "--after", before)
    assert (ran.status, ran.out.strip()) == (0, "0 findings")


def test_a_new_revision_is_proposed_and_rehearsed(first_world: Path, tmp_path: Path) -> None:
    """Frondsign 4 names its folder anew; a recipe that knows only Frondsign 3 learns it."""
    text = (first_world / "recipes/frondsign.trail.yaml").read_text()
    begin, end = text.index("  default:"), text.index("  signs:")
    recipe = tmp_path / "frondsign.trail.yaml"
    old = '  default: {folder: "{documents}/Frondsign/Labels"}   # as Frondsign 3 has it\n'
    recipe.write_text(text[:begin] + old + text[end:])
    before, now = first_world / "machines/seed-vault", tmp_path / "next"
    shutil.copytree(before, now, symlinks=True)
    folder = now / "disks/root/Users/tomas/Documents/Frondsign"
    (folder / "Labels").rename(folder / "Signs")
    replaced(now / "disks/root/Applications/Frondsign.app/Contents/Info.plist", "3.8.1", "4.1")
    to = tmp_path / "proposed.trail.yaml"
    sides = ("--before", before, "--after", now)
    ran = widetrail("trace", "drift", recipe, *sides, "--to", to)
    assert ran.status == 1
    assert "its rehearsal from before to after passes" in ran.out
    told = to.read_text().splitlines()
    condition = 'for: {platform: macos, release: ">=4.1"}'
    at = told.index("  default:")
    assert told[at + 1 : at + 3] == [
        f'    - {{{condition}, folder: "{{documents}}/Frondsign/Signs"}}',
        '    - {folder: "{documents}/Frondsign/Labels"}   # as Frondsign 3 has it',
    ]
    number = next(line for line in text.splitlines() if line.startswith("revision: "))
    assert f"revision: {int(number[10:]) + 1}" in told
    ran = widetrail("trace", "drift", to, *sides)
    assert (ran.status, ran.out.strip()) == (0, "0 findings")


def test_without_a_later_release_nothing_is_proposed(first_world: Path, tmp_path: Path) -> None:
    now = after(first_world, tmp_path, renamed_key)
    recipe = first_world / "recipes/dewcast.trail.yaml"
    sides = ("--before", first_world / "machines/potting-shed", "--after", now)
    ran = widetrail("trace", "drift", recipe, *sides, "--to", tmp_path / "x.trail.yaml", "--json")
    told = json.loads(ran.out)
    assert told["proposed"] == ""
    assert "a case needs a later one" in told["left"][0]
    assert not (tmp_path / "x.trail.yaml").exists()


def test_what_tells_a_place_is_proposed_too(first_world: Path, tmp_path: Path) -> None:
    def change(machine: Path) -> None:
        ini_to_json(machine)
        (machine / "disks/C/Program Files/Sporelog/release.txt").write_text("6.0\n")

    now = after(first_world, tmp_path, change)
    recipe = first_world / "recipes/sporelog.trail.yaml"
    sides = ("--before", first_world / "machines/potting-shed", "--after", now)
    told = json.loads(widetrail("trace", "drift", recipe, *sides, "--json").out)
    added = [line for line in told["proposed"].splitlines() if line.startswith("+ ")]
    condition = 'for: {platform: windows, release: ">=6.0"}'
    rule = '{json: "{config}/Sporelog/sporelog.json", at: "/collection/folder", as: path}'
    wanted = f'+    - {{{condition}, folder: "{{documents}}/Sporelog", set_in: {rule}}}'
    assert wanted in added
