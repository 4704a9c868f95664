"""What a person chooses: where an item goes, which of several is meant, and what is real."""

from pathlib import Path

import pytest

import build
from conftest import NOW, World, widetrail
from test_planning import MEDIUM, plan_of, recipe
from widetrail.errors import InputUnusable, Obstructed
from widetrail.finding import card_facts, make_card
from widetrail.machine import FolderMachine
from widetrail.planning import Choices, ChoiceWords, make_plan, offered, read_choices
from widetrail.recipe import Loaded
from widetrail.steps.write import WriteStep

SETTINGS = "/home/ada/.config/fernbook/settings.json"
TOLD = """
places:
  settings: {file: "{config}/fernbook/settings.json"}
  notes:
    folder: "{documents}/Notes"
    set_in: {json: "{settings}", at: /notes/folder, as: path}
  room:
    each: "{home}/rooms/*"
    pair: [in use, register]
  early: {first_of: ["{home}/early", "{home}/late"], else: "{home}/early"}
readings:
  pages: {files: "{notes}/*.txt"}
  lines: {files: "{room}/*.txt"}
  kinds: {json: "{notes}/kinds.json", at: /kinds, as: list}
  drafts: {files: "{early}"}
items:
  notes:
    title: Notes
    from: notes
    parts: {kind: kinds}
    checks: {pages: {}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
  rooms:
    title: Room
    from: room
    checks: {lines: {}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
  drafts:
    title: Drafts
    from: early
    optional: yes
    checks: {drafts: {}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
FILES = {
    "/home/ada/Documents/Notes/one.txt": "one",
    "/home/ada/Documents/Notes/kinds.json": '{"kinds": ["moss", "ferns, wet", "ferns"]}',
    "/home/ada/rooms/north/a.txt": "a",
    "/home/ada/rooms/south [2]/b.txt": "b",
    "/home/ada/early/x": "x",
    "/home/ada/late/y": "y",
    "/home/ada/late/z": "z",
}
Machines = tuple[FolderMachine, FolderMachine]


@pytest.fixture
def machines(tmp_path: Path) -> Machines:
    old = build.machine(tmp_path / "old", files=FILES, more="identity: one\n")
    there = {SETTINGS: '{"grid": 5}', "/home/eve/.config/x": "", "/home/ada/rooms/own/c.txt": "c"}
    return old, build.machine(tmp_path / "new", files=there, more="identity: two\n")


@pytest.fixture
def loaded() -> Loaded:
    return recipe(TOLD)


def chosen(loaded: Loaded, **words: list[str]) -> Choices:
    return read_choices([loaded], ChoiceWords(**{n: tuple(w) for n, w in words.items()}))  # type: ignore[arg-type]


def refused(machines: Machines, loaded: Loaded, choices: Choices) -> list[str]:
    with pytest.raises(Obstructed) as error:
        plan_of(machines, loaded, choices=choices)
    return [f"{one} {one.todo}" for one in error.value.obstacles]


NOTES = {"only": ["notes"]}


@pytest.mark.parametrize(
    ("text", "path"),
    [
        ("/srv/notes", "/srv/notes"),
        ("~/Fern notes", "/home/ada/Fern notes"),
        ("file:///srv/a%20b", "/srv/a b"),
        ("/srv/x/../notes=old", "/srv/notes=old"),
    ],
)
def test_an_item_goes_to_the_folder_that_was_chosen_and_its_program_is_told(
    machines: Machines, loaded: Loaded, text: str, path: str
) -> None:
    plan = plan_of(machines, loaded, choices=chosen(loaded, to=[f"notes={text}"], **NOTES))
    (item,) = plan.items
    assert (item.new_path, item.new_how) == (path, "the folder that was chosen")
    (told,) = [step for step in plan.steps if isinstance(step, WriteStep)]
    assert (told.file, told.at, told.value) == ("{settings}", "/notes/folder", path)
    new = [step for step in plan.steps if step.station == "new"]
    assert new[0] is told


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("srv", "is not an absolute path"),
        ("~eve/notes", "is in the home of another account"),
        ("/home/ada", "it is the home itself"),
        ("/dev/shm", "it is a device"),
        ("/home/ada/rooms", "own is there already, which is none of it"),
        ("/home/ada/fernbook.ini", "is a file, expected a folder"),
        ("/a\0b", "is not a path"),
    ],
)
def test_a_chosen_folder_is_judged_like_any_place(
    machines: Machines, loaded: Loaded, text: str, why: str
) -> None:
    (told,) = refused(machines, loaded, chosen(loaded, to=[f"notes={text}"], **NOTES))
    assert "fernbook.notes cannot be put there" in told
    assert why in told


def test_a_chosen_folder_is_no_place_of_another_item(machines: Machines, loaded: Loaded) -> None:
    (told,) = refused(
        machines,
        loaded,
        chosen(loaded, to=["notes=/home/ada/early/notes"], only=["notes", "drafts"]),
    )
    assert "fernbook.drafts comes to /home/ada/early" in told


def test_the_program_must_have_settings_to_be_told_in(machines: Machines, loaded: Loaded) -> None:
    machines[1].host(SETTINGS).unlink()
    (told,) = refused(machines, loaded, chosen(loaded, to=["notes=/srv/notes"], **NOTES))
    assert f"has no settings there yet ({SETTINGS}): start it once, close it" in told


def test_settings_that_are_only_changed_must_tell_a_folder_already(machines: Machines) -> None:
    told = recipe(
        TOLD.replace('json: "{settings}", at: /notes/folder', 'xml: "{settings}", at: /s/@notes')
    )
    machines[1].host(SETTINGS).write_text("<s/>")
    (why,) = refused(machines, told, chosen(told, to=["notes=/srv/notes"], **NOTES))
    assert f"{SETTINGS} has no folder set yet" in why
    machines[1].host(SETTINGS).write_text('<s notes="/home/ada/n"/>')
    plan = plan_of(machines, told, choices=chosen(told, to=["notes=/srv/notes"], **NOTES))
    assert plan.items[0].new_path == "/srv/notes"


def test_a_place_that_nothing_tells_cannot_be_chosen(machines: Machines, loaded: Loaded) -> None:
    (told,) = refused(machines, loaded, chosen(loaded, to=["drafts=/srv/x"], only=["drafts"]))
    assert "the recipe has no setting or step that makes Fernbook use it" in told


def test_a_folder_is_chosen_by_a_card_too_and_not_where_nothing_is_known_of_new(
    machines: Machines, loaded: Loaded
) -> None:
    old, new = machines
    choices = chosen(loaded, to=["notes=~/Fern"], **NOTES)
    card = card_facts(make_card(new, [loaded]), "card")
    plan = make_plan([loaded], old, card, MEDIUM, NOW, choices)
    assert plan.items[0].new_path == "/home/ada/Fern"
    assert plan.recipes[0].at == {"notes": "/home/ada/Fern"}
    with pytest.raises(Obstructed, match="the plan cannot be made") as error:
        make_plan([loaded], old, None, MEDIUM, NOW, choices)
    assert "the new computer was not seen" in str(error.value.obstacles[0])


def test_one_of_several_is_meant_by_its_name(machines: Machines, loaded: Loaded) -> None:
    def ids(**words: list[str]) -> list[str]:
        return [i.id for i in plan_of(machines, loaded, choices=chosen(loaded, **words)).items]

    north, south = "fernbook.rooms[north]", "fernbook.rooms[south [2]]"
    assert ids(only=["rooms"], real=["room=north"]) == [north, south]
    assert ids(only=["rooms[south [2]]"]) == [south]
    assert ids(only=["rooms"], without=["fernbook.rooms[north]"]) == [south]
    (told,) = refused(machines, loaded, chosen(loaded, only=["rooms[west]"]))
    assert "there is no fernbook.rooms[west]" in told
    assert north in told
    plan = plan_of(
        machines, loaded, choices=chosen(loaded, only=["rooms"], to=["rooms[south [2]]=/srv/[s]=x"])
    )
    assert [i.new_path for i in plan.items] == ["/home/ada/rooms/north", "/srv/[s]=x"]
    (told,) = refused(
        machines, loaded, chosen(loaded, only=["rooms"], to=["rooms[south [2]]=/dev/shm"])
    )
    assert f"{south} cannot be put there" in told and "it is a device" in told


def test_values_of_a_part_may_hold_commas(machines: Machines, loaded: Loaded) -> None:
    words = {"only": ["notes"], "choose": ["notes.kind=ferns, wet,moss"]}
    said = [o for o in refused(machines, loaded, chosen(loaded, **words)) if "transferred" in o]
    assert said, "a copy carries all of it, so nothing goes"
    (told,) = refused(machines, loaded, chosen(loaded, only=["notes"], choose=["notes.kind=fern"]))
    assert "there is no kind fern" in told


def test_which_of_several_is_real_is_told_and_can_be_said(
    machines: Machines, loaded: Loaded
) -> None:
    plan = plan_of(machines, loaded, choices=chosen(loaded, only=["drafts"]))
    assert plan.items[0].old_path == "/home/ada/early"
    (notice,) = plan.notices
    assert "/home/ada/early is taken as the real one, and /home/ada/late is there too" in notice
    assert "--real fernbook.early=/home/ada/late" in notice
    for said in ("late", "/home/ada/late"):
        plan = plan_of(
            machines, loaded, choices=chosen(loaded, only=["drafts"], real=[f"early={said}"])
        )
        assert (plan.items[0].old_path, plan.notices) == ("/home/ada/late", ())
        assert plan.recipes[0].real == {"early": said}
    (told,) = refused(machines, loaded, chosen(loaded, only=["drafts"], real=["early=older"]))
    assert '"older" is none of fernbook.early' in told
    assert "/home/ada/early, /home/ada/late" in told


def test_what_the_recipe_cannot_tell_is_offered(machines: Machines, loaded: Loaded) -> None:
    notes, rooms, drafts = offered([loaded], machines[0])
    assert notes.real == {"fernbook.early": ("/home/ada/early", "/home/ada/late")}
    assert (rooms.real, drafts.real) == ({}, {})
    assert (notes.movable, rooms.movable, notes.duplicates) == (True, False, ())


@pytest.mark.parametrize(
    "words",
    [
        {"to": ["notes"]},
        {"to": ["notes= "]},
        {"to": ["nots=/x"]},
        {"real": ["settings=x"]},
        {"real": ["nothing=x"]},
        {"routes": ["notes=copi"]},
        {"outside": ["notes=perhaps"]},
        {"duplicates": ["notes=twice"]},
        {"choose": ["notes.kind="]},
    ],
)
def test_what_chooses_nothing_is_refused(loaded: Loaded, words: dict[str, list[str]]) -> None:
    with pytest.raises(InputUnusable):
        chosen(loaded, **words)


def test_choices_come_back_from_the_parcel_as_they_were_said(loaded: Loaded) -> None:
    choices = chosen(loaded, to=["notes=/srv/n"], real=["early=late"], only=["rooms[north]"])
    assert choices.written().choices == choices


def test_a_folder_of_choice_is_walked_and_taken_back(world: World) -> None:
    sides: list[str | Path] = ["--old", world.old, "--new", world.new, "--parcel", world.parcel]
    settings = world.new / "disks/C/Users/imarsh/AppData/Roaming/Sporelog/sporelog.ini"
    before = settings.read_bytes()
    recipe = world.folder / "recipes/sporelog.trail.yaml"
    ran = widetrail("plan", recipe, *sides, "--to", "collection=D:\\Herbarium", "--details")
    assert "to: D:/Herbarium (the folder that was chosen)" in ran.out
    assert world.walk(world.old).status == 0
    assert world.walk(world.new).status == 0
    assert "folder = D:\\Herbarium\r\n" in settings.read_bytes().decode()
    assert (world.new / "disks/D/Herbarium/specimens.db").is_file()
    assert widetrail("undo", "--machine", world.new, "--yes").status == 0
    assert settings.read_bytes() == before
    assert not (world.new / "disks/D/Herbarium").exists()


def test_a_folder_of_choice_that_somebody_uses_meanwhile_is_left_alone(world: World) -> None:
    card = world.folder / "new.card.json"
    recipe = world.folder / "recipes/sporelog.trail.yaml"
    assert widetrail("card", recipe, "--machine", world.new, "--to", card).status == 0
    sides: list[str | Path] = ["--old", world.old, "--new", card, "--parcel", world.parcel]
    ran = widetrail("plan", recipe, *sides, "--to", "collection=D:\\Herbarium")
    assert ran.status == 0, ran.err
    assert world.walk(world.old).status == 0
    own = world.new / "disks/D/Herbarium/letters.txt"
    own.parent.mkdir()
    own.write_text("hers")
    ran = world.walk(world.new)
    assert "letters.txt is there already, which is none of it" in ran.out + ran.err
    assert own.read_text() == "hers"
    assert [path.name for path in own.parent.iterdir()] == ["letters.txt"]
