"""Stop every demo rehearsal at every effect, refuse every effect, and print what came of it.

    python benchmarks/reliability.py [NAME …]

Takes about an hour on two cores; ``docs/reliability.md`` holds its last table.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

from widetrail.rehearsing import collect_rehearsals, load_rehearsal
from widetrail.rehearsing.stage import fast_folder
from widetrail.testing import Swept, sweep
from widetrail_demo.world import build_world

SERVICE = "desk.rehearsal.yaml"
"""Waits for a service that brings files back on its own, which no effect stops."""


def run(path: Path) -> tuple[str, float, Swept]:
    begun = time.monotonic()
    name = path.name.removesuffix(".rehearsal.yaml")
    swept = sweep(load_rehearsal(path), datetime(2026, 11, 24, tzinfo=UTC), bounded=False)
    return name, time.monotonic() - begun, swept


def main() -> None:
    with tempfile.TemporaryDirectory(dir=fast_folder()) as folder:
        build_world(Path(folder) / "world", small=True)
        recipes = Path(folder) / "world" / "recipes"
        paths = [p for p in collect_rehearsals([recipes]) if p.name != SERVICE]
        wanted = sys.argv[1:]
        paths = [p for p in paths if not wanted or p.name.removesuffix(".rehearsal.yaml") in wanted]
        print(
            f"{'rehearsal':<22}{'stops':>7}{'killed':>8}{'power':>7}{'states':>8}{'within':>8}"
            f"{'faults':>8}{'asked':>7}{'troubles':>10}{'s':>7}"
        )
        total = Swept("all")
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            for name, seconds, swept in pool.map(run, paths):
                show(name, seconds, swept)
                total.stops += swept.stops
                total.states += swept.states
                total.within += swept.within
                total.faults += swept.faults
                total.asked += swept.asked
                total.modes += swept.modes
                total.troubles += swept.troubles
        show("all", 0, total)
    for trouble in total.troubles:
        print(f"{trouble.stop}: {trouble.what}")
    sys.exit(bool(total.troubles))


def show(name: str, seconds: float, swept: Swept) -> None:
    print(
        f"{name:<22}{swept.stops:>7}{swept.modes['killed']:>8}{swept.modes['power']:>7}"
        f"{swept.states:>8}{swept.within:>8}{swept.faults:>8}{swept.asked:>7}"
        f"{len(swept.troubles):>10}{seconds:>7.0f}",
        flush=True,
    )


if __name__ == "__main__":
    main()
