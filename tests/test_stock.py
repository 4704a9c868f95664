"""Surveying a whole machine by a whole shelf of recipes: one walk, one automaton, one index."""

from __future__ import annotations

import csv
import io
import json
import multiprocessing
import os
import shutil
import sys
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import World, contents, widetrail
from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.finding import survey
from widetrail.machine import FolderMachine, kept
from widetrail.recipe import Globs, load_recipe, recipe_cache
from widetrail.recipe.outline import outline_of
from widetrail.recipe.recipe_cache import KEPT, Shelf
from widetrail.steps import KINDS
from widetrail.survey import Survey, survey_all
from widetrail.survey.automaton import ANYWHERE, MOST, Automaton, Segment, key_of
from widetrail.survey.file_classes import likeness
from widetrail.survey.inventory import Group

# The automaton

names = st.text("ab.", min_size=1, max_size=3).filter(lambda n: n not in (".", ".."))
globs = st.lists(
    st.sampled_from(["a", "b", "a*", "*b", "*", "?", "[ab]a", "*.a", "a*b", ANYWHERE, "[!a]*"]),
    min_size=1,
    max_size=5,
).map("/".join)


def marks_of(automaton: Automaton, path: str) -> tuple[int, ...]:
    state = automaton.start
    for name in path.split("/"):
        state = state.step(name)
    return state.marks


@given(st.lists(globs, min_size=1, max_size=6), st.lists(names, min_size=1, max_size=6))
def test_a_path_carries_the_marks_of_the_globs_that_match_it(
    patterns: list[str], path: list[str]
) -> None:
    automaton = Automaton()
    for mark, pattern in enumerate(patterns):
        automaton.add([Segment(s) for s in pattern.split("/")], mark)
    whole = "/".join(path)
    matching = [n for n, p in enumerate(patterns) if Globs([p], ignore_case=False)(whole)]
    assert list(marks_of(automaton, whole)) == matching


def test_hostile_globs_are_matched_within_bounds() -> None:
    automaton = Automaton()
    patterns = [f"**/{a}*/**/{b}*/**/*{a}{b}/**" for a in "abcdef" for b in "abcdef"]
    for mark, pattern in enumerate(patterns):
        automaton.add([Segment(s) for s in pattern.split("/")], mark)
    held = 0
    letters = "abcdefgh"
    for number in range(4000):
        path = "/".join(letters[(number >> shift) % 8] * 2 for shift in (0, 3, 1, 6, 2, 9))
        found = marks_of(automaton, path)
        held = max(held, automaton.held)
        if number % 100 == 0:
            matching = [n for n, p in enumerate(patterns) if Globs([p], ignore_case=False)(path)]
            assert list(found) == matching
    assert held <= MOST + 8 * len(patterns)


def test_names_are_compared_as_the_volume_compares_them() -> None:
    for platform, same in (("windows", True), ("macos", True), ("linux", False)):
        key = key_of(platform)
        assert (key("Straße") == key("STRASSE")) is same
        assert (key("Cafe\u0301") == key("CAFÉ")) is same


# A machine


def recipe(top: Path, id: str, items: str, sign: str = "", places: str = "") -> None:
    """Write a recipe; its program is there, unless ``sign`` says another."""
    top.mkdir(exist_ok=True)
    text = (
        f"recipe: 1\nrevision: 1\napplication: {{id: {id}, name: {id.title()}}}\n"
        f"recognise: [{{sign: {{file: '{sign or '{programs}/sh'}'}}}}]\n{places}items:\n{items}"
    )
    (top / f"{id}.trail.yaml").write_text(text, encoding="utf-8")


def item(name: str, place: str, more: str = "") -> str:
    return (
        f"  {name}:\n    title: {name}\n    from: {place}\n    {more}\n"
        "    routes: [{name: copy, legs: [{new: [copy]}]}]\n"
    )


