"""What traces find, held against answers written by hand, and what watching costs.

    python benchmarks/tracing.py [--only NAME …] [--names 300000] [--runs 20] [--memory]

The first table has a line for each program of the demo and of examples/real: files that it keeps
and that were found (recall), of those taken that are kept (precision), places that can be moved,
found and in all, whether the draft passes its rehearsal, and whether the set is minimal.
``--only`` with no name leaves it out. Below it stand the same figures with each program judged by
thresholds that were chosen without it, and what each choice gives for all. Then a fingerprint of
many names, of which nothing has changed, against a walk that asks for the status of each; and a
traced start of a small program against its bare start, in turn in one run. ``--memory`` tells the
most that the fingerprint took.
"""

from __future__ import annotations

import argparse
import importlib.util
import os
import resource
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

HOME = Path(__file__).parent.parent
sys.path.insert(0, str(HOME / "tests"))

from tracing_judged import ANSWERS, Judged, judge, unneeded  # noqa: E402
from widetrail import rehearse  # noqa: E402
from widetrail.machine import FolderMachine  # noqa: E402
from widetrail.tracing import (  # noqa: E402
    Trace,
    load_script,
    own_folder,
    parts,
    run_trace,
    system_calls,
)
from widetrail.tracing.draft_files import write_drafts  # noqa: E402
from widetrail.tracing.drafting import Draft  # noqa: E402
from widetrail.tracing.fingerprint import Fingerprint  # noqa: E402
from widetrail.tracing.naming import usual_naming  # noqa: E402
from widetrail_demo.world import build_world  # noqa: E402


def programs(folder: Path) -> Iterator[tuple[str, Path]]:
    """Give the name and script of each program, in worlds that are made for them."""
    build_world(folder / "demo")
    spec = importlib.util.spec_from_file_location("build_real", HOME / "examples/real/build.py")
    assert spec is not None
    assert spec.loader is not None
    real = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(real)
    for name in ANSWERS:
        script = folder / "demo/traces" / f"{name}.trace.yaml"
        if not script.exists():
            if left := real.build(folder / "real", [name]):
                print(f"{name} was left out: {left[name]}")
                continue
            script = folder / "real" / f"{name}.trace.yaml"
        yield name, script


def machines_of(script: Path) -> Path:
    above = next(p for p in script.parents if (p / "machines").is_dir())
    return above / "machines"


Traced = tuple[str, Trace, Path]
"""A program by its name, its trace and its machine."""

TRIED = tuple((mostly, records) for mostly in (0.3, 0.5, 0.7) for records in (2, 3, 5))
"""The thresholds that are tried: ``own_folder.MOSTLY`` and ``parts.RECORDS``."""


def left_out(traced: list[Traced]) -> None:
    """Choose the thresholds that do best for all programs but one, and judge that one by them."""
    found: dict[tuple[float, int], dict[str, Judged]] = {}
    for thresholds in TRIED:
        own_folder.MOSTLY, parts.RECORDS = thresholds
        found[thresholds] = {n: judge(n, t, FolderMachine(folder)) for n, t, folder in traced}
    own_folder.MOSTLY, parts.RECORDS = 0.5, 3
    right = missed = wrong = 0
    for name in found[TRIED[0]]:
        others = {at: [j for n, j in some.items() if n != name] for at, some in found.items()}
        best = max(TRIED, key=lambda at: (_recall(others[at]), _precision(others[at])))
        one = found[best][name]
        right, missed, wrong = right + one.right, missed + len(one.missed), wrong + len(one.wrong)
    told = f"{right / max(right + missed, 1):8.0%}{right / max(right + wrong, 1):11.0%}"
    print(f"{'each left out':16}{right:6}{told}")
    for at in TRIED:
        some = list(found[at].values())
        print(f"  with {at[0]} and {at[1]}: {_recall(some):.0%}, {_precision(some):.0%}")


def _recall(some: list[Judged]) -> float:
    right = sum(one.right for one in some)
    return right / max(right + sum(len(one.missed) for one in some), 1)


def _precision(some: list[Judged]) -> float:
    right = sum(one.right for one in some)
    return right / max(right + sum(len(one.wrong) for one in some), 1)


