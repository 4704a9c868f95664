"""What a survey costs beside a bare walk of the same names, and a recipe beside reading its YAML.

1. A machine of 300,000 files and 2,000 recipes, 20 of whose applications are there: the command as
   it is, with a cold and a warm index, against ``os.scandir`` with ``entry.stat`` in a process of
   its own. The same with the 20 recipes alone.
2. Loading and validating one recipe against PyYAML's C loader on the same text.
3. ``widetrail --help`` against ``python -c "import click"``.

    python benchmarks/survey.py [--files 300000] [--write docs/performance.md]
"""

from __future__ import annotations

import argparse
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import yaml

from widetrail.recipe import examine
from widetrail.steps import KINDS

RECIPES, HERE, ROUNDS = 2_000, 20, 5
WALK = """
import os, sys
def walk(folder):
    count = 0
    with os.scandir(folder) as listed:
        for entry in listed:
            entry.stat(follow_symlinks=False)
            count += 1
            if entry.is_dir(follow_symlinks=False):
                count += walk(entry.path)
    return count
print(walk(sys.argv[1]))
"""
MACHINE = """machine: big
platform: linux
system: "12"
user: ann
disks: {/: {folder: disk}}
"""
RECIPE = """recipe: 1
revision: 1
application:
  id: program-{n}
  name: Program {n}
  maker: Makers of {m}
  programs: {{program: "{{programs}}/program-{n}"}}
recognise:
  - sign: {{file: "{{programs}}/program-{n}"}}
    release: {{text: "{{settings}}/release", at: '^(\\S+)'}}
places:
  settings:
    folder: {{windows: "{{config}}/Maker {m}/Program {n}", else: "{{config}}/program-{n}"}}
  records:
    folder: "{{documents}}/Program {n}"
    set_in: {{ini: "{{settings}}/program.ini", at: records/folder, as: path}}
  profiles: {{each: "{{data}}/program-{n}/profiles/*"}}
readings:
  count: {{files: "{{records}}/*.rec"}}
items:
  records:
    title: Records
    from: records
    take: ["*.rec", "pages/**"]
    leave: ["cache/**", "*.part"]
    checks: {{count: {{compare: at_least}}}}
    routes: [{{name: copy, legs: [{{new: [copy]}}]}}]
  profiles:
    title: Profiles
    from: profiles
    leave: ["**/cache/**"]
    routes: [{{name: copy, legs: [{{new: [copy]}}]}}]
  settings:
    title: Settings
    from: settings
    kind: settings
    routes: [{{name: copy, legs: [{{new: [copy]}}]}}]
"""


