"""Doing every kind of step: real processes and files, and what comes of misbehaving programs."""

import base64
import html
import json
import os
import pty
import shlex
import subprocess
import sys
import time
import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from urllib.parse import quote, quote_plus

import pytest

from build import NOW, PROGRAM, TRAIL_HEAD, Trail, item, outcomes, trail
from conftest import Stopped, contents, widetrail
from widetrail.errors import Halted, InputUnusable, Obstructed, Waiting
from widetrail.formats.masking import Masker
from widetrail.machine import Effects, FolderMachine, processes
from widetrail.machine.process_start import Start
from widetrail.recipe import Station, load_recipe_text
from widetrail.steps import KINDS, Failed
from widetrail.walking import Visit, make_report

OLD, NEW = "        legs:\n          - old:", "        legs:\n          - new:"


def old(*steps: str, more: str = "") -> str:
    return item(OLD + "".join(f"\n              - {step}" for step in steps), more)


def new(*steps: str, more: str = "") -> str:
    return item(NEW + "".join(f"\n              - {step}" for step in steps), more)


MISBEHAVED = {
    "fails": ("run: [fernbook, spoil]", "its exit status is 1, expected 0; its output: fernbook"),
    "hangs": ("{run: [fernbook, hang], within: 1 s}", "it did not end within 1 seconds"),
    "floods": ("run: [fernbook, flood]", "printed without end"),
    "dies": ("run: [fernbook, die]", "it was ended by SIGSEGV"),
    "leaves a child": ("run: [fernbook, child]", "running, which was ended"),
    "says no text": (
        "{run: [fernbook, bytes], prints: {pages: 'pages: (.*)'}}",
        "not a valid text (byte 7)",
    ),
    "prints nothing": (
        "{run: [fernbook, say, x], prints: {pages: 'pages: (.*)'}}",
        "what it printed has nothing that matches",
    ),
    "tells two": (
        "{run: [fernbook, say, 'pages: 2', 'pages: 2'], prints: {pages: 'pages: (.*)'}}",
        "it prints pages 2 times, expected once",
    ),
    "tells another count": (
        "{run: [fernbook, say, 'pages: 7'], prints: {pages: 'pages: (.*)'}}",
        "it prints pages 7, but the reading is 2",
    ),
    "makes nothing": ("{run: [fernbook, say, x], makes: '{parcel}/x'}", "it made no file x"),
    "not done": (
        "{run: [fernbook, say, x], done_when: {begun: {is: 'yes'}}}",
        "begun must be yes, but is no",
    ),
}


@pytest.mark.parametrize(("step", "reason"), MISBEHAVED.values(), ids=MISBEHAVED)
def test_a_program_that_misbehaves_is_a_stated_failure(
    tmp_path: Path, step: str, reason: str
) -> None:
    one = trail(tmp_path, old(step))
    before = contents(one.notes("old"))
    (step_done,) = one.walk("old").steps
    assert isinstance(step_done.outcome, Failed)
    assert reason in step_done.outcome.reason
    assert step_done.outcome.todo
    if "spoil" not in step:
        assert contents(one.notes("old")) == before
    time.sleep(0.1)
    assert not one.old.running(PROGRAM)


def test_a_program_that_does_not_end_is_asked_before_it_is_ended(tmp_path: Path) -> None:
    script = "trap 'echo saved >closed; exit' TERM; while :; do sleep 0.05; done"
    with pytest.raises(processes.Stopped, match="did not end within 1 seconds"):
        processes.run_to_end(Start(("/bin/sh", "-c", script), os.environ, tmp_path, "fernbook"), 1)
    assert (tmp_path / "closed").read_text() == "saved\n"


def test_what_a_failed_program_changed_is_as_it_was(tmp_path: Path) -> None:
    steps = ("{run: [fernbook, spoil, '{parcel}/x'], changes: notes, makes: '{parcel}/x'}",)
    one = trail(tmp_path, old(*steps))
    before = contents(one.notes("old"))
    assert one.walk("old").failed
    assert contents(one.notes("old")) == before
    assert not list(one.folder.rglob("x"))
    kept = [p for p in one.folder.rglob("one.txt") if p.read_text() == "spoilt"]
    assert len(kept) == 1, "what it left is put aside, not destroyed"