def judged(only: list[str] | None) -> None:
    head = ("program", "files", "recall", "precision", "places", "draft", "minimal", "starts", "s")
    print("{:16}{:>6}{:>8}{:>11}{:>8}{:>8}{:>9}{:>8}{:>7}".format(*head))
    right = missed = wrong = 0
    traced: list[Traced] = []
    with tempfile.TemporaryDirectory(prefix="widetrail-benchmark-") as above:
        for name, script in programs(Path(above)):
            if only is not None and name not in only:
                continue
            began = time.perf_counter()
            machines, wanted = machines_of(script), load_script(script)
            trace = run_trace(wanted, machines)
            took = time.perf_counter() - began
            traced.append((name, trace, machines / wanted.machine))
            machine = FolderMachine(machines / wanted.machine)
            found = judge(name, trace, machine)
            right, missed = right + found.right, missed + len(found.missed)
            wrong += len(found.wrong)
            places = len(ANSWERS[name].get("told", {}))
            made = write_drafts(
                [Draft(trace, machine, usual_naming(trace))], Path(above) / f"{name}-draft"
            )
            passes = rehearse(made.rehearsals).passed
            minimal = not unneeded(trace, machines / wanted.machine)
            draft = "passes" if passes else "FAILS"
            print(
                f"{name:16}{found.right:6}{found.recall:8.0%}{found.precision:11.0%}"
                f"{places - len(found.places_missed):6}/{places}{draft:>8}"
                f"{'yes' if minimal else 'NO':>9}{trace.experiments:8}{took:7.1f}"
            )
        recall, precision = right / max(right + missed, 1), right / max(right + wrong, 1)
        print(f"{'all':16}{right:6}{recall:8.0%}{precision:11.0%}")
        left_out(traced)


def seconds_of(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def walk(folder: str) -> int:
    waiting, count = [folder], 0
    while waiting:
        with os.scandir(waiting.pop()) as listed:
            for entry in listed:
                entry.stat(follow_symlinks=False)
                count += 1
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
    return count


def fingerprints(names: int, *, memory: bool) -> None:
    with tempfile.TemporaryDirectory(prefix="widetrail-benchmark-") as folder:
        for number in range(names // 100):
            inner = Path(folder) / f"{number % 50}" / f"folder {number}"
            inner.mkdir(parents=True)
            for file in range(99):
                (inner / f"file number {file}.txt").touch()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        mark = Fingerprint((folder,))
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        pairs = [
            (seconds_of(lambda: walk(folder)), seconds_of(lambda: list(mark.differences())))
            for _ in range(5)
        ]
        ratio = statistics.median(ours / bare for bare, ours in pairs)
        print(
            f"fingerprint of {mark.size} names, nothing changed: {ratio:.2f} x a walk with status"
        )
        if memory:
            print(f"memory: {after / 1024:.0f} MB in all, {(after - before) / 1024:.0f} MB for it")


def traced_start(runs: int) -> None:
    if why := system_calls.why_not():
        print(f"a traced start was not timed: {why}")
        return
    with tempfile.TemporaryDirectory(prefix="widetrail-benchmark-") as above:
        folder = Path(above) / "machine"
        (folder / "disk/usr/bin").mkdir(parents=True)
        (folder / "disk/usr/bin/cal").touch()
        program = shutil.which("ls") or "/bin/ls"
        (folder / "machine.yaml").write_text(
            "machine: desk\nplatform: linux\nsystem: '12'\nuser: alva\n"
            f"programs: [{{path: /usr/bin/cal, start: [{program}], paths: machine}}]\n"
            "disks: {/: {folder: disk}}\n"
        )
        bare = FolderMachine(folder)
        watched = FolderMachine(folder, system_calls.WatchingEffects())
        pairs = [
            (
                seconds_of(lambda: bare.start("/usr/bin/cal", [])),
                seconds_of(lambda: watched.start("/usr/bin/cal", [])),
            )
            for _ in range(runs)
        ]
        ratio = statistics.median(ours / plain for plain, ours in pairs)
        print(f"a traced start of {program}: {ratio:.1f} x its bare start")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", nargs="*")
    parser.add_argument("--names", type=int, default=300_000)
    parser.add_argument("--runs", type=int, default=20)
    parser.add_argument("--memory", action="store_true")
    given = parser.parse_args()
    if given.only != []:
        judged(given.only)
    fingerprints(given.names, memory=given.memory)
    traced_start(given.runs)


if __name__ == "__main__":
    main()