def make(top: Path, files: int) -> None:
    """Make the machine and the recipes."""
    dice = random.Random(11)
    home = top / "machine/disk/home/ann"
    for folder in ("many", "few"):
        (top / folder).mkdir(parents=True)
    programs = top / "machine/disk/usr/bin"
    programs.mkdir(parents=True)
    for n in range(RECIPES):
        text = RECIPE.format(n=n, m=n % 300)
        (top / f"many/program-{n}.trail.yaml").write_text(text)
        if n % (RECIPES // HERE) == 0:
            (top / f"few/program-{n}.trail.yaml").write_text(text)
            (programs / f"program-{n}").write_text("a stand-in")
            _fill(home / f"Documents/Program {n}/pages", 60, "page {}.rec")
            _fill(home / f".local/share/program-{n}/profiles/own/cache", 60, "{}.tmp")
            _fill(home / f".config/program-{n}", 2, "set {}.ini")
    (top / "machine/machine.yaml").write_text(MACHINE)
    made, folder = HERE * 122, 0
    while made < files:
        number, depth = dice.randrange(5, 60), dice.randrange(1, 5)
        parts = [
            f"{dice.choice('Old New Work Home Play'.split())} {folder % 40}" for _ in range(depth)
        ]
        root = dice.choice(
            ("Documents", "Pictures", ".config", ".local/share", ".cache", "Projects")
        )
        ending = dice.choice(("jpg", "txt", "json", "db", "log", "py", "o"))
        _fill(home.joinpath(root, *parts, str(folder)), number, f"name of one {{}}.{ending}")
        made, folder = made + number, folder + 1


def _fill(folder: Path, number: int, name: str) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for n in range(number):
        os.close(os.open(f"{folder}/{name.format(n)}", os.O_CREAT | os.O_WRONLY))


def seconds(act: Callable[[], object]) -> float:
    """Return how long ``act`` takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def best(act: Callable[[], object], rounds: int = 7) -> float:
    """Return the shortest of several runs."""
    return min(seconds(act) for _ in range(rounds))


def run(*command: str, cache: Path) -> tuple[float, int]:
    """Run a command; return its seconds and the most memory it held, in bytes."""
    environment = {**os.environ, "XDG_CACHE_HOME": str(cache)}
    begun = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=environment)
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{' '.join(command)} ended with {status}")
    return time.perf_counter() - begun, used.ru_maxrss * 1024


def surveys(top: Path, files: int) -> list[str]:
    """Measure surveys against a bare walk, by turns; return the lines of the table."""
    make(top, files)
    widetrail = str(Path(sys.executable).parent / "widetrail")
    machine, cache = str(top / "machine"), top / "cache"
    walk = [sys.executable, "-c", WALK, machine]

    def survey(recipes: str) -> tuple[float, int]:
        told = [widetrail, "survey", str(top / recipes), "--machine", machine, "--json"]
        return run(*told, cache=cache)

    run(*walk, cache=cache)
    cold, _ = survey("many")
    rounds = [(run(*walk, cache=cache)[0], survey("few")[0], survey("many")) for _ in range(ROUNDS)]
    bare, few = median(r[0] for r in rounds), median(r[1] for r in rounds)
    many, memory = median(r[2][0] for r in rounds), max(r[2][1] for r in rounds)
    to_walk = median(r[2][0] / r[0] for r in rounds)
    to_few = median(r[2][0] / r[1] for r in rounds)
    return [
        f"bare walk of {files:,} files            {bare:.2f} s",
        f"survey, {HERE} recipes                  {few:.2f} s",
        f"survey, {RECIPES:,} recipes, warm index {many:.2f} s",
        f"  to the walk                     {to_walk:.2f} (asked: at most 2)",
        f"  to {HERE} recipes                   {to_few:.2f} (asked: at most 1.3)",
        f"  memory                          {memory / 2**20:.0f} MB (asked: under 300)",
        f"survey, {RECIPES:,} recipes, cold index {cold:.2f} s",
    ]


def loading() -> list[str]:
    """Measure loading a recipe against reading its YAML."""
    folder = Path(__file__).parent.parent / "src/widetrail_demo/recipes"
    ratios = []
    for path in sorted(folder.glob("*.trail.yaml")):
        text = path.read_text(encoding="utf-8")
        peer = best(lambda text=text: yaml.load(text, yaml.CSafeLoader))  # type: ignore[misc]
        mine = best(lambda text=text: examine(text, "", KINDS))  # type: ignore[misc]
        ratios.append(mine / peer)
    told = f"{median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}; asked: at most 3)"
    return [f"loading and validating a recipe   {told}"]


def helping() -> list[str]:
    """Measure ``widetrail --help`` against importing click."""
    widetrail = str(Path(sys.executable).parent / "widetrail")
    where = Path(tempfile.gettempdir())
    rounds = [
        (
            run(widetrail, "--help", cache=where)[0],
            run(sys.executable, "-c", "import click", cache=where)[0],
        )
        for _ in range(11)
    ]
    ratio = median(a / b for a, b in rounds)
    return [f"widetrail --help                  {ratio:.2f} (asked: at most 2)"]


def main() -> None:
    """Print the table, or write it into a document between its marks."""
    options = argparse.ArgumentParser()
    options.add_argument("--files", type=int, default=300_000)
    options.add_argument("--write", type=Path)
    told = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        lines = [*surveys(Path(folder), told.files), *loading(), *helping()]
    print("\n".join(lines))
    if told.write is not None:
        begin, end = "<!-- survey -->\n```\n", "```\n<!-- end of survey -->"
        text = told.write.read_text(encoding="utf-8")
        before, _, rest = text.partition(begin)
        _, _, after = rest.partition(end)
        told.write.write_text(before + begin + "\n".join(lines) + "\n" + end + after)


if __name__ == "__main__":
    main()
