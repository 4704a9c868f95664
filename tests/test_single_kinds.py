"""Single kinds of steps, each with the fakes of what it declares: no parcel and no machine file."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import get_type_hints

import pytest

from widetrail.errors import Waiting
from widetrail.finding import Known, Unknown
from widetrail.licence.seat_events import Begin, Seat
from widetrail.machine import Completed
from widetrail.steps import ACTS, Done, Failed, Noted, OfSeat, Waits
from widetrail.steps.check import Checks, CheckStep
from widetrail.steps.contexts import (
    Cargo,
    Everything,
    Evidence,
    Licences,
    OfItem,
    Paths,
    People,
    Programs,
    Work,
)
from widetrail.steps.detach import Detach, DetachStep
from widetrail.steps.journal_events import Moves
from widetrail.steps.note import Note, NoteFacts, NoteStep
from widetrail.steps.pack import Pack, PackFacts, PackStep
from widetrail.steps.person import Person, PersonStep
from widetrail.steps.person_settings import PersonSettings
from widetrail.steps.publish import Publish
from widetrail.steps.publish_step import PublishFacts, PublishStep
from widetrail.steps.remnants import Remnants, RemnantsStep
from widetrail.steps.remove import Remove, RemoveStep
from widetrail.steps.retire import Retire, retire_step
from widetrail.steps.run import Run
from widetrail.steps.run_events import RunBegun, RunStarted
from widetrail.steps.run_settings import RunSettings
from widetrail.steps.run_step import RunFacts, RunStep
from widetrail.steps.seat import SeatActs
from widetrail.steps.seat_step import SeatStep
from widetrail.steps.wait import Wait, WaitStep
from widetrail.steps.wait_settings import WaitSettings
from widetrail.steps.write import Write, WriteStep
from widetrail.testing.fake_programs import FakeCargo, FakePeople, FakePrograms
from widetrail.testing.fake_seat import FakeLicences, FakeSeat
from widetrail.testing.fakes import FakeEvidence, FakeItem, FakePaths, FakeWork
from widetrail.testing.temp_machine import RECIPE, TempMachine

CONTEXTS = (Work, OfItem, Evidence, Paths, Programs, Cargo, People, Licences)
CHECKED = RECIPE.replace("from: notes,", "from: notes, checks: {pages: {compare: same}},").replace(
    "items:", 'readings: {pages: {files: "{notes}"}}\nitems:'
)


@dataclass(kw_only=True)
class All(
    FakeWork,
    FakeItem,
    FakeEvidence,
    FakePaths,
    FakePrograms,
    FakeCargo,
    FakePeople,
    FakeLicences,
):
    """Every fake at once, to see that there is one of each context."""


@dataclass(kw_only=True)
class Here(FakeWork, FakeItem):
    """A machine and an item on it."""


@dataclass(kw_only=True)
class Judged(FakeWork, FakeItem, FakeEvidence):
    """And what shows whether it arrived."""


@dataclass(kw_only=True)
class Carried(FakeWork, FakeItem, FakeCargo, FakePeople, FakePaths):
    """And the parcel, with a person."""


@dataclass(kw_only=True)
class Running(FakeWork, FakeItem, FakeEvidence, FakePrograms, FakePeople, FakeLicences):
    """And its programs."""


@pytest.fixture
def machine(tmp_path: Path) -> TempMachine:
    """A machine with one note."""
    here = TempMachine(tmp_path)
    here.host("/home/ada/notes").mkdir(parents=True)
    here.host("/home/ada/notes/one.txt").write_text("one\n")
    return here


def members(context: type) -> set[str]:
    return {name for name in vars(context) if not name.startswith("_")}


def test_contexts_are_small_and_a_kind_declares_those_that_it_takes(machine: TempMachine) -> None:
    everything: Everything = All(machine=machine)
    assert [n for c in CONTEXTS for n in members(c) if not hasattr(everything, n)] == []
    sizes = {context.__name__: len(members(context)) for context in CONTEXTS}
    assert max(sizes.values()) <= 15 and sum(sizes.values()) == 58
    taken = {}
    for name, act in ACTS.items():
        declared = get_type_hints(type(act).do)["doing"]
        taken[name] = [c.__name__ for c in CONTEXTS if c in declared.__mro__]
    assert taken["note"] == ["OfItem"]
    assert taken["retire"] == ["Work", "OfItem", "Evidence"]
    assert all(0 < len(some) < len(CONTEXTS) for some in taken.values())


def test_note_and_check(machine: TempMachine) -> None:
    note = NoteStep(id="n", station="old", item="i", readings=("pages", "lost"))
    done = Note().do(note, FakeItem(machine=machine, recipe=CHECKED, answers={"pages": Known(3)}))
    assert isinstance(done.facts, NoteFacts)
    assert done.facts.readings == {"pages": Noted(value=3), "lost": Noted(unknown="not said")}
    check = CheckStep(id="c", station="new", item="i", readings={"pages": "same"})
    given = Judged(
        machine=machine, recipe=CHECKED, answers={"pages": Known(3)}, notes=done.facts.readings
    )
    assert isinstance(Checks().do(check, given), Done)
    given.answers = {"pages": Known(2)}
    failed = Checks().do(check, given)
    assert (
        isinstance(failed, Failed)
        and failed.reason == "pages: 3 on the old computer, 2 on the new computer"
    )
    given.answers = {"pages": Unknown("gone")}
    assert isinstance(Checks().do(check, given), Failed)


def test_retire_renames_what_arrived_and_keeps_what_did_not(machine: TempMachine) -> None:
    step, place = retire_step("i", "/home/ada/notes", "office", ()), "/home/ada/notes"
    kept = Retire().do(step, Judged(machine=machine, came=False))
    assert isinstance(kept, Failed) and machine.look(place) is not None
    given = Judged(machine=machine)
    done = Retire().do(step, given)
    assert done.facts.plain() == {"renamed": f"{place} (moved to office)"}
    assert machine.look(place) is None
    assert [type(r) for r in given.journal] == [Moves]
    assert Retire().do(step, given) == done  # again, after a walk that was cut off


def test_nothing_is_changed_while_the_program_is_open(machine: TempMachine) -> None:
    given = Judged(machine=machine, signs="lock is there")
    with pytest.raises(Waiting, match="lock is there"):
        Retire().do(retire_step("i", "/home/ada/notes", "office", ()), given)
    assert machine.look("/home/ada/notes") is not None and given.journal == []


def test_remove_takes_away_only_what_this_run_put_there(machine: TempMachine) -> None:
    path = "/home/ada/notes/one.txt"
    step = RemoveStep(id="r", station="new", item="i", path=path)
    assert isinstance(Remove().do(step, Here(machine=machine)), Failed)
    given = Here(machine=machine, put_here=("/home/ada/notes",))
    (aside,) = Remove().do(step, given).facts.backed_up
    assert machine.look(path) is None
    assert machine.read(aside) == b"one\n"


def test_write_changes_one_value_and_keeps_the_file_that_was(machine: TempMachine) -> None:
    machine.host("/home/ada/a.ini").write_text("; mine\n[a]\nk = 1\n")
    step = WriteStep(
        id="w", station="new", item="i", form="ini", file="/home/ada/a.ini", at="a/k", value="{v}"
    )
    given = Here(machine=machine, values={"v": "2"})
    (aside,) = Write().do(step, given).facts.backed_up
    assert machine.read("/home/ada/a.ini") == b"; mine\n[a]\nk = 2\n"
    assert machine.read(aside) == b"; mine\n[a]\nk = 1\n"
    gone = step.model_copy(update={"id": "x", "file": "/home/ada/b.ini"})
    assert isinstance(Write().do(gone, given), Failed)


def test_pack_and_publish(machine: TempMachine) -> None:
    machine.host("/home/ada/notes/pipe").symlink_to("one.txt")
    given = Carried(machine=machine)
    pack = PackStep(id="p", station="old", item="i", source="/home/ada/notes")
    packed = Pack().do(pack, given)
    assert packed.facts == PackFacts(files=1, size=4, links=1)
    assert given.files["i", "one.txt"] == b"one\n"
    given.place = "/home/ada/new"
    step = PublishStep(id="q", station="new", item="i", target="/home/ada/new", existing="back up")
    done = Publish().do(step, given)
    assert isinstance(done.facts, PublishFacts)
    assert (done.facts.files, done.facts.verified, done.facts.to) == (1, 1, "/home/ada/new")
    assert machine.read("/home/ada/new/one.txt") == b"one\n"
    machine.host("/home/ada/new/own.txt").write_text("own")
    again = Publish().do(step.model_copy(update={"id": "again"}), given)
    (aside,) = again.facts.backed_up
    assert machine.read(f"{aside}/own.txt") == b"own"


def test_remnants_are_found_with_their_place(machine: TempMachine) -> None:
    given = Carried(machine=machine, here=[("/home/ada/notes", ["one.txt"])])
    given.recipe = RECIPE.replace("from: notes,", "from: notes, kind: settings,")
    step = RemnantsStep(id="m", station="new", item="i")
    assert isinstance(Remnants().do(step, given), Done)
    machine.host("/home/ada/notes/one.txt").write_text("a\nlast=/home/old/x\n")
    failed = Remnants().do(step, given)
    assert isinstance(failed, Failed)
    assert failed.facts.plain()["remnants"] == ["/home/ada/notes/one.txt:2: last=/home/old/x"]


def test_wait_is_done_once_its_readings_hold(machine: TempMachine) -> None:
    settings = WaitSettings.model_validate({"wait": {"pages": {"at_least": "2"}}})
    step = WaitStep(id="w", station="new", item="i", number=1, until=("x",), within="1 min")
    given = Judged(
        machine=machine, recipe=CHECKED, settings_of=settings, answers={"pages": Known(1)}
    )
    with pytest.raises(Waiting, match="pages must be at least 2, but is 1"):
        Wait().do(step, given)
    given.answers = {"pages": Known(2)}
    assert Wait().do(step, given).facts.plain() == {"readings": {"pages": "2"}}


def run_of(settings: RunSettings, **more: object) -> RunStep:
    own = {"command": settings.run, "within": "1 min", "repeat": settings.repeat}
    return RunStep.model_validate({"id": "r", "station": "old", "item": "i", **own, **more})


def test_run_judges_how_a_command_ended_and_what_it_made(machine: TempMachine) -> None:
    settings = RunSettings.model_validate({"run": ("fernbook", "give"), "makes": "{parcel}/x"})
    step = run_of(settings, number=1, writes=("/state/run/made/x",))

    def give(command: Sequence[str]) -> Completed:
        machine.host("/state/run/made/x").write_text("given")
        return Completed(0, "", "")

    given = Running(machine=machine, settings_of=settings, play=give)
    done = Run().do(step, given)
    assert done.facts == RunFacts(status=0, made=("x",))
    assert (given.ran, given.kept) == ([("fernbook", "give")], ["x"])
    assert Run().do(step, given).facts.made == ("x",)  # it is known, and not run again
    assert len(given.ran) == 1
    failing = Running(
        machine=machine, settings_of=settings, play=lambda c: Completed(3, "", "no ink")
    )
    failed = Run().do(step, failing)
    assert isinstance(failed, Failed)
    assert failed.reason == "its exit status is 3, expected 0; its output: no ink"
    assert machine.look("/state/run/made/x") is None


def test_a_run_whose_end_is_not_known_is_asked_about(machine: TempMachine) -> None:
    settings = RunSettings.model_validate({"run": ("fernbook", "give")})
    step = run_of(settings, number=1)
    given = Running(machine=machine, settings_of=settings)
    given.record(RunBegun(step="r"))
    given.record(RunStarted(step="r", pid=1, started=0.0))
    with pytest.raises(Waiting, match="how fernbook give ended is not known"):
        Run().do(step, given)
    given.replies = {"r": "done"}
    assert Run().do(step, given).facts.plain() == {"resumed": "person"}
    assert given.ran == []


def test_person_is_asked_unless_readings_show_it(machine: TempMachine) -> None:
    settings = PersonSettings.model_validate({"person": "Look", "name": "look"})
    step = PersonStep(id="p", station="new", item="i", number=1, task="Look at {where}")
    given = Running(machine=machine, settings_of=settings, values={"where": "it"}, does=False)
    with pytest.raises(Waiting, match="Look at it"):
        Person().do(step, given)
    given.does = True
    assert isinstance(Person().do(step, given), Done)
    assert [task.words for task in given.tasks] == ["Look at it"] * 2
    shown = PersonSettings.model_validate({"person": "Look", "proof": {"pages": {"at_least": "1"}}})
    given = Running(machine=machine, recipe=CHECKED, settings_of=shown, answers={"pages": Known(1)})
    assert Person().do(step, given).facts.plain() == {"shown": "before", "readings": ["pages"]}
    assert given.tasks == []


def test_detach_waits_until_the_medium_is_gone(machine: TempMachine) -> None:
    step = DetachStep(id="d", station="new", item="i")
    given = Carried(machine=machine, medium_is_there="the medium is still connected", does=False)
    with pytest.raises(Waiting, match="Remove the medium"):
        Detach().do(step, given)
    given.medium_is_there = ""
    assert Detach().do(step, given).facts.plain() == {"parcel": "/state/run/parcel"}


def test_the_acts_of_a_seat_go_by_its_rules(machine: TempMachine) -> None:
    step = SeatStep(
        id="s", station="old", item="i", act="begin", words="x", seat=OfSeat(purpose="release")
    )
    given = Running(machine=machine, seats=FakeSeat(seat=Seat("verified")))
    done = SeatActs().do(step, given)
    assert done.facts.seat is not None and done.facts.seat.stage == "verified"
    assert given.seats.events == [Begin("release", "active")]
    end = step.model_copy(update={"act": "end"})
    with pytest.raises(Waiting, match="whether the seat of Fernbook is released"):
        SeatActs().do(end, given)
    given.seats.says = "not"
    assert SeatActs().do(end, given).facts.seat is not None
    assert given.seats.seat.stage == "released"


def test_outcomes_say_whether_they_are_good() -> None:
    assert [o.well for o in (Done(PackFacts()), Failed("x", "y"), Waits("x", "y"))] == [
        True,
        False,
        False,
    ]
