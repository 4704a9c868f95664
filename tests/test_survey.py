"""``widetrail survey`` and ``widetrail card`` on the demo's machines and on this one."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import World, contents, widetrail
from widetrail.machine import FolderMachine


def applications(world: World, machine: str, *more: str) -> dict[str, Any]:
    folder = world.folder / "recipes"
    ran = widetrail("survey", folder, "--machine", world.machine(machine), "--json", *more)
    assert ran.status == 0, ran.err
    return {a["id"]: a for a in ran.json["applications"]}


def checks(item: dict[str, Any]) -> dict[str, Any]:
    return {name: answer.get("value") for name, answer in item["checks"].items()}


OLD_DESK = {
    "loamlens": "4.2",
    "mistvane": "2.0",
    "trellisdesk": "5.3",
    "desk": None,
    "dewcast": "2.4",
    "frondsign": "3.9",
    "huemoss": "2.6",
    "quillbox": "8.4",
    "seedling-quest": "3.0",
    "sporelog": "5.2",
    "tillbook": "6.1",
}
NEW_DESK = {
    "loamlens": "4.6",
    "mistvane": "2.1",
    "trellisdesk": "6.0",
    "desk": None,
    "dewcast": "2.6",
    "huemoss": "3.2",
    "quillbox": "9.1",
    "seedling-quest": "3.1",
    "sporelog": "5.4",
    "tillbook": "6.4",
}


SEED_VAULT = {
    "brackenwend": "11.2",
    "desk": None,
    "dewcast": "2.5",
    "frondsign": "3.8.1",
    "quillbox": "8.2",
}
GATEHOUSE = {
    "brackenwend": None,
    "desk": None,
    "dewcast": "2.6",
    "frondsign": None,
    "quillbox": "9.0-lts",
}


@pytest.mark.parametrize(
    ("machine", "here"),
    [
        ("potting-shed", OLD_DESK),
        ("glass-office", NEW_DESK),
        ("seed-vault", SEED_VAULT),
        (
            "herbarium-loft",
            {"brackenwend": "12.0.1", "desk": None, "frondsign": "4.1", "quillbox": "9.1"},
        ),
        ("gatehouse", GATEHOUSE),
        ("bothy", {"desk": None, "frondsign": None}),
    ],
)
def test_what_is_on_each_machine_of_the_garden(
    world: World, machine: str, here: dict[str, str | None]
) -> None:
    before = contents(world.folder)
    found = applications(world, machine)
    assert {a: f["installation"]["release"] for a, f in found.items() if f["here"]} == here
    assert contents(world.folder) == before


def test_each_real_mailroom_is_told_and_the_empty_one_passed_over(world: World) -> None:
    quillbox = applications(world, "potting-shed")["quillbox"]
    rooms = {item["instance"]: item for item in quillbox["items"]}
    assert {name: item["in use"] for name, item in rooms.items()} == {
        "Garden post": True,
        "Plant sale": False,
    }
    letters = rooms["Garden post"]["checks"]["letters"]
    assert letters["by"] == "account"
    counted = {n: a["value"] for n, a in letters["answers"].items()}
    assert counted == {"office@marrowfield.example": 118, "seeds@marrowfield.example": 112}
    (passed,) = quillbox["places"]["mailroom"]["skipped"]
    assert passed["path"].endswith("/rooms/empty")
    assert passed["reason"] == "it holds no letters.db"


def test_the_folder_that_one_release_named_anew(world: World) -> None:
    found = applications(world, "seed-vault")["frondsign"]
    assert found["places"]["signs"]["path"] == "/Users/tomas/Documents/Frondsign/Labels"
    path = world.machine("seed-vault") / "disks/root/Applications/Frondsign.app/Contents/Info.plist"
    path.write_bytes(path.read_bytes().replace(b"3.8.1", b"4.0.0"))
    found = applications(world, "seed-vault")["frondsign"]
    assert found["places"]["signs"]["path"] == "/Users/tomas/Documents/Frondsign/Signs"
    assert found["places"]["signs"]["there"] is False


@pytest.mark.parametrize(
    ("machine", "source", "path"),
    [
        ("potting-shed", "settings.xml", "D:/Herbarium/Labels"),
        ("herbarium-loft", "example.fernlight.frondsign.plist", "/Users/tomasv/Signs for beds"),
        ("gatehouse", "settings.toml", "/home/piet/Schilder"),
    ],
)
def test_where_the_settings_of_each_platform_tell_it(
    world: World, machine: str, source: str, path: str
) -> None:
    found = applications(world, machine)["frondsign"]["places"]["signs"]
    assert (found["path"], found["rule"]) == (path, "told")
    assert found["source"].endswith(source)


def test_the_counts_are_those_the_programs_print(world: World) -> None:
    for name in ("potting-shed", "seed-vault", "gatehouse"):
        here = FolderMachine(world.machine(name))
        found = applications(world, name)
        program = {p.start[-1]: p.path for p in here.file.programs}
        signs = here.start(program["frondsign"], ["list"])
        assert signs.output.startswith(
            f"Frondsign: {checks(found['frondsign']['items'][0])['signs_there']} signs"
        ), signs.errors
        for item in found["quillbox"]["items"]:
            answers = item["checks"]["letters"]["answers"]
            printed = here.start(program["quillbox"], ["list"]).output
            for account, answer in answers.items():
                assert f"  {account}: {answer['value']} letters\n" in printed


def test_a_program_that_is_open_is_surveyed_all_the_same(world: World) -> None:
    here = FolderMachine(world.machine("gatehouse"))
    command = [sys.executable, "-m", "widetrail_demo.quillbox.command", "open", "--for", "60"]
    before = applications(world, "gatehouse")["quillbox"]["items"]
    environment = here.environment("/opt/quillbox/quillbox")
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        process.stdout.readline()
        during = applications(world, "gatehouse")["quillbox"]["items"]
        process.terminate()
    assert [checks(i) for i in during] == [checks(i) for i in before]


def test_programs_are_asked_only_with_consent(world: World) -> None:
    recipe = world.folder / "recipes/frondsign.trail.yaml"
    call: list[str | Path] = [
        "survey",
        recipe,
        "--machine",
        world.machine("gatehouse"),
        "--ask-programs",
    ]
    refused = widetrail(*call)
    assert refused.status == 3
    assert "- /opt/frondsign/frondsign --release (in an empty home)" in refused.err
    before = contents(world.folder)
    asked = widetrail(*call, "--yes")
    assert asked.status == 0
    assert "Frondsign 4.1" in asked.out
    assert contents(world.folder) == before
    silent = widetrail(*call[:-1])
    assert "only `frondsign --release` prints it; add --ask-programs" in silent.out


def test_one_broken_thing_is_said_and_the_rest_goes_on(world: World) -> None:
    home = world.machine("seed-vault") / "disks/root/Users/tomas"
    (home / "Library/Application Support/Brackenwend/readers.yaml").write_text("readers: [")
    (home / "Documents/Frondsign/Labels/caf\udce9.sign").mkdir()
    database = home / "Library/Application Support/quillbox/rooms/seed-exchange/letters.db"
    database.write_bytes(b"no database")
    ran = widetrail("survey", world.folder / "recipes", "--machine", world.machine("seed-vault"))
    assert ran.status == 0
    assert "readers.yaml is not yaml" in ran.out
    assert "signs_there: 14" in ran.out
    assert "accounts: unknown" in ran.out
    assert "pictures: 29" in ran.out


def test_this_machine_is_surveyed_for_real(
    world: World, own_home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if sys.platform != "linux":
        pytest.skip("runs a stand-in on this Linux machine")
    home, installed = own_home, tmp_path / "installed/quillbox"
    installed.parent.mkdir()
    installed.write_text(f'#!/bin/sh\nexec {sys.executable} -P -m widetrail_demo quillbox "$@"\n')
    installed.chmod(0o755)
    monkeypatch.setenv("PATH", os.pathsep.join([str(installed.parent), os.defpath]))
    subprocess.run(["quillbox", "receive", "me@moss.example", "Hello"], check=True)
    subprocess.run(["quillbox", "receive", "me@moss.example", "Again"], check=True)
    before = contents(home)
    ran = widetrail("survey", world.folder / "recipes/quillbox.trail.yaml", "--json")
    (item,) = ran.json["applications"][0]["items"]
    assert item["place"]["path"] == f"{home}/.config/quillbox/rooms/first"
    assert item["checks"]["letters"]["answers"] == {
        "me@moss.example": {
            "value": 2,
            "source": f"{home}/.config/quillbox/rooms/first/letters.db",
            "line": None,
        }
    }
    assert contents(home) == before


def test_an_account_that_is_not_the_machines_is_refused(world: World) -> None:
    ran = widetrail("survey", world.recipe, "--machine", world.old, "--account", "tomas")
    assert ran.status == 2
    assert "the account of potting-shed is ines" in ran.err


def test_a_card_tells_where_things_would_go(world: World, tmp_path: Path) -> None:
    to = tmp_path / "glass.card.json"
    call: list[str | Path] = ["card", world.folder / "recipes", "--machine", world.new, "--to", to]
    ran = widetrail(*call, "--json")
    assert ran.status == 0
    facts = ran.json["facts"]
    assert (facts["machine"], facts["platform"], facts["user"]) == (
        "glass-office",
        "windows",
        "imarsh",
    )
    found = {a["id"]: a for a in facts["applications"]}
    assert found["frondsign"]["installations"] == []
    assert found["sporelog"]["installations"][0]["release"] == "5.4"
    path = found["sporelog"]["places"]["collection"]["path"]
    assert path == "C:/Users/imarsh/Documents/Sporelog"
    assert str(world.folder) not in to.read_text()
    assert widetrail(*call).status == 2


def test_a_card_that_was_changed_is_told(world: World, tmp_path: Path) -> None:
    from widetrail.errors import InputUnusable
    from widetrail.finding import read_card

    to = tmp_path / "card.json"
    widetrail("card", world.recipe, "--machine", world.new, "--to", to)
    facts = read_card(to)
    assert facts.user == "imarsh"
    to.write_text(to.read_text().replace("imarsh", "ines"))
    with pytest.raises(InputUnusable, match="the card was changed"):
        read_card(to)
    for broken in ("", "[]", '{"card": 2}', json.dumps({"card": 1, "facts": {}})):
        to.write_text(broken)
        with pytest.raises(InputUnusable, match="is not a card"):
            read_card(to)


def test_old_and_new_must_be_two_machines(world: World) -> None:
    ran = world.plan("--new", world.old)
    assert ran.status == 2
    assert "old and new are one machine" in ran.err