def test_channels_and_the_place_a_program_is_started_in(tmp_path: Path) -> None:
    steps = (
        "{run: [fernbook, about, '{colour}', '$(id); `id` \"x y\" *'], env: {WORD: '{colour}'}}",
        "{run: [fernbook, lines], stdin: '{word}'}",
        "{run: [fernbook, say, 'a list'], stdout: '{parcel}/list'}",
    )
    one = trail(tmp_path, old(*steps), hands={"colour": "grün, hell", "word": "reed bunting"})
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    about = json.loads((one.notes("old") / "about").read_text())
    assert about["argv"][1:] == ["grün, hell", '$(id); `id` "x y" *']
    assert (about["here"], about["word"]) == ([], "grün, hell")
    assert (one.notes("old") / "stdin").read_text() == "reed bunting\n"
    (made,) = (one.folder / "parcel/data/made/fernbook.notes").rglob("list")
    assert made.read_text() == "a list\n"


def test_a_secret_is_nowhere_but_where_the_program_put_it(tmp_path: Path) -> None:
    one = trail(
        tmp_path, old("{run: [fernbook, echo], stdin: '{word}'}"), hands={"word": "pass=w0rd&"}
    )
    done = one.walk("old")
    assert "its output: ‹word›" in outcomes(done)["fernbook.notes/way/1/run"]
    assert "pass=w0rd" not in repr(done) + one.everything() + repr(make_report(one.parcel))


def test_a_value_that_looks_like_an_option_is_refused(tmp_path: Path) -> None:
    one = trail(tmp_path, old("run: [fernbook, say, '{colour}']"), hands={"colour": "--all"})
    assert "a value looks like an option" in outcomes(one.walk("old"))["fernbook.notes/way/1/run"]
    behind = trail(
        tmp_path / "behind", old("run: [fernbook, say, --, '{colour}']"), hands={"colour": "--all"}
    )
    assert set(outcomes(behind.walk("old")).values()) == {"done"}
    parts = "    parts: {sort: ['-rf']}"
    with pytest.raises(Obstructed, match="looks like an option"):
        trail(tmp_path / "part", old("run: [fernbook, say, '{sort}']", more=parts))


def test_a_program_the_application_did_not_declare_is_never_started(tmp_path: Path) -> None:
    """Lint refuses such a recipe; a plan that was made otherwise is refused when it is walked."""
    one = trail(tmp_path, old("run: [fernbook, count]"))
    visit = one.visit("old")
    (step,) = visit.steps()
    foreign = step.model_copy(update={"command": ("sh", "-c", "id")})
    with pytest.raises(Halted, match='"sh" is not a program of Fernbook'):
        visit.look_ahead(NOW).command(foreign, foreign.main_command)


def test_a_failed_step_leaves_the_rest_going_on_and_is_mended_by_walking_again(
    tmp_path: Path,
) -> None:
    extra = """
  extra: {title: Extra, from: extra, routes: [{name: way, legs: [{new: [copy]}]}]}
"""
    give = "run: [fernbook, give, '{parcel}/notes'], makes: '{parcel}/notes'"
    given = f"{OLD}\n              - {{{give}, done_when: {{kept: 'yes'}}}}"
    taken = f"{given}\n          - new:\n              - run: [fernbook, take, '{{parcel}}/notes']"
    folder = tmp_path / "old/root/home/ada/extra"
    folder.mkdir(parents=True)
    (folder / "leaf").write_text("green")
    one = trail(tmp_path, item(taken) + extra)
    first = one.walk("old")
    assert [s.step.item for s in first.failed] == ["fernbook.notes"]
    moved = one.walk("new")
    assert (one.folder / "new/root/home/ada/extra/leaf").read_text() == "green"
    assert {s.step.item for s in moved.steps} == {"fernbook.extra"}
    states = {i.id: i.state for i in make_report(one.parcel).items}
    assert states == {"fernbook.notes": "failed", "fernbook.extra": "carried"}
    one.old.host("/home/ada/fernbook.ini").write_text("[fernbook]\nkept=yes\n")
    mended = one.walk("old")
    assert (outcomes(mended), mended.next_machine) == ({"fernbook.notes/way/1/run": "done"}, "test")
    assert [s.step.item for s in one.walk("new").steps] == ["fernbook.notes"]
    assert (one.notes("new") / "taken.txt").read_text() == "one\ntwo\n"
    assert all(i.state == "carried" for i in make_report(one.parcel).items)


