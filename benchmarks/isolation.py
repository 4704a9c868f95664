"""What isolation costs a start, and how long a rehearsal of a real program takes.

    python benchmarks/isolation.py [--runs 40]

Needs bubblewrap and taskwarrior (Debian). ``plain`` is the same program of the same machine without
isolation; all three are started in turn in one run. ``gated`` is a start whose process is noted
before it runs, as in walks. A rehearsal is one case of examples/real: two machines are copied, the
move is made, and the program lists its tasks on both.
"""

import argparse
import importlib.util
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from widetrail import rehearse
from widetrail.machine import Channels, FolderMachine, isolation

REAL = Path(__file__).parent.parent / "examples/real/build.py"


def seconds_of(work: Callable[[], object]) -> float:
    """Return how long something takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=40)
    runs = parser.parse_args().runs
    if why := isolation.why_not():
        sys.exit(why)
    spec = importlib.util.spec_from_file_location("build_real", REAL)
    assert spec is not None
    assert spec.loader is not None
    build = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(build)
    with tempfile.TemporaryDirectory() as folder:
        world = Path(folder) / "world"
        if left := build.build(world, ["taskwarrior"]):
            sys.exit(str(left))
        machines = world / "machines"
        shutil.copytree(machines / "taskwarrior-new", machines / "open")
        file = machines / "open/machine.yaml"
        file.write_text(file.read_text().replace("isolated: yes\n", ""))
        inside, outside = (FolderMachine(machines / n) for n in ("taskwarrior-new", "open"))
        version, gate = ["_version"], Channels(began=lambda pid, at: None)
        ways: dict[str, Callable[[], object]] = {
            "plain": lambda: outside.start("/usr/bin/task", version),
            "isolated": lambda: inside.start("/usr/bin/task", version),
            "plain, gated": lambda: outside.start("/usr/bin/task", version, 60, gate),
            "isolated, gated": lambda: inside.start("/usr/bin/task", version, 60, gate),
        }
        took: dict[str, list[float]] = {name: [] for name in ways}
        for _ in range(runs):
            for name, way in ways.items():
                took[name].append(seconds_of(way))
        for name, found in took.items():
            print(f"{name:16} {statistics.median(found) * 1000:6.1f} ms a start")
        results = rehearse([world]).results
        middle = statistics.median(result.seconds for result in results)
        most = max(result.seconds for result in results)
        print(f"rehearsal        {middle:6.2f} s, at most {most:.2f} s, of {len(results)} cases")


if __name__ == "__main__":
    main()
