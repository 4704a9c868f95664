"""The whole trail by the command line: plan, walk, report, rehearse, and what bad input gets."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import bagit
import pytest

import build
from conftest import World, contents, kept_files, widetrail, without_state
from widetrail.machine import FolderMachine

ASIDE = "disks/C/Users/imarsh/AppData/Local/widetrail"


def screen(machine: Path) -> str:
    program = "C:/Program Files/Sporelog/sporelog.exe"
    done = FolderMachine(machine).start(program, ["list"])
    assert done.status == 0, done.errors
    return done.output


def packed(world: World) -> World:
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    return world


@pytest.fixture
def packed_world(world: World) -> World:
    return packed(world)


def test_the_program_shows_the_same_on_new(world: World) -> None:
    before = screen(world.old)
    assert before.startswith("Sporelog: 412 specimens, 9 shelves, 63 plates")
    packed(world)
    ran = world.walk(world.new)
    assert ran.status == 0
    assert "Move complete" in ran.out
    assert screen(world.new) == before


def test_nothing_of_the_persons_changes_on_old(world: World) -> None:
    before = contents(world.old)
    packed(world)
    world.walk(world.new)
    assert without_state(contents(world.old)) == before


def test_what_was_on_new_is_put_aside_whole(packed_world: World) -> None:
    there = contents(packed_world.new / "disks/C/Users/imarsh/Documents/Sporelog")
    packed_world.walk(packed_world.new)
    aside = list((packed_world.new / ASIDE).glob("*/aside/sporelog.collection"))
    assert [contents(path) for path in aside] == [there]


def test_names_times_and_modes_arrive(packed_world: World) -> None:
    old = packed_world.old / "disks/D/Herbarium/Sporelog"
    new = packed_world.new / "disks/C/Users/imarsh/Documents/Sporelog"
    packed_world.walk(packed_world.new)
    left = {"thumbs", "thumbs/0001.thumb", "specimens.db", "specimens.db-wal"}
    expected = {name: data for name, data in contents(old).items() if name not in left}
    arrived = contents(new)
    database = arrived.pop("specimens.db")  # it names plates that came along from elsewhere
    assert database.split()[1:] == contents(old)["specimens.db"].split()[1:]
    scans = contents(packed_world.old / "disks/C/Users/ines/Pictures/Plate scans")
    outside = {name: arrived.pop(f"outside/{name}") for name in scans}
    assert outside == scans
    arrived.pop("outside")
    assert arrived == expected
    assert "plates/シダ 01.png" in expected


def test_what_is_left_behind_is_told_with_its_remedy(packed_world: World) -> None:
    packed_world.walk(packed_world.new)
    report = widetrail("report", packed_world.parcel, "--json").json
    assert report["well"] is True
    assert [task["words"] for task in report["tasks"]] == [
        "the small pictures of the plates: Open each shelf once; Sporelog draws them again.",
        "the columns shown and their order: Choose them again under View, Columns.",
    ]
    checks = {c["name"]: (c["old"], c["new"], c["verdict"]) for c in report["items"][0]["checks"]}
    assert checks["specimens"] == (412, 412, "holds")
    assert checks["oldest"] == ("1986-05-14", "1986-05-14", "holds")


def test_the_report_is_a_page_too(packed_world: World, tmp_path: Path) -> None:
    packed_world.walk(packed_world.new)
    page = tmp_path / "report.html"
    assert widetrail("report", packed_world.parcel, "--page", page).status == 0
    text = page.read_text(encoding="utf-8")
    assert "Transferred and checked: 2 of 2 items. Left for you: 2 tasks." in text
    assert text.count('<input type="checkbox">') == 2
    assert "http:" not in text and "https:" not in text


def test_a_second_walk_of_a_finished_leg_changes_nothing(packed_world: World) -> None:
    before = contents(packed_world.folder)
    ran = packed_world.walk(packed_world.old)
    assert ran.status == 0
    assert "was walked on potting-shed before; nothing changed" in ran.out
    assert contents(packed_world.folder) == before
    packed_world.walk(packed_world.new)
    after = contents(packed_world.folder)
    assert packed_world.walk(packed_world.new, "--json").json["again"] is True
    assert contents(packed_world.folder) == after


def test_the_leg_of_another_machine_is_not_walked(world: World) -> None:
    world.plan()
    before = contents(world.folder)
    ran = world.walk(world.new)
    assert ran.status == 3
    assert "Take the parcel to potting-shed and walk there." in ran.err
    assert contents(world.folder) == before


def test_a_walk_needs_consent(world: World) -> None:
    world.plan()
    before = contents(world.folder)
    ran = widetrail("walk", world.parcel, "--machine", world.old)
    assert ran.status == 3
    assert "Copy sporelog.collection from D:/Herbarium/Sporelog into the parcel" in ran.err
    assert "consent is needed" in ran.err
    assert contents(world.folder) == before


def test_the_same_plan_on_two_runs(world: World) -> None:
    first = world.plan("--json").json
    shutil.rmtree(world.parcel)
    second = world.plan("--json").json
    assert first["id"] == second["id"]
    assert first["plan"] == second["plan"]
    assert str(world.folder) not in json.dumps(first["plan"])


def test_survey_tells_where_and_how_much(world: World) -> None:
    before = contents(world.folder)
    found = widetrail("survey", world.recipe, "--machine", world.old, "--json").json
    item = found["applications"][0]["items"][0]
    assert item["place"]["path"] == "D:/Herbarium/Sporelog"
    assert item["place"]["rule"] == "told"
    assert item["place"]["source"].endswith("sporelog.ini")
    assert item["place"]["line"] == 7
    assert (item["files"], item["checks"]["specimens"]["value"]) == (62, 412)
    assert contents(world.folder) == before


def test_the_parcel_is_a_bag_and_one_byte_matters_to_both(packed_world: World) -> None:
    bag = bagit.Bag(str(packed_world.parcel))
    bag.validate()
    segment = packed_world.parcel / "data/cargo/000001.tar"
    data = bytearray(segment.read_bytes())
    data[len(data) // 2] ^= 1
    segment.write_bytes(data)
    with pytest.raises(bagit.BagValidationError):
        bagit.Bag(str(packed_world.parcel)).validate()
    before = contents(packed_world.new)
    ran = packed_world.walk(packed_world.new)
    assert ran.status == 2
    assert f"{segment}: was damaged or changed" in ran.err
    assert contents(packed_world.new) == before


def test_tar_and_sha256sum_take_the_parcel_apart(packed_world: World, tmp_path: Path) -> None:
    for tool in ("tar", "sha256sum"):
        if shutil.which(tool) is None:
            pytest.skip(f"{tool} is not installed")
    subprocess.run(
        ["sha256sum", "--quiet", "-c", "manifest-sha256.txt"], cwd=packed_world.parcel, check=True
    )
    segment = packed_world.parcel / "data/cargo/000001.tar"
    subprocess.run(["tar", "-xf", segment, "-C", tmp_path], check=True)
    old = packed_world.old / "disks/D/Herbarium/Sporelog/plates"
    taken = tmp_path / "sporelog.collection/plates"
    assert {p.name: p.read_bytes() for p in taken.iterdir()} == {
        p.name: p.read_bytes() for p in old.iterdir()
    }


TOUCHED: dict[str, Callable[[Path], object]] = {
    "plan": lambda p: _flip(p / "data/plan.json"),
    "recipe": lambda p: _flip(p / "data/recipes/sporelog.trail.yaml"),
    "index": lambda p: _flip(next((p / "data/index").iterdir())),
    "logbook": lambda p: _flip(p / "logbook/000002.json"),
    "logbook gap": lambda p: (p / "logbook/000001.json").unlink(),
    "logbook gone": lambda p: shutil.rmtree(p / "logbook"),
    "segment gone": lambda p: (p / "data/cargo/000001.tar").unlink(),
    "segment short": lambda p: os.truncate(p / "data/cargo/000001.tar", 4096),
    "something more": lambda p: (p / "data/cargo/000002.tar").write_bytes(b"x"),
}


def _flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 3] ^= 4
    path.write_bytes(data)


@pytest.mark.parametrize("touch", TOUCHED.values(), ids=TOUCHED)
def test_a_touched_parcel_is_refused(packed_world: World, touch: Callable[[Path], object]) -> None:
    touch(packed_world.parcel)
    before = contents(packed_world.folder)
    ran = packed_world.walk(packed_world.new, "--json")
    assert ran.status == 2
    assert str(packed_world.parcel) in ran.json["error"]["where"]
    assert ran.json["error"]["what"]
    assert contents(packed_world.folder) == before


@contextmanager
def open_sporelog(machine: Path) -> Iterator[None]:
    here = FolderMachine(machine)
    command = [sys.executable, "-m", "widetrail_demo.sporelog.command", "open", "--for", "60"]
    environment = here.environment("C:/Program Files/Sporelog/sporelog.exe")
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        process.stdout.readline()
        try:
            yield
        finally:
            process.terminate()


@pytest.mark.parametrize("side", ["old", "new"])
def test_a_program_that_is_open_halts_the_walk(world: World, side: str) -> None:
    if side == "new":
        packed(world)
        machine = world.new
    else:
        assert world.plan().status == 0
        machine = world.old
    with open_sporelog(machine):
        before = contents(world.folder)
        ran = world.walk(machine)
        assert ran.status == 3
        assert f"Sporelog is open on {machine.name}" in ran.err
        assert "sporelog.lock is there" in ran.err
        assert "process" in ran.err
        assert contents(world.folder) == before
    assert world.walk(machine).status == 0


def test_a_medium_that_is_too_small_is_told_before(world: World) -> None:
    world.edit("media/usb-stick/medium.yaml", lambda s: s.replace("16 GiB", "64 KiB"))
    before = contents(world.folder)
    ran = world.plan()
    assert ran.status == 3
    assert "the medium the green memory stick is too small" in ran.err
    assert "Use a larger medium" in ran.err
    assert contents(world.folder) == before


def test_a_disk_of_new_that_is_too_full_is_told_before(world: World) -> None:
    path = "machines/glass-office/machine.yaml"
    full = "C: {free: 100 KiB, "
    world.edit(path, lambda s: s.replace("C: {", full))
    assert "the disk C: of glass-office is too full" in world.plan().err
    world.edit(path, lambda s: s.replace(full, "C: {"))
    packed(world)
    world.edit(path, lambda s: s.replace("C: {", full))
    before = contents(world.folder)
    ran = world.walk(world.new)
    assert (ran.status, "too full" in ran.err) == (3, True)
    assert contents(world.folder) == before


def test_a_told_folder_that_is_not_there_is_said_and_never_replaced_by_another(
    world: World,
) -> None:
    (world.old / "disks/C/Users/ines/Documents/Sporelog").mkdir()
    (world.old / "disks/D/Herbarium/Sporelog").rename(world.old / "disks/D/gone")
    before = contents(world.folder)
    ran = world.plan()
    assert ran.status == 3
    assert "D:/Herbarium/Sporelog" in ran.err
    assert "set in C:/Users/ines/AppData/Roaming/Sporelog/sporelog.ini, line 7" in ran.err
    assert contents(world.folder) == before


def test_settings_that_cannot_be_read_are_said_and_never_replaced_by_a_guess(
    world: World,
) -> None:
    settings = world.old / "disks/C/Users/ines/AppData/Roaming/Sporelog/sporelog.ini"
    settings.unlink()
    os.mkfifo(settings)
    ran = world.plan()
    assert ran.status == 3
    assert "sporelog.ini: is not a regular file" in ran.err


@pytest.mark.parametrize("option", ["--old", "--new"])
def test_a_machine_that_is_not_there(world: World, option: str) -> None:
    ran = world.plan(option, world.folder / "nowhere")
    assert ran.status == 2
    assert "nowhere: is not a folder machine: folder not found" in ran.err
    assert not world.parcel.exists()


def test_a_recipe_with_an_error_stops_the_plan(world: World) -> None:
    world.edit("recipes/sporelog.trail.yaml", lambda s: s.replace("items:", "itmes:"))
    ran = world.plan("--json")
    assert ran.status == 2
    findings = ran.json["error"]["findings"]
    assert {"unknown-key", "missing-key"} == {f["rule"] for f in findings}
    assert not world.parcel.exists()


def test_a_program_that_is_not_on_new_stops_the_plan(world: World) -> None:
    (world.new / "disks/C/Program Files/Sporelog/sporelog.exe").unlink()
    ran = world.plan()
    assert ran.status == 3
    assert "whole folder: it is not installed on the new computer" in ran.err
    assert "Install Sporelog on glass-office, start it once" in ran.err


def test_a_parcel_is_never_made_over_something(world: World) -> None:
    world.parcel.mkdir()
    (world.parcel / "photo.jpg").write_bytes(b"mine")
    ran = world.plan()
    assert ran.status == 2
    assert [p.name for p in world.parcel.iterdir()] == ["photo.jpg"]


def test_new_that_changed_is_planned_anew_shown_and_needs_consent_again(
    packed_world: World,
) -> None:
    moved = packed_world.new / "disks/C/Users/imarsh/AppData/Roaming/Sporelog/sporelog.ini"
    moved.write_text("[collection]\nfolder = D:\\Elsewhere\n")
    before = contents(packed_world.new)
    ran = packed_world.walk(packed_world.new)
    assert ran.status == 3
    assert "glass-office is no longer as planned" in ran.err
    assert "to: D:/Elsewhere (set in" in ran.err
    assert contents(packed_world.new) == before
    assert packed_world.walk(packed_world.new).status == 0
    assert (packed_world.new / "disks/D/Elsewhere/specimens.db").is_file()


def test_a_check_that_does_not_hold_ends_with_1(world: World) -> None:
    world.edit(
        "recipes/sporelog.trail.yaml",
        lambda s: s.replace('leave: "thumbs/**"', 'leave: ["plates/plate-02*", "thumbs/**"]'),
    )
    packed(world)
    ran = world.walk(world.new)
    assert ran.status == 1
    assert "plates: 60 on the old computer, 45 on the new computer" in ran.out
    assert widetrail("report", world.parcel).status == 1


@pytest.mark.sweep
def test_all_recipes_are_walked_with_every_act_of_a_person_answered_from_a_file(
    world: World,
) -> None:
    sides = ("--old", world.old, "--new", world.new, "--parcel", world.parcel)
    stays = ["--without", "trellisdesk.boxes"]  # with it the medium is taken away on new
    for licence in ("loamlens.licence", "mistvane.licence"):  # they need a sealed parcel
        stays += ["--without", licence]
    assert widetrail("plan", world.folder / "recipes", *sides, *stays).status == 0
    for machine in (world.old, world.new):
        here = ("walk", world.parcel, "--machine", machine, "--yes")
        ran = widetrail(*here, "--answers", world.folder / "recipes/answers.yaml")
        assert ran.status == 0, ran.out + ran.err
        assert "reed bunting" not in ran.out + ran.err
    report = widetrail("report", world.parcel, "--json").json
    assert {item["state"] for item in report["items"]} == {"carried"}
    assert len(report["items"]) == 19
    for account in ("office@marrowfield.example", "seeds@marrowfield.example"):
        quillbox = "C:/Program Files/Quillbox/quillbox.exe"
        assert FolderMachine(world.new).start(quillbox, ["password", account]).status == 0
    proved = world.walk(world.new, "--json").json["proved"]
    assert [p.rpartition(": ")[2] for p in proved] == ["the passwords of the accounts"]
    before = contents(world.folder)
    again = world.walk(world.new)
    assert "nothing changed" in again.out
    assert contents(world.folder) == before
    assert len(widetrail("report", world.parcel, "--json").json["ticked"]) == 1


def test_a_rehearsal_that_expects_otherwise_fails_with_the_difference(world: World) -> None:
    world.edit("recipes/sporelog.rehearsal.yaml", lambda s: s.replace("412", "411"))
    ran = widetrail("rehearse", world.folder / "recipes/sporelog.rehearsal.yaml", "--json")
    assert ran.status == 1
    (result,) = ran.json["rehearsals"]
    (told,) = result["differences"]
    assert told.pop("where").endswith("recipes/sporelog.trail.yaml:59:7")
    assert told == {
        "what": "collection.checks.specimens",
        "expected": "411",
        "found": "412 (412 on the old computer)",
    }


def test_a_rehearsal_sees_a_recipe_that_loses_something(world: World) -> None:
    world.edit(
        "recipes/sporelog.trail.yaml",
        lambda s: s.replace('take: "views/**"', 'take: "views/*2000*"'),
    )
    ran = widetrail("rehearse", world.folder / "recipes/sporelog.rehearsal.yaml")
    assert ran.status == 1
    assert "screen, line 2" in ran.out


def test_the_demo_ends_well_and_says_what_to_try(tmp_path: Path) -> None:
    ran = widetrail("demo", tmp_path / "demo")
    assert ran.status == 0, (ran.out[-1500:], ran.err)
    assert "all 432 lines are the same on both machines" in ran.out
    assert (tmp_path / "demo/report.html").is_file()
    again = widetrail("demo", tmp_path / "demo")
    assert again.status == 2
    licensed = tmp_path / "demo/recipes/loamlens.rehearsal.yaml"
    assert widetrail("rehearse", licensed).status == 0  # on machines that the demo left alone


def test_a_settled_parcel_holds_its_plan_and_logbook_and_no_cargo(packed_world: World) -> None:
    refused = widetrail("settle", "--parcel", packed_world.parcel, "--yes")
    assert (refused.status, "the cargo is still needed" in refused.err) == (3, True)
    packed_world.walk(packed_world.new)
    before = widetrail("report", packed_world.parcel, "--json").json
    shown = widetrail("settle", "--parcel", packed_world.parcel)
    assert (shown.status, "its cargo (" in shown.err) == (3, True)
    for _ in range(2):
        assert widetrail("settle", "--parcel", packed_world.parcel, "--yes").status == 0
        bagit.Bag(str(packed_world.parcel)).validate()
    left = [p.name for p in (packed_world.parcel / "data").rglob("*") if p.is_file()]
    assert sorted(left) == ["new.card.json", "plan.json", "sporelog.trail.yaml"]
    assert widetrail("report", packed_world.parcel, "--json").json == before
    assert "nothing changed" in packed_world.walk(packed_world.new).out


LIVE = """
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook, programs: {tac: tac}}
recognise: [{sign: {file: "{home}/fernbook.ini"}}]
places: {notes: {folder: "{home}/notes"}}
readings: {pages: {files: "{notes}"}}
items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {}}
    routes:
      - name: way
        legs:
          - old: [{run: [tac], stdin: 'reed, "bunting"', stdout: "{parcel}/said"}]
          - new: [copy]