PERSON = "{person: Keep the book., name: keep, proof: {kept: 'yes'}}"


def test_a_person_is_waited_for_and_a_proof_ticks_it_off(tmp_path: Path) -> None:
    one = trail(tmp_path, new(PERSON, "run: [fernbook, count]"))
    first = one.walk("new")
    assert outcomes(first) == {
        "fernbook.notes/way/1/person": "Keep the book.: a person has to do it, "
        "and has not confirmed it"
    }
    assert first.next_machine == "test"
    report = make_report(one.parcel)
    assert report.tasks[0].words == "Fernbook: Notes: Do it, then walk again (keep)."
    one.new.host("/home/ada/fernbook.ini").write_text("[fernbook]\nkept=yes\n")
    second = one.walk("new")
    assert set(outcomes(second).values()) == {"done"}
    assert (one.notes("new") / "count").read_text() == "once\n"


def test_what_a_person_says_is_done_but_does_not_show_is_not_believed(tmp_path: Path) -> None:
    one = trail(tmp_path, new(PERSON), hands={"keep": "done"})
    (reason,) = outcomes(one.walk("new")).values()
    assert "kept is unknown" in reason


def test_a_wait_tells_how_far_it_is_and_ends_when_all_is_there(tmp_path: Path) -> None:
    one = trail(tmp_path, new("{wait: {pages: {at_least: old}}, within: 1 min}"))
    told: list[tuple[float, float, float | None]] = []
    clock = [0.0]

    class Watch:
        def begins(self, step: object, words: str, number: int, total: int) -> None: ...

        def waits(self, what: str) -> None: ...

        def moves(
            self, done: float, total: float, unit: str, left: float | None, files: object = None
        ) -> None:
            told.append((done, total, left))

    def sleep(seconds: float) -> None:
        clock[0] += 10
        one.notes("new").mkdir(exist_ok=True)
        (one.notes("new") / f"{len(told)}.txt").write_text("")

    one.walk("old")
    visit = one.visit("new", waits=True, clock=lambda: clock[0], sleep=sleep)
    object.__setattr__(visit.company, "onlooker", Watch())
    assert set(outcomes(visit.walk(NOW)).values()) == {"done"}
    assert told == [(0, 2, None), (1, 2, 10.0)]


def test_a_wait_that_takes_too_long_keeps_the_leg_due(tmp_path: Path) -> None:
    one = trail(tmp_path, new("{wait: {pages: {at_least: 1}}, within: 20 s}"))
    clock = [0.0]

    def sleep(seconds: float) -> None:
        clock[0] += seconds

    done = one.walk("new", waits=True, clock=lambda: clock[0], sleep=sleep)
    assert "the time to wait is over" in outcomes(done)["fernbook.notes/way/1/wait"]
    assert (clock[0], len(one.parcel.legs_done)) == (20.0, 0)


@contextmanager
def opened(machine: FolderMachine) -> Iterator[subprocess.Popen[bytes]]:
    command = [sys.executable, str(Path(__file__).with_name("fernbook.py")), "open"]
    with subprocess.Popen(command, env=machine.environment(PROGRAM)) as process:
        while not machine.host("/home/ada/notes/lock").exists():
            time.sleep(0.01)
        try:
            yield process
        finally:
            process.terminate()


