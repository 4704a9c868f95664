"""What the tool keeps on a computer is listed whole, and goes when a person says so."""

import json
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import World, contents, kept_files, of_the_person, widetrail
from seat_trail import SeatTrail
from widetrail import Forgetting, forget, open_machine
from widetrail.errors import Halted
from widetrail.machine.own_folders import own_cache, own_state


def test_a_machine_on_which_nothing_was_done_has_nothing(world: World) -> None:
    before = contents(world.old)
    ran = widetrail("forget", "--machine", world.old)
    assert (ran.status, ran.out) == (0, "Nothing is kept on potting-shed.\n")
    assert contents(world.old) == before


def test_what_is_needed_still_stays_until_a_person_says_otherwise(world: World) -> None:
    world.plan()
    world.walk(world.old)
    world.walk(world.new)
    before, persons = contents(world.new), of_the_person(world.new)
    ran = widetrail("forget", "--machine", world.new, "--yes")
    assert ran.status == 0
    assert "Kept on glass-office, since it is needed still" in ran.out
    assert "it can still be undone" in ran.out
    assert contents(world.new) == before
    ran = widetrail("forget", "--machine", world.new, "--needed-too")
    assert (ran.status, "add --yes" in ran.err) == (3, True)
    assert contents(world.new) == before
    ran = widetrail("forget", "--machine", world.new, "--needed-too", "--yes", "--json")
    told = json.loads(ran.out)
    assert told["stays"] == []
    assert {one["kind"] for one in told["removed"]} == {"run"}
    assert kept_files(world.new) == set()
    assert of_the_person(world.new) == persons
    assert widetrail("forget", "--machine", world.new).out == "Nothing is kept on glass-office.\n"
    assert widetrail("report", world.parcel).status == 0  # what is the person's stays


def test_a_run_that_was_settled_is_forgotten_already(world: World) -> None:
    world.plan()
    world.walk(world.old)
    world.walk(world.new)
    assert widetrail("settle", "--machine", world.new, "--yes").status == 0
    assert kept_files(world.new) == set()


def test_a_run_with_a_damaged_journal_can_be_forgotten(world: World) -> None:
    world.plan()
    world.walk(world.old)
    [journal] = [p for p in world.old.rglob("journal") if p.is_file()]
    journal.write_bytes(b"1 2 3\n" + journal.read_bytes())
    ran = widetrail("forget", "--machine", world.old, "--yes")
    assert "journal" in ran.out
    assert journal.exists()
    assert widetrail("forget", "--machine", world.old, "--yes", "--needed-too").status == 0
    assert not journal.exists()


@pytest.mark.skipif(sys.platform == "win32", reason="the home is told by HOME here")
def test_this_computer_forgets_recipes_marks_and_cache(
    world: World, own_home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(own_home / ".cache"))
    world.plan("--seal", "--answers", _answers(world))
    assert widetrail("survey", world.folder / "recipes", "--machine", world.old).status == 0
    (own_state() / "accepted-revisions.json").write_text('{"huemoss": 2}')
    (own_state() / "of-another-release").write_text("x")
    assert own_cache().is_dir()
    shown: list[str] = []
    machine = open_machine()
    with pytest.raises(Halted):
        forget(machine, lambda due: False)

    def may(due: Forgetting) -> bool:
        shown.extend(one.kind for one in due.away)
        return True

    done = forget(machine, may)
    assert sorted(shown) == ["cache", "other", "recipes", "revisions", "sealed"]
    assert done.stays == ()
    assert not own_state().exists()
    assert not own_cache().exists()


def _answers(world: World) -> Path:
    path = world.folder / "answers.yaml"
    path.write_text("parcel.seal: five words that nobody guesses\n")
    return path


def test_a_seat_on_its_way_is_not_forgotten(trails: Callable[..., SeatTrail]) -> None:
    trail = trails()
    trail.walk("old")
    machine = trail.machine("old")
    done = forget(machine, lambda due: True)
    assert {one.kind for one in done.stays} == {"run", "seats"}
    assert all(one.needed for one in done.stays)
    done = forget(machine, lambda due: True, needed_too=True)
    assert {one.kind for one in done.away} == {"run", "seats"}
    assert forget(machine, lambda due: False).away == ()