"""


@pytest.mark.skipif(sys.platform != "linux", reason="walks this machine under Linux")
def test_this_machine_is_walked_undone_and_settled_for_real(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """From a folder machine to this one, with a program of the system's own."""
    home = tmp_path / "home"
    (home / "notes").mkdir(parents=True)
    (home / "notes/theirs.txt").write_text("there")
    (home / "fernbook.ini").write_text("")
    monkeypatch.setenv("HOME", str(home))
    for name in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"):
        monkeypatch.delenv(name, raising=False)
    old = build.machine(
        tmp_path / "old",
        files={"/home/ada/notes/one.txt": "one"},
        more="programs: [{path: /bin/tac, start: [tac]}]\n",
    )
    recipe = tmp_path / "fernbook.trail.yaml"
    recipe.write_text(LIVE)
    before = contents(home)
    parcel = tmp_path / "parcel"
    assert widetrail("plan", recipe, "--old", old.folder, "--parcel", parcel).status == 0
    assert widetrail("walk", parcel, "--machine", old.folder, "--yes", "--no-wait").status == 0
    (said,) = (parcel / "data/made/fernbook.notes").rglob("said")
    assert said.read_text() == 'reed, "bunting"\n'
    ran = widetrail("walk", parcel, "--yes", "--no-wait")
    assert (ran.status, "transferred: Fernbook: Notes, 1 file verified" in ran.out) == (0, True)
    assert [p.name for p in (home / "notes").iterdir()] == ["one.txt"]
    assert widetrail("undo", "--yes", "--no-wait").status == 0
    assert widetrail("settle", "--yes").status == 0
    assert kept_files(home) == {f".local/state/widetrail/recipes/{recipe.name}"}
    assert widetrail("forget", "--yes").status == 0
    now = contents(home)
    assert {name for name in now if name.startswith(".local")} == {".local", ".local/state"}
    assert {name: data for name, data in now.items() if not name.startswith(".local")} == before
