"""Machines for the recipes of real programs, made by the programs themselves.

    python examples/real/build.py FOLDER [PROGRAM…]

FOLDER gets the recipes, their rehearsals, and below machines/ two Linux machines for each program:
one on which somebody has worked with it, and one on which it is only installed. They are isolated,
so bubblewrap is needed (Debian: apt install bubblewrap), and each program's own package. What is
not installed is left out, with a line that says so. Then:

    widetrail rehearse FOLDER --coverage
"""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.library.folder_machines import add_program
from widetrail.machine import FolderMachine

HERE = Path(__file__).parent

MACHINE = """\
machine: {name}
platform: linux
system: '12'
user: {user}
isolated: yes
disks:
  /: {{folder: disk}}
  /data: {{folder: data}}
"""


class Workshop:
    """A machine that is being made: files are put there, and its programs are run."""

    def __init__(self, folder: Path, user: str, *packages: str) -> None:
        for disk in ("disk", "data"):
            (folder / disk).mkdir(parents=True)
        (folder / "machine.yaml").write_text(MACHINE.format(name=folder.name, user=user))
        for package in packages:
            add_program(folder, package)
        self.machine = FolderMachine(folder)
        self.home = self.machine.root("home")
        self.folder(self.home)

    def folder(self, path: str) -> None:
        """Make a folder with those above it."""
        self.machine.host(path).mkdir(parents=True, exist_ok=True)

    def put(self, path: str, text: str, mode: int = 0o644) -> None:
        """Write a file."""
        host = self.machine.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_text(text, "utf-8")
        host.chmod(mode)

    def run(self, program: str, *arguments: str) -> str:
        """Run a program and return what it prints."""
        done = self.machine.start(self.machine.command(program) or program, arguments)
        if done.status != 0:
            raise SystemExit(f"{program} {' '.join(arguments)}: {done.errors or done.output}")
        return done.output


def taskwarrior(machines: Path) -> None:
    """Tasks with all that Taskwarrior keeps of one, in a folder on another disk."""
    old = Workshop(machines / "taskwarrior-old", "alva", "taskwarrior")
    old.put(
        f"{old.home}/.taskrc",
        "data.location=/data/alva/tasks\n"
        "# colours that can be told apart\ncolor.due=rgb550\n"
        "report.next.labels=Nr,Was,Wann\nuda.season.type=string\n",
    )
    old.folder("/data/alva/tasks")

    def task(*words: str) -> None:
        old.run("task", "rc.confirmation=no", "rc.bulk=0", *words)

    task("add", "project:garden.moss", "due:2027-03-01", "+wet", "Water the moss on the wall")
    task("add", "project:garden", "priority:H", "Order bäume — Quitte, Mispel, Speierling")
    task("add", "depends:1", "season:autumn", 'Rake "the long path"')
    task("add", "due:2027-01-01", "recur:monthly", "until:2027-06-01", "Read the rain gauge")
    task("add", "Lend the ladder to Piet")
    task("add", "Throw the old hose away")
    task("1", "annotate", "the can has a hole")
    task("rc.recurrence.confirmation=no", "list")
    task("5", "done")
    task("6", "delete")
    task("list")
    old.put("/data/alva/tasks/hooks/on-add-as-it-is", "#!/bin/sh\ncat\n", 0o755)
    Workshop(machines / "taskwarrior-new", "brook", "taskwarrior")


PROGRAMS: dict[str, tuple[Sequence[str], Callable[[Path], None]]] = {
    "taskwarrior": (("taskwarrior",), taskwarrior),
}
"""The programs with the Debian packages that they need, and what makes their machines."""


def build(folder: Path, wanted: Sequence[str] = tuple(PROGRAMS)) -> dict[str, str]:
    """Make recipes, rehearsals and machines in FOLDER; return why programs were left out."""
    left = {}
    (folder / "machines").mkdir(parents=True, exist_ok=True)
    for name in wanted:
        _, make = PROGRAMS[name]
        try:
            make(folder / "machines")
        except InputUnusable as error:
            left[name] = str(error)
            continue
        for file in sorted((HERE / "recipes").glob(f"{name}.*")):
            shutil.copy(file, folder / file.name)
    return left


def main() -> None:
    if len(sys.argv) < 2:
        raise SystemExit(__doc__)
    for name, why in build(Path(sys.argv[1]), sys.argv[2:] or tuple(PROGRAMS)).items():
        print(f"{name} was left out: {why}")


if __name__ == "__main__":
    main()
