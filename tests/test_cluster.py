"""Rehearsals on many machines: the same outcome as alone, whatever happens to workers."""

from __future__ import annotations

import dataclasses
import functools
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import psutil
import pytest

from conftest import SWEEP, World
from conftest import widetrail as command
from widetrail.catalogue.errand_inputs import lay_out, packed
from widetrail.errors import InputUnusable
from widetrail.library.rehearsals import Rehearsals, rehearse
from widetrail.rehearsing import collect_rehearsals
from widetrail.rehearsing.batch import jobs_of
from widetrail.rehearsing.history import open_history
from widetrail.rehearsing.noting import Known
from widetrail.workers import Killed

pytest.importorskip("distributed", reason="Dask Distributed is not installed")

import errands
from scheduler import Scheduler, scheduling
from widetrail.catalogue.cluster import RARE, by_chance, on_scheduler

pytestmark = pytest.mark.filterwarnings("ignore:::distributed", "ignore::ResourceWarning")
NOW = datetime(2026, 11, 25, tzinfo=UTC)
TESTS = str(Path(__file__).parent)


@pytest.fixture(scope="module")
def scheduler(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scheduler]:
    before = os.environ.get("PYTHONPATH")
    os.environ["PYTHONPATH"] = os.pathsep.join([TESTS, *([before] if before else [])])
    try:
        with scheduling(tmp_path_factory.mktemp("dask") / "two", 2) as started:
            yield started
    finally:
        os.environ.pop("PYTHONPATH")
        if before is not None:
            os.environ["PYTHONPATH"] = before


@pytest.fixture
def begun(tmp_path: Path) -> Path:
    """A first recipe with its rehearsal and machines."""
    told = ["--name", "Mossbook", "--platform", "linux", "--keeps", "{documents}/Mossbook"]
    ran = command("new", tmp_path / "begun", *told)
    assert ran.status == 0, ran.err
    return tmp_path / "begun"


def outcome(ran: Rehearsals) -> list[object]:
    """Return all of an outcome but times."""
    results = [dataclasses.replace(one, seconds=0.0) for one in ran.results]
    return [results, ran.findings, [str(error) for error in ran.broken]]


def test_the_outcome_is_the_same_as_alone(scheduler: Scheduler, world: World) -> None:
    recipes = world.folder / "recipes"
    paths = [recipes / "huemoss.trail.yaml", recipes / "brackenwend-names.rehearsal.yaml"]
    alone = rehearse(paths)
    with on_scheduler(scheduler.address) as crew:
        there = rehearse(paths, jobs=crew)
    assert outcome(there) == outcome(alone) and there.passed and len(there.results) > 9


@SWEEP
def test_stops_and_mutations_come_to_the_same_as_alone(
    scheduler: Scheduler, begun: Path, tmp_path: Path
) -> None:
    history = tmp_path / "history"
    with on_scheduler(scheduler.address) as crew:
        there, alone = rehearse([begun], jobs=crew, history=history), rehearse([begun])
        assert outcome(there) == outcome(alone) and there.passed
        [loaded] = there.recipes
        judged = there.mutants(loaded, crew=crew)
        assert judged == alone.mutants(loaded) and len(judged) >= 2
        with open_history(history) as known:
            [row] = known.whole("judged")
        assert (row["recipe"], row["mutants"]) == ("mossbook", len(judged))
        assert row["detected"] == sum(one.killed_by != "" for one in judged)
        swept, here = there.stops(crew=crew), alone.stops()
    assert swept and all(one.passed and one.stops > 10 for one in swept.values())
    assert {n: dataclasses.astuple(s) for n, s in swept.items()} == {
        n: dataclasses.astuple(s) for n, s in here.items()
    }