@pytest.fixture
def big(tmp_path: Path) -> FolderMachine:
    """A Linux machine with a program, and files of several kinds that nobody claims."""
    told = "machine: big\nplatform: linux\nsystem: '12'\nuser: ann\ndisks: {/: {folder: disk}}\n"
    top = tmp_path / "big"
    write(top, {"usr/bin/sh": "program", "home/ann/Notes/deep/one.txt": "1", "etc/x.conf": "x"})
    (top / "machine.yaml").write_text(told)
    return FolderMachine(top)


def write(top: Path, files: dict[str, str]) -> None:
    for path, text in files.items():
        (top / "disk" / path).parent.mkdir(parents=True, exist_ok=True)
        (top / "disk" / path).write_text(text)


def look(machine: FolderMachine, folder: Path, **more: Any) -> Survey:
    before = contents(machine.folder)
    found = survey_all(machine, Shelf([folder], KINDS), **more)
    assert contents(machine.folder) == before
    return found


def unclaimed(found: Survey) -> dict[str, Group]:
    return {g.path + ("" if g.whole else "/."): g for g in found.stock.groups}


def test_what_nobody_claims_is_told_by_folder(big: FolderMachine, tmp_path: Path) -> None:
    home = "home/ann"
    write(
        big.folder,
        {
            f"{home}/Moss/a.rec": "12345",
            f"{home}/Moss/cache/x": "1",
            f"{home}/Moss/own.txt": "123",
            f"{home}/.config/fern/fern.ini": "1",
            f"{home}/.config/fern/sub/more.ini": "12",
            f"{home}/.cache/fern/y.bin": "1",
            f"{home}/loose.jpg": "12",
        },
    )
    places = "places: {moss: {folder: '{home}/Moss'}}\n"
    told = item("moss", "moss", "take: ['*.rec']\n    leave: ['cache/**']")
    recipe(tmp_path / "recipes", "moss", told, places=places)
    found = look(big, tmp_path / "recipes")
    groups = unclaimed(found)
    assert set(groups) == {
        f"/{home}/.config/fern",
        f"/{home}/Moss/.",
        f"/{home}/.",
        f"/{home}/Notes",
        f"/{home}/.cache/fern",
    }
    (one,) = found.here[0].items
    assert (one.tally.files, one.tally.size) == (1, 5)
    assert one.left is not None and (one.left.files, one.left.size) == (1, 1)
    assert groups[f"/{home}/Moss/."].known == ("moss",)
    assert groups[f"/{home}/.config/fern"].likeness == ("settings", "all end in .ini")
    assert groups[f"/{home}/.cache/fern"].likeness == ("cache", "a folder is called .cache")
    assert groups[f"/{home}/."].likeness.kind == "pictures"
    sizes = [group.tally.size for group in found.stock.groups]
    assert sizes == sorted(sizes, reverse=True)
    assert ("/etc", "the system's") in found.stock.passed


def test_two_recipes_that_claim_one_place_are_told(big: FolderMachine, tmp_path: Path) -> None:
    write(big.folder, {"home/ann/Moss/a.rec": "1", "home/ann/Moss/inner/b.rec": "12"})
    outer = "places: {moss: {folder: '{home}/Moss'}}\n"
    inner = "places: {moss: {folder: '{home}/Moss/inner'}}\n"
    folder = tmp_path / "recipes"
    recipe(folder, "one", item("moss", "moss"), places=outer)
    recipe(folder, "two", item("same", "moss"), places=outer)
    recipe(folder, "three", item("inner", "moss"), places=inner)
    found = look(big, folder)
    (shared,) = found.stock.shared
    assert set(shared.claims) == {"one.moss", "two.same"}
    assert (shared.tally.files, shared.tally.size) == (1, 1)  # the inner place is carved out
    by_name = {f"{one.id}.{i.name}": i.tally.files for one in found.here for i in one.items}
    assert by_name == {"one.moss": 1, "two.same": 1, "three.inner": 1}


