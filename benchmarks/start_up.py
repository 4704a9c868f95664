"""How long a command takes to start, beside `python -c "import click"` in the same run.

    pip install . && python benchmarks/start_up.py [--runs 15]

`lint` of one recipe, and `plan` of one small recipe between two machine folders of the demo world.
What is measured is what is installed, with its byte code: an editable install compiles again where
Python may not write it (`PYTHONDONTWRITEBYTECODE`). ``floor`` is what any program takes that uses
click, PyYAML and one model of pydantic.
"""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

FLOOR = "import click, yaml\nfrom pydantic import BaseModel\nclass A(BaseModel):\n  a: int"


def timed(command: list[str], folder: str) -> float:
    """Return the seconds that a command takes."""
    began = time.perf_counter()
    subprocess.run(command, cwd=folder, check=True, capture_output=True)
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=15)
    runs = parser.parse_args().runs
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    widetrail = str(Path(sys.executable).parent / "widetrail")
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([widetrail, "demo", "garden", "--world-only"], cwd=folder, check=True)
        world = f"{folder}/garden"
        sides = ["--old", "machines/potting-shed", "--new", "machines/glass-office"]
        commands = {
            "floor": [sys.executable, "-c", FLOOR],
            "lint": [widetrail, "lint", "recipes/sporelog.trail.yaml"],
            "plan": [widetrail, "plan", "recipes/huemoss.trail.yaml", *sides, "--parcel"],
        }
        took: dict[str, list[float]] = {name: [] for name in ("click", *commands)}
        for number in range(runs):
            took["click"].append(timed([sys.executable, "-c", "import click"], world))
            for name, command in commands.items():
                more = [f"media/usb-stick/{number}"] if name == "plan" else []
                took[name].append(timed([*command, *more], world))
        peer = statistics.median(took["click"])
        for name, seconds in took.items():
            middle = statistics.median(seconds)
            print(f"{name:6} {middle:6.3f} s  {middle / peer:5.1f} times click")


if __name__ == "__main__":
    main()