def test_a_program_that_is_open_is_waited_for_and_never_ended(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    with opened(one.old) as process:
        with pytest.raises(Waiting, match=r"Fernbook is open on test: .*lock is there"):
            one.walk("old")

        def sleep(_: float) -> None:
            assert process.poll() is None
            process.terminate()
            process.wait()

        assert set(outcomes(one.walk("old", waits=True, sleep=sleep)).values()) == {"done"}


def test_a_program_opened_while_it_is_packed_is_seen_and_packing_begins_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.steps.pack.LOOK_EVERY", 0.0)
    one = trail(tmp_path, new("copy"))
    lock = one.notes("old") / "lock"

    def gate(effect: object) -> None:
        if getattr(effect, "kind", "") == "create" and "cargo" in getattr(effect, "path", ""):
            lock.write_text("")

    done = one.walk("old", Effects(gate))
    assert "Fernbook is open on test" in outcomes(done)["fernbook.notes/way/1/pack"]
    lock.unlink()
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    one.walk("new")
    assert sorted(os.listdir(one.notes("new"))) == ["one.txt", "two.txt"]


def test_open_close_and_first_start_start_and_end_the_real_program(tmp_path: Path) -> None:
    one = trail(tmp_path, old("open", "close"))
    try:
        done = one.walk("old", waits=True, longest=10)
        assert set(outcomes(done).values()) == {"done"}
        assert not one.old.running(PROGRAM)
    finally:
        subprocess.run(["pkill", "-f", str(one.folder)], check=False)


def test_a_first_start_that_was_cut_off_closes_what_it_opened(tmp_path: Path) -> None:
    one = trail(tmp_path, new("first_start: notes", "{run: [fernbook, count], changes: notes}"))
    seen: list[str] = []

    def gate(effect: object) -> None:
        seen.append(getattr(effect, "kind", ""))
        if "start" in seen[:-1]:
            raise Stopped

    try:
        with pytest.raises(Stopped):
            _cut(one, "new", Effects(gate))
        assert one.new.running(PROGRAM), "what was started goes on without the walk"
        assert set(outcomes(one.walk("new")).values()) == {"done"}
        assert not one.new.running(PROGRAM)
        assert (one.notes("new") / "count").read_text() == "once\n"
    finally:
        subprocess.run(["pkill", "-f", str(one.folder)], check=False)


def test_what_a_leg_began_is_ended_however_it_ends(tmp_path: Path) -> None:
    begin = "{run: [fernbook, begin], changes: notes, finally: [fernbook, end]}"
    one = trail(tmp_path, old(begin, "run: [fernbook, spoil]", "run: [fernbook, count]"))
    done = one.walk("old")
    assert [s.step.number for s in done.steps] == [1, 2]
    assert not (one.notes("old") / "session").exists()
    again = one.walk("old")
    assert [s.step.number for s in again.steps] == [1, 2], "what was ended is begun again"
    assert not (one.notes("old") / "session").exists()


def test_what_a_cut_off_leg_began_is_ended_by_the_next_walk(tmp_path: Path) -> None:
    begin = "{run: [fernbook, begin], changes: notes, finally: [fernbook, end], repeat: safe}"
    one = trail(tmp_path, old(begin, "run: [fernbook, count]"))
    starts: list[int] = []

    def gate(effect: object) -> None:
        if getattr(effect, "kind", "") == "start":
            starts.append(1)
            if len(starts) == 2:
                raise Stopped

    with pytest.raises(Stopped):
        _cut(one, "old", Effects(gate))
    assert (one.notes("old") / "session").exists()
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    assert not (one.notes("old") / "session").exists()
    assert (one.notes("old") / "count").read_text() == "once\n"


def _cut(one: Trail, station: Station, effects: Effects) -> None:
    """Walk, where being stopped runs nothing more, as a kill would."""
    visit = one.visit(station, effects)
    doing = visit.look_ahead(NOW)
    doing_class = type(doing)
    end = doing_class.end
    doing_class.end = lambda self: []  # type: ignore[method-assign]
    try:
        visit.walk(NOW)
    finally:
        doing_class.end = end  # type: ignore[method-assign]


EXISTING = {
    "back up": {"same.txt": "carried", "mine.txt": "carried"},
    "replace": {"same.txt": "carried", "mine.txt": "carried", "theirs.txt": "there"},
    "skip": {"same.txt": "there", "mine.txt": "carried", "theirs.txt": "there"},
    "alongside": {
        "same.txt": "there",
        "same (from test).txt": "carried",
        "mine.txt": "carried",
        "theirs.txt": "there",
    },
}


@pytest.mark.parametrize("existing", EXISTING)
def test_what_is_there_already_is_dealt_with_on_purpose(tmp_path: Path, existing: str) -> None:
    text = new("copy", more="    take: ['*.txt']").replace(
        "name: way", f"name: way\n        existing: {existing}"
    )
    for station, names in (("old", ("same", "mine")), ("new", ("same", "theirs"))):
        notes = tmp_path / station / "root/home/ada/notes"
        notes.mkdir(parents=True)
        for name in names:
            (notes / f"{name}.txt").write_text("carried" if station == "old" else "there")
    one = trail(
        tmp_path, text.replace("take: ['*.txt']", "take: ['same.txt', 'mine.txt', 'theirs.txt']")
    )
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert {p.name: p.read_text() for p in one.notes("new").iterdir()} == EXISTING[existing]
    aside = list(one.folder.rglob("aside/**/*.txt"))
    gone = {"back up": {"same.txt", "theirs.txt"}, "replace": {"same.txt"}}.get(existing, set())
    assert {p.name for p in aside} == gone
    assert all(p.read_text() == "there" for p in aside)
    assert not list(one.folder.rglob("staging"))


def test_a_whole_folder_comes_alongside_under_another_name(tmp_path: Path) -> None:
    (tmp_path / "new/root/home/ada/notes").mkdir(parents=True)
    (tmp_path / "new/root/home/ada/notes/theirs.txt").write_text("there")
    text = new("copy", more="    checks: {pages: {}}").replace(
        "name: way", "name: way\n        existing: alongside"
    )
    one = trail(tmp_path, text)
    one.walk("old")
    done = one.walk("new")
    assert set(outcomes(done).values()) == {"done"}, "the check reads what came beside"
    assert [p.name for p in one.notes("new").iterdir()] == ["theirs.txt"]
    beside = one.notes("new").with_name("notes (from test)")
    assert sorted(p.name for p in beside.iterdir()) == ["one.txt", "two.txt"]
    assert make_report(one.parcel).items[0].new_path == "/home/ada/notes (from test)"


def test_stop_leaves_what_is_there_alone_and_says_so(tmp_path: Path) -> None:
    text = new("copy").replace("name: way", "name: way\n        existing: refuse")
    one = trail(tmp_path, text)
    one.walk("old")
    one.notes("new").mkdir()
    (one.notes("new") / "theirs.txt").write_text("there")
    (reason,) = outcomes(one.walk("new")).values()
    assert "it already exists" in reason
    assert [p.name for p in one.notes("new").iterdir()] == ["theirs.txt"]


BROUGHT = (
    "copy: '{home}/brought'",
    "run: [fernbook, count]",
    "remove: '{home}/brought'",
)


def test_only_what_this_move_put_there_is_removed(tmp_path: Path) -> None:
    one = trail(tmp_path, new(*BROUGHT, more="    checks: {pages: {}}"))
    one.walk("old")
    done = outcomes(one.walk("new"))
    checked = done.pop("fernbook.notes/check")
    assert set(done.values()) == {"done"}
    assert checked == "pages: 2 on the old computer, 0 on the new computer", (
        "the place is looked at, not what was brought"
    )
    home = one.folder / "new/root/home/ada"
    assert not (home / "brought").exists()
    other = trail(tmp_path / "other", new("remove: '{notes}'"))
    other.notes("new").mkdir()
    (reason,) = outcomes(other.walk("new")).values()
    assert "/home/ada/notes was not put there by this move, so it is kept" in reason
    assert other.notes("new").is_dir()


def test_detach_brings_the_parcel_along_and_the_rest_is_walked_from_there(tmp_path: Path) -> None:
    one = trail(tmp_path, new("detach", "copy"), hands={"detach": "done"})
    one.walk("old")
    medium = one.folder / "parcel"

    def sleep(_: float) -> None:
        medium.rename(one.folder / "taken away")

    done = one.walk("new", waits=True, sleep=sleep)
    assert set(outcomes(done).values()) == {"done"}
    assert sorted(os.listdir(one.notes("new"))) == ["one.txt", "two.txt"]
    (kept,) = one.folder.glob("new/**/widetrail/run/parcel")
    assert (kept / "logbook").is_dir()


def test_retiring_rides_on_a_visit_that_is_made_anyway_and_only_when_all_arrived(
    tmp_path: Path,
) -> None:
    legs = (
        f"{NEW}\n              - copy\n          - old:\n              - run: [fernbook, say, bye]"
    )
    one = trail(tmp_path, item(legs, "    checks: {pages: {}}\n    retire: yes"))
    assert [leg.station for leg in one.parcel.plan.legs] == ["old", "new", "old"]
    one.walk("old")
    one.walk("new")
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    home = one.folder / "old/root/home/ada"
    assert not (home / "notes").exists()
    assert sorted(p.name for p in (home / "notes (moved to test)").iterdir()) == [
        "one.txt",
        "two.txt",
    ]
    assert make_report(one.parcel).tasks == ()


def test_what_did_not_arrive_is_not_retired(tmp_path: Path) -> None:
    legs = (
        f"{NEW}\n              - copy\n          - old:\n              - run: [fernbook, say, bye]"
    )
    text = item(legs, "    checks: {first: {}}\n    retire: yes").replace("[lock]", "[one.txt]")
    one = trail(tmp_path, text)
    one.walk("old")
    assert one.walk("new").failed
    one.walk("old")
    assert (one.notes("old") / "one.txt").is_file()


def test_conditions_are_looked_at_again_when_a_leg_begins(tmp_path: Path) -> None:
    route = f"        needs: {{old: {{network: yes}}}}\n{NEW}\n              - copy"
    later = trail(
        tmp_path, item(f"{route}\n          - old:\n              - run: [fernbook, count]")
    )
    later.walk("old")
    later.walk("new")
    file = later.folder / "old/machine.yaml"
    file.write_text(file.read_text() + "network: no\n")
    (reason,) = outcomes(later.walk("old")).values()
    assert "network on the old computer must be yes, but is no" in reason
    assert not (later.notes("old") / "count").exists()


@pytest.mark.parametrize("repeat", ["safe", "ask"])
def test_a_run_whose_end_is_not_known_is_repeated_only_where_that_is_safe(
    tmp_path: Path, repeat: str
) -> None:
    """Cut off after the program ran and before its end was written down."""
    one = trail(tmp_path, old(f"{{run: [fernbook, count], repeat: {repeat}, changes: notes}}"))
    _stop_after_the_start(one)
    assert (one.notes("old") / "count").read_text() == "once\n"
    if repeat == "ask":
        (reason,) = outcomes(one.walk("old")).values()
        assert "how fernbook count ended is not known" in reason
        done = Trail(one.folder, {"fernbook.notes/way/1/run": "done"})
        assert set(outcomes(done.walk("old")).values()) == {"done"}
    else:
        assert set(outcomes(one.walk("old")).values()) == {"done"}
    assert (one.notes("old") / "count").read_text() == "once\n", (
        "what was changed is put back first"
    )


def _stop_after_the_start(one: Trail) -> None:
    seen: list[str] = []

    def gate(effect: object) -> None:
        kind = getattr(effect, "kind", "")
        if seen and kind == "append" and len(seen) == 2:
            raise Stopped
        if kind == "start" or (seen and kind == "append"):
            seen.append(kind)

    with pytest.raises(Stopped):
        _cut(one, "old", Effects(gate))


def test_texts_with_braces_stay_what_they_are(tmp_path: Path) -> None:
    one = trail(
        tmp_path,
        old("run: [fernbook, about, '{{not a name}}', '{colour}']"),
        hands={"colour": "{home}"},
    )
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    about = json.loads((one.notes("old") / "about").read_text())
    assert about["argv"][1:] == ["{not a name}", "{home}"]


def test_a_told_value_in_a_path_is_one_name_and_leads_nowhere_else(tmp_path: Path) -> None:
    steps = (
        "{run: [fernbook, say, 'name: ../../escaped'], prints: {name: 'name: (.*)'}}",
        "{run: [fernbook, give, '{parcel}/{name}'], makes: '{parcel}/{name}'}",
    )
    one = trail(tmp_path, old(*steps))
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    (made,) = (one.folder / "parcel/data/made").rglob("*escaped*")
    assert made.name == "..%2F..%2Fescaped"


def test_secrets_in_recipes_get_their_warnings() -> None:
    text = (
        TRAIL_HEAD
        + "items:\n"
        + old(
            "{run: [fernbook, count], env: {WORD: '{word}'}}",
            "{run: [fernbook, count], prints: {word: 'w: (.*)'}}",
        )
    )
    loaded = load_recipe_text(text, "test", KINDS)
    assert {"secret-env", "secret-told"} <= {f.rule for f in loaded.findings}


def test_a_station_between_does_its_leg_on_whatever_machine_it_is(tmp_path: Path) -> None:
    give = "{run: [fernbook, give, '{parcel}/request'], makes: '{parcel}/request'}"
    errand = (
        "{run: [fernbook, errand, '{parcel}/request', '{parcel}/answer'], makes: '{parcel}/answer'}"
    )
    legs = f"{OLD}\n              - {give}\n          - between:\n              - {errand}"
    take = "run: [fernbook, take, '{parcel}/answer']"
    one = trail(tmp_path, item(f"{legs}\n          - new:\n              - {take}"))
    assert one.walk("old").next_machine == "a machine with a network"
    with pytest.raises(InputUnusable, match="is not a machine of this plan"):
        Visit(one.parcel, FolderMachine(one.folder / "between"))
    assert set(outcomes(one.walk("between")).values()) == {"done"}
    one.walk("new")
    assert (one.notes("new") / "taken.txt").read_text() == "answered: one\ntwo\n"


ANSWERS = (
    (b"Do this now?", b"y"),
    (b"A word for the file:", b"reed bunting"),
    (b"Repeat for confirmation:", b"reed bunting"),
    (b"Is it done?", b"y"),
)


def test_a_person_at_a_terminal_is_asked_once_and_their_secret_is_not_shown(tmp_path: Path) -> None:
    fed = "{run: [fernbook, lines], stdin: '{word}'}"
    steps = (fed, fed, "{person: Sign the book., name: signed}")
    one = trail(tmp_path, old(*steps))
    command = [sys.executable, "-m", "widetrail", "walk", "parcel", "--machine", "old"]
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(one.folder)
        os.execv(sys.executable, command)
    shown, waiting = b"", list(ANSWERS)
    with suppress(OSError):
        while data := os.read(terminal, 4096):
            shown += data
            if waiting and waiting[0][0] in shown.rpartition(b"\n")[2]:
                os.write(terminal, waiting.pop(0)[1] + b"\n")
    assert (os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), waiting) == (0, [])
    text = shown.decode()
    assert "You: Sign the book." in text
    assert text.count("A word for the file:") == 1
    assert "reed bunting" not in text
    assert (one.notes("old") / "stdin").read_text() == "reed bunting\n"


