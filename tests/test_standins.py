"""The stand-ins are programs of their own: what they give out, they take in elsewhere."""

from pathlib import Path

import pytest

from conftest import World
from widetrail.machine import Completed, FolderMachine


def start(machine: Path, name: str, *arguments: str) -> Completed:
    here = FolderMachine(machine)
    program = next(p.path for p in here.file.programs if p.start[-1] == name)
    return here.start(program, arguments)


@pytest.fixture
def files(world: World) -> tuple[str, str]:
    """A folder that both machines see at D:/exchange, as a medium would be."""
    shared = world.folder / "exchange"
    shared.mkdir()
    for machine in (world.old, world.new):
        (machine / "disks/D/exchange").symlink_to(shared)
    return "D:/exchange/one", "D:/exchange/two"


def test_huemoss_palettes_are_seen_at_once(world: World, files: tuple[str, str]) -> None:
    assert start(world.old, "huemoss", "give", "--to", files[0]).output == "palettes: 6\n"
    assert start(world.new, "huemoss", "take", files[0]).output == "taken in: 6\n"
    palettes = [
        [line for line in start(m, "huemoss", "list").output.splitlines() if "#" in line]
        for m in (world.old, world.new)
    ]
    assert len(palettes[0]) == 6
    assert palettes[0] == palettes[1]


def test_tillbook_hands_over_what_is_in_use_only(world: World, files: tuple[str, str]) -> None:
    done = start(world.old, "tillbook", "hand-over", "--ledger", "Tea tent", "--to", files[0])
    assert done.status == 0
    assert "not in it: the printed forms" in done.output
    assert "check number: " in done.output
    late = start(
        world.old, "tillbook", "hand-over", "--ledger", "Plant sale 2009", "--to", files[1]
    )
    assert late.status == 1
    assert "is closed" in late.errors
    wrong = start(world.new, "tillbook", "receive", files[0], "--into", "D:/Sale/tea")
    assert "that is not the check number" in wrong.errors


def test_seedling_quest_takes_a_trail_in_only_when_signed_in(
    world: World, files: tuple[str, str]
) -> None:
    assert start(world.old, "seedling-quest", "give", "3a", "--to", files[0]).status == 0
    refused = start(world.new, "seedling-quest", "take", files[0], "--as", "3a")
    assert "sign in first" in refused.errors
    start(world.new, "seedling-quest", "sign-in", "imarsh")
    assert start(world.new, "seedling-quest", "take", files[0], "--as", "3a").status == 0
    listed = start(world.old, "seedling-quest", "list").output.splitlines()
    line = next(line for line in listed if line.startswith("  3a:"))
    assert line in start(world.new, "seedling-quest", "list").output.splitlines()


def test_sporelog_archives_need_a_late_enough_release(world: World, files: tuple[str, str]) -> None:
    refused = start(world.old, "sporelog", "archive", "--to", files[0])
    assert "archives need release 5.4" in refused.errors
    (world.old / "disks/C/Program Files/Sporelog/release.txt").write_text("5.4\n")
    assert "for a sole curator" in start(world.old, "sporelog", "archive", "--to", files[0]).errors
    assert start(world.old, "sporelog", "curator", "begin").status == 0
    assert start(world.old, "sporelog", "archive", "--to", files[0]).output == "specimens: 412\n"
    assert start(world.old, "sporelog", "curator", "end").status == 0
    assert "say --replace" in start(world.new, "sporelog", "take-in", files[0]).errors
    assert start(world.new, "sporelog", "take-in", files[0], "--replace").status == 0
    shown = [start(m, "sporelog", "list").output.splitlines()[2:] for m in (world.old, world.new)]
    assert shown[0] == shown[1]


def test_quillbox_exports_are_sealed_and_duplicates_are_a_choice(world: World) -> None:
    from widetrail_demo.quillbox import exchange, store

    def room(machine: Path, folder: str) -> Path:
        homes = next((machine / "disks/C/Users").iterdir())
        return homes / "AppData/Roaming/Marram/Quillbox/rooms" / folder

    source = store.open_letters(room(world.old, "garden-post"))
    data = exchange.export_room(source, ["letters", "contacts"], "reed bunting")
    assert b"grower" not in data
    target = store.open_letters(room(world.new, "first"))
    with pytest.raises(exchange.WrongPassphrase):
        exchange.import_room(target, data, "reed warbler", "skip")
    first = exchange.import_room(target, data, "reed bunting", "skip")
    assert first == {"letters": 230, "contacts": 57}
    again = exchange.import_room(target, data, "reed bunting", "skip")
    assert again == {"letters": 0, "contacts": 0}
    twice = exchange.import_room(target, data, "reed bunting", "keep")
    assert twice == {"letters": 230, "contacts": 57}
    with target:
        target.execute("delete from contact")
        target.execute("insert into contact (name, address) values ('Grower 3', 'own@fen.example')")
    told = "select address from contact where name = 'Grower 3' order by address"
    for way, found in (
        ("skip", ["own@fen.example"]),
        ("replace", ["grower3@fen.example"]),
        ("keep", ["grower3@fen.example", "grower3@fen.example"]),
    ):
        exchange.import_room(target, data, "reed bunting", way)
        assert [address for (address,) in target.execute(told)] == found
    source.close()
    target.close()


def test_the_desk_shows_pointer_strip_and_sign_in(world: World) -> None:
    assert "Pointer: speed 8, left-handed yes" in start(world.old, "desk", "list").output
    start(world.new, "desk", "sign-in", "imarsh")
    assert "Signed in: imarsh" in start(world.new, "desk", "list").output