def test_what_remains_of_an_application_that_is_gone_is_its_own(
    big: FolderMachine, tmp_path: Path
) -> None:
    write(
        big.folder,
        {
            "home/ann/.config/gone/profiles/a/x.db": "12",
            "home/ann/.config/gone/profiles/b/y": "1",
            "home/ann/Elsewhere/z": "1",
        },
    )
    places = (
        "places:\n  ini: {file: '{config}/gone/gone.ini'}\n"
        "  profiles: {each: '{config}/gone/profiles/*'}\n"
        "  moved: {folder: '{documents}/Gone', set_in: {ini: '{ini}', at: a/b}}\n"
    )
    write(big.folder, {"home/ann/.config/gone/gone.ini": "[a]\nb = /home/ann/Elsewhere\n"})
    told = item("profiles", "profiles") + item("moved", "moved")
    recipe(tmp_path / "recipes", "gone", told, "{programs}/gone", places)
    found = look(big, tmp_path / "recipes")
    assert found.not_here == ("gone",) and found.here == ()
    (remains,) = found.remains
    assert (remains.item, remains.tally.files) == ("profiles", 2)
    assert "/home/ann/Elsewhere" in unclaimed(found)  # only the settings of one that is here tell


def test_links_other_accounts_and_own_folders_are_not_looked_into(
    big: FolderMachine, tmp_path: Path
) -> None:
    write(big.folder, {"home/ben/secret.txt": "1", "home/ann/.local/state/widetrail/log": "1"})
    (big.folder / "disk/home/ann/link").symlink_to("/etc", target_is_directory=True)
    (tmp_path / "recipes").mkdir()
    found = look(big, tmp_path / "recipes")
    assert set(unclaimed(found)) == {"/home/ann/Notes"}
    assert dict(found.stock.passed)["/home/ben"] == "another account's"
    assert dict(found.stock.passed)["/home/ann/.local/state/widetrail"] == "Wide Trail's own"
    assert found.stock.links == 1


def test_a_claim_that_lies_elsewhere_is_counted_all_the_same(
    big: FolderMachine, tmp_path: Path
) -> None:
    write(big.folder, {"etc/moss/a": "123", "home/ann/.moss.ini": "[a]\nb = /etc/moss\n"})
    places = (
        "places:\n  ini: {file: '{home}/.moss.ini'}\n"
        "  moss: {folder: '{home}/Moss', set_in: {ini: '{ini}', at: a/b}}\n"
    )
    recipe(tmp_path / "recipes", "moss", item("moss", "moss"), places=places)
    for below in ("", "/home/ann/Notes"):
        found = look(big, tmp_path / "recipes", below=below)
        assert found.here[0].items[0].tally.size == 3
        assert not any(path.startswith("/etc/") for path in unclaimed(found))
    assert set(unclaimed(found)) == {"/home/ann/Notes/deep"}


def test_a_tree_without_end_is_told(big: FolderMachine, tmp_path: Path) -> None:
    deep = big.folder / "disk/home/ann/deep"
    deep.mkdir()
    handle = os.open(deep, os.O_RDONLY)
    for _ in range(230):
        os.mkdir("d", dir_fd=handle)
        inner = os.open("d", os.O_RDONLY, dir_fd=handle)
        os.close(handle)
        handle = inner
    os.close(handle)
    (tmp_path / "recipes").mkdir()
    found = survey_all(big, Shelf([tmp_path / "recipes"], KINDS))
    assert any(why == "nested deeper than 200" for _, why in found.stock.passed)
    assert "/home/ann/Notes" in unclaimed(found)


def test_what_may_not_be_read_is_told_and_the_rest_is_walked(big: FolderMachine) -> None:
    """The account is one of the system's own, where the tests run as its administrator."""
    if sys.platform == "win32":
        pytest.skip("has no permission bits of this kind")
    with tempfile.TemporaryDirectory() as folder:  # below pytest's own folder only root may look
        top = Path(folder) / "big"
        shutil.copytree(big.folder, top)
        locked = top / "disk/home/ann/locked"
        locked.mkdir()
        (locked / "x.txt").write_text("1")
        (Path(folder) / "recipes").mkdir()
        Path(folder).chmod(0o755)
        locked.chmod(0)
        machine, own = FolderMachine(top), Shelf([Path(folder) / "recipes"], KINDS)
        survey_all(machine, own)  # what is imported only then can be read still
        is_root = os.geteuid() == 0
        try:
            if is_root:
                os.seteuid(65_534)
            found = survey_all(machine, own)
        finally:
            if is_root:
                os.seteuid(0)
            locked.chmod(0o700)
    assert dict(found.stock.passed)["/home/ann/locked"] == "Permission denied"
    assert "/home/ann/Notes" in unclaimed(found)