def test_relative_paths_and_failures_are_told_as_at_home(
    scheduler: Scheduler, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    world.edit(
        "recipes/huemoss.rehearsal.yaml", lambda t: t.replace("stamps_there: 9", "stamps_there: 8")
    )
    shutil.copy(
        world.folder / "recipes/huemoss.rehearsal.yaml",
        world.folder / "recipes/huemoss-nowhere.rehearsal.yaml",
    )
    world.edit(
        "recipes/huemoss-nowhere.rehearsal.yaml",
        lambda t: t.replace("machine: glass-office", "machine: no-such"),
    )
    (world.folder / "recipes/mistvane.trail.yaml").write_text("recipe: 1\n")
    monkeypatch.chdir(world.folder)
    for path in Path("recipes").glob("*.rehearsal.yaml"):
        if not path.name.startswith(("huemoss.", "huemoss-nowhere", "mistvane.")):
            path.unlink()
    alone = rehearse(["recipes"])
    with on_scheduler(scheduler.address) as crew:
        there = rehearse(["recipes"], jobs=crew)
    assert outcome(there) == outcome(alone)
    assert [one.passed for one in there.results].count(False) >= 1
    assert any("mistvane" in str(error) for error in there.broken) and not there.passed


def test_what_workers_die_of_is_told_and_the_rest_is_done(scheduler: Scheduler) -> None:
    with on_scheduler(scheduler.address) as crew:
        found = dict(crew.each(errands.deadly, list(range(20))))
    assert {n: one for n, one in found.items() if n != 7} == {
        n: n // 2 for n in range(20) if n != 7
    }
    assert isinstance(found[7], Killed)


def test_a_worker_that_hangs_is_given_up(scheduler: Scheduler) -> None:
    with on_scheduler(scheduler.address, longest=1.5) as crew:
        found = dict(crew.each(errands.endless, list(range(12))))
    assert isinstance(found[7], Killed) and len(found) == 12


@SWEEP
def test_a_worker_that_runs_out_of_memory_is_started_anew(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([TESTS, os.environ.get("PYTHONPATH", "")]))
    with scheduling(tmp_path / "dask", 0) as started:
        started.work(2, memory="500MB")
        with on_scheduler(started.address) as crew:
            found = dict(crew.each(errands.hungry, list(range(12))))
    assert isinstance(found[7], Killed)
    assert {n: one for n, one in found.items() if n != 7} == {
        n: n // 2 for n in range(12) if n != 7
    }


def test_a_rehearsal_that_workers_die_of_is_put_in_quarantine(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    from widetrail.library import rehearsals
    from widetrail.workers import Crew

    class Dying(Crew):
        def each(self, act, values, costs=()):  # type: ignore[no-untyped-def]
            for number, value in enumerate(values):
                taken_in = "taken-in" in value.path.name if hasattr(value, "path") else False
                yield number, Killed(4) if taken_in else act(value)

    history = world.folder / "history"
    paths = [world.folder / f"recipes/huemoss{n}.rehearsal.yaml" for n in ("", "-taken-in")]
    folder = world.folder / "few"
    shutil.copytree(world.folder / "machines", folder / "machines")
    (folder / "recipes").mkdir()
    for path in (*paths, world.folder / "recipes/huemoss.trail.yaml"):
        shutil.copy(path, folder / "recipes")
    ran = rehearsals.rehearse([folder], jobs=Dying(), history=history)
    assert len(ran.results) == 1 and "died of it" in str(ran.broken[0]) and not ran.passed
    again = rehearse([folder], history=Known(history, changed=True))
    assert again.results == () and "in quarantine until" in str(again.broken[0])
    (folder / "recipes/huemoss.trail.yaml").write_text(
        (folder / "recipes/huemoss.trail.yaml").read_text() + "# mended\n"
    )
    assert rehearse([folder], history=history).passed  # it is another one now


def test_a_full_disk_costs_a_worker_its_share(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([TESTS, os.environ.get("PYTHONPATH", "")]))
    full = tmp_path / "full"
    full.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=24m", "none", str(full)], check=False
    ).returncode:
        pytest.skip("this account cannot mount a small disk")
    try:
        with scheduling(tmp_path / "dask", 1) as started:
            started.work(1, folder=full)
            with on_scheduler(started.address) as crew:
                _wait_for(lambda: crew.told().startswith("2 workers"))
                values = [(str(full), n) for n in range(12)]
                found = dict(crew.each(errands.filling, values))
                assert found == {n: n // 2 for n in range(12)}
                assert "left out: its disk is full" in crew.told()
    finally:
        subprocess.run(["umount", "-l", str(full)], check=True)


def test_other_versions_are_refused(
    tmp_path: Path, scheduler: Scheduler, monkeypatch: pytest.MonkeyPatch
) -> None:
    import widetrail

    other = tmp_path / "other"
    shutil.copytree(
        Path(widetrail.__file__).parent.parent, other, ignore=shutil.ignore_patterns("__pycache__")
    )
    (other / "widetrail/errors.py").write_text(
        (other / "widetrail/errors.py").read_text() + "# another\n"
    )
    with scheduling(tmp_path / "dask", 0) as started:
        started.work(1, PYTHONPATH=os.pathsep.join([str(other), TESTS]))
        with pytest.raises(InputUnusable, match="another version"), on_scheduler(started.address):
            pass
    nobody = on_scheduler("tcp://127.0.0.1:9", patience=1)
    with pytest.raises(InputUnusable, match="no scheduler answers"), nobody:
        pass
    ran = command("rehearse", tmp_path, "--on", "moss")
    assert ran.status == 2 and "no scheduler answers" in ran.err


def test_a_scheduler_that_is_started_anew_costs_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([TESTS, os.environ.get("PYTHONPATH", "")]))
    done = tmp_path / "done"
    with scheduling(tmp_path / "dask", 2) as started, on_scheduler(started.address) as crew:
        found: dict[int, object] = {}
        for number, result in crew.each(errands.noted, [(str(done), n) for n in range(60)]):
            assert number not in found
            found[number] = result
            if len(found) == 10:
                started.stop()
                started.start()
                started.work(2)
        assert found == {n: n // 2 for n in range(60)}


def _wait_for(true: object, seconds: float = 60) -> None:
    assert callable(true)
    deadline = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.2)


def _killing(
    started: Scheduler, dice: random.Random, over: threading.Event, killed: list[int]
) -> None:
    while not over.wait(dice.uniform(2, 6)):
        processes = started.processes()
        if processes:
            victim = dice.choice(processes)
            try:
                victim.kill()
                killed.append(victim.pid)
            except psutil.NoSuchProcess:
                continue


def test_what_chance_may_do_is_no_errands_fault() -> None:
    assert by_chance(8, 200, 205) < RARE  # others hardly ever die
    assert by_chance(8, 90, 300) > RARE  # workers live no longer than an errand takes
    assert by_chance(8, 0, 0) > RARE  # nothing is known yet
    assert by_chance(60, 90, 300) < RARE
    often = [by_chance(died, 50, 100) for died in range(40)]
    assert often == sorted(often, reverse=True) and often[0] == 1


@SWEEP
@pytest.mark.parametrize("seed", range(int(os.environ.get("WIDETRAIL_SEEDS", "1"))))
def test_workers_that_are_killed_at_random_change_nothing(
    seed: int, scheduler: Scheduler, world: World, tmp_path: Path
) -> None:
    """Many copies of short rehearsals: each is once in the history, with the outcome it has."""
    count = int(os.environ.get("WIDETRAIL_REHEARSALS", "40"))
    recipes = world.folder / "recipes"
    folder = world.folder / "many"
    folder.mkdir()
    shutil.copy(recipes / "huemoss.trail.yaml", folder)
    first = (recipes / "huemoss.rehearsal.yaml").read_text()
    wrong = first.replace("stamps_there: 9", "stamps_there: 8")
    for number in range(count):
        text = wrong if number % 10 == 3 else first
        (folder / f"huemoss-{number:03d}.rehearsal.yaml").write_text(text)
    history, killed, over = tmp_path / "history", list[int](), threading.Event()
    dice = random.Random(seed)
    with on_scheduler(scheduler.address) as crew:
        thread = threading.Thread(target=_killing, args=(scheduler, dice, over, killed))
        thread.start()
        try:
            ran = rehearse([folder], jobs=crew, history=history)
        finally:
            over.set()
            thread.join()
    assert killed and len(ran.results) == count and not ran.broken
    assert [one.passed for one in ran.results] == [n % 10 != 3 for n in range(count)]
    screens = {(one.passed, one.differences, one.new_screen) for one in ran.results}
    assert len(screens) == 2
    with open_history(history) as known:
        runs = Counter(run.rehearsal for run in known.runs())
    assert len(runs) == count and set(runs.values()) == {1}


def test_control_c_ends_it_and_resume_goes_on(
    scheduler: Scheduler, world: World, tmp_path: Path
) -> None:
    history = tmp_path / "history"
    call = [sys.executable, "-m", "widetrail", "rehearse", str(world.folder / "recipes")]
    call += ["--on", scheduler.address, "--history", str(history), "--json-lines"]
    for path in (world.folder / "recipes").glob("*.rehearsal.yaml"):
        if not path.name.startswith(("huemoss", "tillbook")):
            path.unlink()
    # what a shell starts in the background does not hear Ctrl-C, and nor do these tests then
    heard = functools.partial(signal.signal, signal.SIGINT, signal.SIG_DFL)
    pipe = subprocess.PIPE
    with subprocess.Popen(call, stdout=pipe, stderr=pipe, text=True, preexec_fn=heard) as begun:
        assert begun.stdout is not None and begun.stderr is not None
        lines = [json.loads(begun.stdout.readline()) for _ in range(3)]
        assert [one["done"] for one in lines] == [1, 2, 3] and lines[0]["left"] > 10
        begun.send_signal(signal.SIGINT)
        rest = [json.loads(line) for line in begun.stdout]
        told = begun.stderr.read()
    assert begun.returncode != 0 and "Traceback" not in told
    with open_history(history) as known:
        there = [run.id for run in known.runs()]
    assert len(there) == 3 + len([one for one in rest if "rehearsal" in one])
    done = subprocess.run([*call, "--resume"], capture_output=True, text=True, check=False)
    last = json.loads(done.stdout.splitlines()[-1])
    assert done.returncode == 0 and last["end"] and last["passed"] and last["left"] == 0, (
        done.stderr
    )
    with open_history(history) as known:
        runs = list(known.runs())
    assert Counter((r.rehearsal, r.case_name) for r in runs).most_common(1)[0][1] == 1
    assert len(runs) == last["done"] and {r.id for r in runs} >= set(there)
    assert command("rehearse", world.folder, "--history", history, "--resume").status == 2


def test_what_a_job_takes_is_packed_as_it_is(world: World, tmp_path: Path) -> None:
    machine = world.machine("glass-office")
    (machine / "link").symlink_to("machine.yaml")
    (machine / "empty").mkdir(mode=0o700)
    known_by, data = packed(machine)
    assert packed(machine) == (known_by, data)
    lay_out(data, tmp_path / "laid")
    assert packed(tmp_path / "laid")[0] == known_by
    assert (tmp_path / "laid/link").readlink() == Path("machine.yaml")
    os.utime(machine / "machine.yaml", (1, 1))
    assert packed(machine)[0] != known_by
    recipes = world.folder / "recipes"
    for job in jobs_of(collect_rehearsals([recipes]), NOW):
        needed = list(job.needs())
        assert len(needed) >= 4 and all(path.exists() for path in needed)