def test_answers_come_from_a_file_and_no_wait_ends_with_3(tmp_path: Path) -> None:
    one = trail(tmp_path, old("{run: [fernbook, lines], stdin: '{word}'}", PERSON))
    here = ("walk", one.folder / "parcel", "--machine", one.folder / "old", "--yes", "--no-wait")
    ran = widetrail(*here)
    assert (ran.status, ran.err.count("no value was given for: A word for the file")) == (3, 1)
    assert "give the answer fernbook.word with --answers" in ran.err
    answers = tmp_path / "answers.yaml"
    answers.write_text("fernbook.word: reed bunting\nkeep: nonsense\n")
    ran = widetrail(*here, "--answers", answers, "--json")
    assert (ran.status, [s["state"] for s in ran.json["steps"]]) == (3, ["done", "waits"])
    assert ran.json["steps"][1]["reason"].startswith("Keep the book.: a person has to do it")
    assert ran.json["tasks"][0]["words"] == "Fernbook: Notes: Do it, then walk again (keep)."
    answers.write_text("word: [reed]\n")
    ran = widetrail(*here, "--answers", answers)
    assert (ran.status, "answers.yaml: the answers cannot be used" in ran.err) == (2, True)


SECRETS = ("pass=w0rd&", 'it\'s "quoted" <b>', "naïve \\ path", "two\nlines here", "日本 語")


@pytest.mark.parametrize("secret", SECRETS)
def test_every_spelling_of_a_secret_is_masked(secret: str) -> None:
    masker = Masker()
    masker.add("word", secret)
    line = secret.splitlines()[-1]
    spelled = [
        secret,
        json.dumps(secret),
        json.dumps(secret, ensure_ascii=False),
        quote(secret),
        quote_plus(secret),
        html.escape(secret),
        shlex.quote(secret),
        repr(secret),
        line.upper(),
        base64.b64encode(secret.encode()).decode(),
        secret.encode().hex(),
        unicodedata.normalize("NFD", secret),
        line.replace("'", "''"),
    ]
    for text in spelled:
        masked = masker.mask(f"before {text} after")
        assert "‹word›" in masked, text
        assert line.casefold() not in masked.casefold()


def test_a_short_secret_is_masked_only_where_it_stands_alone() -> None:
    masker = Masker()
    masker.add("pin", "17")
    assert masker.mask_all({"a": "17 of 1700", "b": [17, 1700]}) == {
        "a": "‹pin› of 1700",
        "b": ["‹pin›", 1700],
    }