def test_the_walk_counts_what_the_items_select(world: World) -> None:
    own = Shelf([world.folder / "recipes"], KINDS)
    loaded = [own.load(id) for id in own.recipes]
    compared = 0
    for folder in sorted((world.folder / "machines").iterdir()):
        machine = FolderMachine(folder)
        alone = {one.id: one for one in survey(machine, loaded) if one.installation is not None}
        whole = {one.id: one for one in survey_all(machine, own).here}
        assert whole.keys() == alone.keys()
        for id, one in whole.items():
            assert [i.tally for i in one.items] == [i.tally for i in alone[id].items], id
            compared += len(one.items)
    assert compared > 60


def test_progress_goes_from_nothing_to_all(big: FolderMachine, tmp_path: Path) -> None:
    (tmp_path / "recipes").mkdir()
    told: list[tuple[float, int]] = []
    look(big, tmp_path / "recipes", tick=lambda share, names: told.append((share, names)))
    shares = [share for share, _ in told]
    assert shares == sorted(shares) and shares[0] >= 0 and shares[-1] <= 1
    assert told[-1][1] > 3


@pytest.mark.parametrize(
    ("names", "endings", "beginning", "kind"),
    [
        (["Code Cache"], {"bin": (3, 30)}, b"", "cache"),
        (["logs"], {"txt": (3, 30)}, b"", "log"),
        (["x"], {"jpg": (8, 800), "txt": (3, 30)}, b"", "pictures"),
        (["x"], {"jpg": (8, 400), "db": (3, 600)}, b"", "records"),
        (["x"], {"jpg": (8, 500), "db": (3, 500)}, b"", "mixed"),
        (["x"], {"": (1, 900)}, b"SQLite format 3\0", "records"),
        (["x"], {"": (1, 900)}, b"\0\1\2", "unclear"),
        (["x"], {"lic": (1, 0)}, b"", "keys"),
    ],
)
def test_what_files_look_like(
    names: list[str], endings: dict[str, tuple[int, int]], beginning: bytes, kind: str
) -> None:
    found = likeness(names, endings, beginning)
    assert found.kind == kind
    assert found.why


def test_why_files_look_so_is_told() -> None:
    assert likeness(["x"], {"db": (1, 90), "jpg": (9, 10)}).why == (
        "1 of 10 end in .db, 90 % of the bytes"
    )
    assert likeness(["x"], {"db": (7, 90), "": (3, 0)}).why == "7 of 10 end in .db"
    assert likeness(["x"], {"": (2, 9)}).why == "none has an ending"


# The index


def test_outlines_are_kept_by_the_digest_of_their_file(world: World, tmp_path: Path) -> None:
    recipes, cache = world.folder / "recipes", tmp_path / "cache"
    assert Shelf([recipes], KINDS, cache).fresh == 12
    assert Shelf([recipes], KINDS, cache).fresh == 0
    world.edit(
        "recipes/sporelog.trail.yaml", lambda text: text.replace("Sporelog\n", "Spores\n", 1)
    )
    again = Shelf([recipes], KINDS, cache)
    assert again.fresh == 1
    assert again.recipes["sporelog"].name == "Spores"
    for id, one in again.recipes.items():
        known = load_recipe(Path(one.file), KINDS).recipe
        assert one.outline("windows") == outline_of(known, "windows"), id


def test_several_processes_read_what_one_does(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recipes = world.folder / "recipes"
    (recipes / "torn.trail.yaml").write_text("recipe: 1\nrevision: [")
    (recipes / "latin.trail.yaml").write_bytes(b"recipe: 1 # \xe9")
    alone = Shelf([recipes], KINDS, tmp_path / "alone")
    monkeypatch.setattr(recipe_cache, "MANY", 5)
    together = Shelf([recipes], KINDS, tmp_path / "together")
    assert together.recipes == alone.recipes
    assert list(together.recipes) == list(alone.recipes)
    assert list(map(str, together.broken)) == list(map(str, alone.broken))
    assert len(together.broken) == 2
    kept = [(tmp_path / name / KEPT).read_bytes() for name in ("alone", "together")]
    assert kept[0] == kept[1]


@pytest.mark.parametrize(
    "harm",
    [
        lambda data: b"",
        lambda data: data[:-20],
        lambda data: data.replace(b"Sporelog", b"Sporelag"),
        lambda data: b"{}\n" + data,
        lambda data: b"\0" * len(data),
    ],
)
def test_a_damaged_index_is_made_anew(world: World, tmp_path: Path, harm: Any) -> None:
    recipes, cache = world.folder / "recipes", tmp_path / "cache"
    before = {id: one.outlines for id, one in Shelf([recipes], KINDS, cache).recipes.items()}
    kept = cache / KEPT
    kept.write_bytes(harm(kept.read_bytes()))
    damaged = Shelf([recipes], KINDS, cache)
    assert damaged.fresh == 12
    assert {id: one.outlines for id, one in damaged.recipes.items()} == before
    assert Shelf([recipes], KINDS, cache).fresh == 0


def test_an_index_that_cannot_be_kept_is_done_without(world: World, tmp_path: Path) -> None:
    cache = tmp_path / "cache"
    cache.write_text("a file is in its place")
    assert Shelf([world.folder / "recipes"], KINDS, cache).fresh == 12


def test_outlines_of_other_recipes_do_not_pile_up(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(kept, "OTHERS", 3)
    recipes, cache = world.folder / "recipes", tmp_path / "cache"
    for number in range(6):
        world.edit("recipes/huemoss.trail.yaml", lambda text, n=number: f"{text}# {n}\n")  # type: ignore[misc]
        Shelf([recipes], KINDS, cache)
    assert len(json.loads((cache / KEPT).read_bytes().partition(b"\n")[2])["values"]) == 12 + 3
    assert Shelf([recipes], KINDS, cache).fresh == 0


def _fill(folder: Path, cache: Path) -> int:
    return sum(Shelf([folder], KINDS, cache).fresh for _ in range(5))


def test_two_processes_may_keep_at_once(world: World, tmp_path: Path) -> None:
    cache, halves = tmp_path / "cache", [tmp_path / "a", tmp_path / "b"]
    for number, path in enumerate(sorted((world.folder / "recipes").glob("*.trail.yaml"))):
        halves[number % 2].mkdir(exist_ok=True)
        (halves[number % 2] / path.name).write_bytes(path.read_bytes())
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        made = pool.starmap(_fill, [(half, cache) for half in halves])
    assert all(number >= 6 for number in made)
    for half in halves:
        Shelf([half], KINDS, cache)
        assert Shelf([half], KINDS, cache).fresh == 0
    assert [path.name for path in cache.iterdir()] == [KEPT]


def test_a_broken_recipe_in_a_folder_is_told_and_the_others_go_on(world: World) -> None:
    recipes = world.folder / "recipes"
    (recipes / "broken.trail.yaml").write_text("recipe: 1\n")
    (recipes / "latin.trail.yaml").write_bytes(b"caf\xe9")
    ran = widetrail("survey", recipes, "--machine", world.new, "--json")
    assert ran.status == 1
    assert "broken.trail.yaml" in ran.err and "latin.trail.yaml" in ran.err
    assert len(ran.json["applications"]) == 12
    with pytest.raises(DocumentUnusable):
        Shelf([recipes / "broken.trail.yaml"], KINDS)
    with pytest.raises(InputUnusable, match="UTF-8"):
        Shelf([recipes / "latin.trail.yaml"], KINDS)
    (recipes / "second.trail.yaml").write_bytes((recipes / "huemoss.trail.yaml").read_bytes())
    with pytest.raises(InputUnusable, match="a second recipe for huemoss"):
        Shelf([recipes], KINDS)


# The command


def test_rows_for_a_spreadsheet_are_those_of_the_document(world: World) -> None:
    call = ("survey", world.folder / "recipes", "--machine", world.old)
    (world.old / "disks/C/Users/ines/Music").mkdir()
    (world.old / "disks/C/Users/ines/Music/=1+1, \udce9.mp3").write_text("x")
    told = widetrail(*call, "--json").json
    rows = list(csv.DictReader(io.StringIO(widetrail(*call, "--csv").out, newline="")))
    items = [i for a in told["applications"] for i in a["items"]]
    assert [int(r["files"]) for r in rows if r["what"] == "item"] == [i["files"] for i in items]
    mine = [
        (r["path"], int(r["bytes"]), r["looks like"]) for r in rows if r["what"] == "not covered"
    ]
    assert mine == [(g["path"], g["size"], g["looks like"]) for g in told["not covered"]]
    assert any(r["looks like"] == "sounds" for r in rows)


def test_the_survey_is_read_by_a_newcomer(world: World) -> None:
    call = ("survey", world.folder / "recipes", "--machine", world.old)
    ran = widetrail(*call)
    assert ran.status == 0
    for told in (
        "Quillbox 8.4",
        "excluded by the recipe: 2 files",
        "- Brackenwend: file not found: C:/Program Files/Brackenwend",
        "Not covered by any recipe: 11 files",
        "C:/Users/ines/Pictures/Plate scans",
        "all end in .png",
        "known to Tillbook",
        "not scanned: C:/Program Files",
    ):
        assert told in ran.out, told
    newest = widetrail(*call, "--newest", "--json").json["not covered"]
    assert [g["newest"] for g in newest] == sorted((g["newest"] for g in newest), reverse=True)
    claimed = widetrail(*call, "--covered")
    assert "Not covered by any recipe" not in claimed.out and "Quillbox 8.4" in claimed.out
    below = widetrail(*call, "--below", "C:/Users/ines/Pictures", "--json").json
    assert [g["path"] for g in below["not covered"]] == ["C:/Users/ines/Pictures/Plate scans"]


@pytest.mark.parametrize(
    ("below", "why"),
    [
        ("C:\\Nowhere", "nothing is there"),
        ("C:/Users/ines/../x", "must not contain"),
        ("Q:/", "disk not found"),
        ("C:/Program Files/Desk/desk.exe", "it is a file"),
    ],
)
def test_a_folder_that_is_none_is_refused(world: World, below: str, why: str) -> None:
    ran = widetrail("survey", world.recipe, "--machine", world.old, "--below", below)
    assert ran.status == 2
    assert why in ran.err


def test_without_recipes_all_is_unclaimed(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    ran = widetrail("survey", "--machine", world.new, "--json")
    assert (ran.status, ran.json["applications"]) == (0, [])
    assert len(ran.json["not covered"]) > 3
    assert widetrail("survey", tmp_path / "none", "--machine", world.new).status == 2


def test_this_machine_is_walked_for_real(world: World, own_home: Path) -> None:
    if sys.platform != "linux":
        pytest.skip("walks this Linux machine")
    home = own_home
    (home / "Pictures").mkdir(parents=True)
    (home / "Pictures/moss.jpg").write_bytes(b"\xff\xd8\xff")
    (home / ".config/frondsign").mkdir(parents=True)
    (home / ".config/frondsign/settings.toml").write_text("grid = 4\n")
    before = contents(home)
    ran = widetrail("survey", world.folder / "recipes", "--below", home, "--json")
    assert ran.status == 0, ran.err
    assert contents(home) == before
    assert f"{home}/Pictures" in {group["path"] for group in ran.json["not covered"]}
    here = {a["id"] for a in ran.json["applications"] if a["here"]}
    claimed = [r for r in ran.json["remains"] if r["id"] == "frondsign"]
    assert "frondsign" in here or [r["files"] for r in claimed] == [1]
