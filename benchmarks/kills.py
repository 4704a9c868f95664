"""Kill real commands at random moments, go on, and compare with what an unbroken move left.

    python benchmarks/kills.py --kills 1000 [--world garden|awkward] [--sealed] [--licence]

Two worlds: the demo's garden with every program that needs no person, and one of awkward files
(links, hard names, holes, modes, names that are no text). Each trial copies the machines as they
stood before a leg, starts the command in a process of its own, kills it (SIGKILL) after a time
thrown from the seed, once to three times, and walks on until the leg is at its end. Then the
machines must be what they were after the unbroken leg, the report must say the same, and an undoing
must give back every byte. With a licence, the service's own list must name one holder.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import random
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import Any

import widetrail.cli.plan
import widetrail.cli.report
import widetrail.cli.settle
import widetrail.cli.undo
import widetrail.cli.walk  # noqa: F401 - imported once, before processes are forked
from widetrail.cli import main as command_line
from widetrail.licence.service import PORT, Service, serving
from widetrail_demo.other_programs import SERIALS
from widetrail_demo.world import build_world

OWN = ("/widetrail", "/.widetrail")
ANSWERS = "passphrase: reed bunting\nnumber_noted: done\nparcel.seal: goldcrest in the yew\n"
RECIPE = """
recipe: 1
revision: 1
application: {id: mill, name: Mill, programs: {mill: mill}}
recognise: [{sign: {folder: "{home}/stock"}}]
places:
  stock: {folder: "{home}/stock"}
  over: {folder: "{home}/over"}
  along: {folder: "{home}/along"}
  book: {file: "{home}/book.db"}
readings:
  kept: {files: "{stock}"}
  rows: {sqlite: "{book}", at: select count(*) from t}
items:
  stock: {title: Stock, from: stock, checks: {kept: {compare: same}}, routes: [ROUTE]}
  over: {title: Over, from: over, take: "**", routes: [OVER]}
  along: {title: Along, from: along, take: "**", routes: [ALONG]}
  book: {title: Book, from: book, checks: {rows: {compare: same}}, routes: [ROUTE]}
"""
WAY = "{name: way, legs: [{new: [copy]}]}"


def awkward(folder: Path) -> tuple[str, str, list[str]]:
    """Lay out a world of awkward files; return the names of its machines and its recipes."""
    dice = random.Random(3)
    for name, user in (("mill-old", "ann"), ("mill-new", "bea")):
        home = folder / f"machines/{name}/root/home/{user}"
        home.mkdir(parents=True)
        (folder / f"machines/{name}/machine.yaml").write_text(
            f"machine: {name}\nidentity: {name}\nplatform: linux\nsystem: '12'\nuser: {user}\n"
            "disks: {/: {folder: root}}\n"
        )
        for place in ("stock", "over", "along"):
            (home / place / "inner").mkdir(parents=True)
            for number in range(0, 40, 1 if user == "ann" else 3):
                path = home / place / "inner" / f"n{number} – é.txt"
                path.write_bytes(dice.randbytes(dice.randrange(3000)))
                path.chmod(dice.choice((0o600, 0o644, 0o444, 0o755)))
                os.utime(path, ns=(10**18 + number, 10**18 + number))
    stock = folder / "machines/mill-old/root/home/ann/stock"
    (stock / "link").symlink_to("inner/n1 – é.txt")
    os.link(stock / "inner/n2 – é.txt", stock / "another name")
    Path(os.fsdecode(os.fsencode(stock) + b"/no text \xff")).write_text("x")
    with (stock / "hole").open("wb") as file:
        file.truncate(3_000_000)
        file.write(b"begin")
    (stock / "shut").mkdir()
    (stock / "shut/in").write_text("x")
    (stock / "shut").chmod(0o555)
    (stock / "large").write_bytes(dice.randbytes(9_000_000))
    for name, user in (("mill-old", "ann"), ("mill-new", "bea")):
        path = folder / f"machines/{name}/root/home/{user}/book.db"
        with sqlite3.connect(path) as connection:
            connection.execute("create table t (v)")
            connection.executemany("insert into t values (?)", [(user,)] * 200)
    text = RECIPE.replace("[ROUTE]", f"[{WAY}]")
    for kind, existing in (("OVER", "replace"), ("ALONG", "alongside")):
        text = text.replace(f"[{kind}]", f"[{WAY.replace('way,', f'way, existing: {existing},')}]")
    (folder / "recipes").mkdir()
    (folder / "recipes/mill.trail.yaml").write_text(text)
    return "mill-old", "mill-new", ["mill"]


def garden(folder: Path, *, licence: bool) -> tuple[str, str, list[str]]:
    """Lay out the demo's world; return the names of its machines and its recipes."""
    build_world(folder, small=True)
    listed = ["sporelog", "quillbox", "huemoss", "frondsign", "desk"]
    return (
        "potting-shed",
        "glass-office",
        ["loamlens", "huemoss", "sporelog"] if licence else listed,
    )


def call(arguments: list[str], seconds: float | None = None) -> tuple[int | None, str]:
    """Run a command in a process of its own, killed after a time; return its status and output."""
    with tempfile.TemporaryFile() as output:
        pid = os.fork()
        if pid == 0:
            os.setsid()
            os.dup2(output.fileno(), 1)
            os.dup2(output.fileno(), 2)
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            sys.stdout = open(1, "w", closefd=False, errors="replace")  # noqa: SIM115
            sys.stderr = open(2, "w", closefd=False, errors="replace")  # noqa: SIM115
            try:
                command_line(arguments, standalone_mode=True)
            except SystemExit as end:
                status = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
            except BaseException as error:
                print("TRACEBACK", repr(error))
                status = 99
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)
        if seconds is not None:
            time.sleep(seconds)
            os.kill(pid, signal.SIGKILL)
        _, status = os.waitpid(pid, 0)
        output.seek(0)
        text = output.read().decode(errors="replace")
    return (None if os.WIFSIGNALED(status) else os.WEXITSTATUS(status)), text


def seen(folder: Path, begun: int) -> dict[str, Any]:
    """Return what is on a machine that is not the tool's own; times of now are left out."""
    found: dict[str, Any] = {}
    for top, folders, files in os.walk(folder):
        for name in (*folders, *files):
            path = Path(top) / name
            below = str(path.relative_to(folder))
            if any(own in f"/{below}" for own in OWN):
                continue
            status = path.lstat()
            moment = status.st_mtime_ns if status.st_mtime_ns < begun else "now"
            mode = stat.S_IMODE(status.st_mode)
            if path.is_symlink():
                found[below] = "link", os.readlink(path)
            elif path.is_dir():
                found[below] = "folder", mode
            else:
                digest = hashlib.sha256(path.read_bytes()).hexdigest()
                found[below] = "file", mode, moment, digest, status.st_nlink
    return found


PATH_OF_STATE = ("AppData/Local", ".local/state", ".local")


def differences(one: dict[str, Any], other: dict[str, Any]) -> list[str]:
    return [
        f"{name}: {one.get(name)} -> {other.get(name)}"
        for name in sorted(one.keys() | other.keys())
        if one.get(name) != other.get(name) and not name.endswith(PATH_OF_STATE)
    ]


def flat(value: Any, where: str = "") -> dict[str, Any]:
    """Return a JSON value as its leaves, by where they stand."""
    if not isinstance(value, dict | list):
        return {where: value}
    pairs = value.items() if isinstance(value, dict) else enumerate(value)
    return {k: v for n, below in pairs for k, v in flat(below, f"{where}/{n}").items()}


class Bench:
    """One world, its unbroken legs, and trials that are killed."""

    def __init__(self, folder: Path, options: argparse.Namespace) -> None:
        self.folder, self.options = folder, options
        self.dice = random.Random(options.seed)
        self.begun = time.time_ns()
        world = folder / "world"
        licence = options.licence
        made = awkward(world) if options.world == "awkward" else garden(world, licence=licence)
        self.old, self.new, self.recipes = made
        (world / "answers.yaml").write_text(ANSWERS)
        self.legs = ["old", "top-up", "new", "undo", "settle"]
        if licence:  # released on another visit of old, and claimed on another of new
            self.legs = ["old", "new", "back", "claim", "settle"]
        self.times: dict[str, float] = {}
        self.after: dict[str, dict[str, Any]] = {}
        self.reports: dict[str, Any] = {}
        self.kills = self.trials = 0
        self.troubles: list[str] = []

    def command(self, leg: str, world: Path) -> list[str]:
        walk = ["walk", f"{world}/parcel", "--yes", "--no-wait", "--answers"]
        walk += [f"{world}/answers.yaml", "--machine"]
        machine = f"{world}/machines/{self.new}"
        return {
            "old": [*walk, f"{world}/machines/{self.old}"],
            "top-up": [*walk, f"{world}/machines/{self.old}", "--top-up"],
            "new": [*walk, machine],
            "back": [*walk, f"{world}/machines/{self.old}"],
            "claim": [*walk, machine],
            "undo": ["undo", "--machine", machine, "--yes"],
            "settle": ["settle", "--machine", machine, "--yes"],
        }[leg]

    def machines(self, world: Path) -> dict[str, Any]:
        return {
            f"{name}:{path}": fact
            for name in (self.old, self.new)
            for path, fact in seen(world / "machines" / name, self.begun).items()
        }

    def report(self, world: Path) -> Any:
        told = json.loads(call(["report", f"{world}/parcel", "--json"])[1])
        for leg in told["legs"]:
            for name in ("time", "on_arrival", "read_back", "topped_up"):
                leg.pop(name, None)
        for item in told["items"]:
            item["backed_up"] = bool(item["backed_up"])
        return told

    def changed(self, world: Path) -> None:
        """Have the person work on old, before it is topped up."""
        machine = world / f"machines/{self.old}"
        if self.options.world == "awkward":
            (machine / "root/home/ann/stock/since.txt").write_text("since")
            (machine / "root/home/ann/stock/inner/n4 – é.txt").unlink()
            return
        views = machine / "disks/C/Users/ines/AppData/Roaming/Sporelog/views"
        (views / "since.view").write_text("[view]\nonly = shelf=1\n")

    def finish(self, leg: str, world: Path) -> str:
        for _ in range(12):
            status, text = call(self.command(leg, world))
            ended = "was undone on" in text or "no run has a journal" in text
            if status == 0 or (leg in ("undo", "settle") and ended):
                return ""
            if status != 3:
                return f"ends with {status}: {text[-500:]}"
        return f"does not end: {text[-500:]}"

    def copy(self, source: Path, target: Path) -> Path:
        if target.exists():
            for path in target.rglob("*"):
                if path.is_dir() and not path.is_symlink():
                    path.chmod(0o755)
            shutil.rmtree(target)
        subprocess.run(["cp", "-a", "--", source, target], check=True)  # hard names stay so
        return target

    def unbroken(self) -> None:
        world = self.folder / "world"
        recipes = [f"{world}/recipes/{name}.trail.yaml" for name in self.recipes]
        sealed = ["--seal", "--answers", f"{world}/answers.yaml"]
        plan = [
            "plan",
            *recipes,
            "--old",
            f"{world}/machines/{self.old}",
            "--new",
            f"{world}/machines/{self.new}",
            "--parcel",
            f"{world}/parcel",
        ]
        plan += ["--without", "desk.commonbed"] if "desk" in self.recipes else []
        plan += sealed if self.options.sealed or self.options.licence else []
        status, text = call(plan)
        assert status == 0, text
        self.before = self.machines(world)
        for leg in self.legs:
            if leg == "top-up":
                self.changed(world)
                self.before = self.machines(world)
            self.copy(world, self.folder / f"before {leg}")
            begun = time.monotonic()
            status, text = call(self.command(leg, world))
            if "Read it, then walk again" in text:
                status, text = call(self.command(leg, world))
            self.times[leg] = time.monotonic() - begun
            if status:
                self.trouble(f"unbroken {leg} ends with {status}: {text[-800:]}")
            self.after[leg] = self.machines(world)
            self.reports[leg] = self.report(world)
            if leg == "undo":
                self.judge("undone", leg, self.before, self.after[leg], self.new)
        shutil.rmtree(self.folder / "world", ignore_errors=True)

    def judge(
        self, what: str, leg: str, one: dict[str, Any], other: dict[str, Any], only: str = ""
    ) -> None:
        mine, theirs = ({n: f for n, f in d.items() if n.startswith(only)} for d in (one, other))
        if found := differences(mine, theirs):
            self.trouble(f"{what} after {leg}: {found[:4]}")

    def trouble(self, words: str) -> None:
        self.troubles.append(words)
        print("TROUBLE", words, flush=True)

    def trial(self) -> None:
        leg = self.dice.choice([*self.legs, "new", "new"])
        world = self.copy(self.folder / f"before {leg}", self.folder / "world")
        self.trials += 1
        for _ in range(self.dice.choice((1, 1, 2, 3))):
            status, _ = call(self.command(leg, world), self.dice.uniform(0.01, self.times[leg]))
            if status is not None:
                break
            self.kills += 1
        if trouble := self.finish(leg, world):
            self.trouble(f"{leg} {trouble}")
            return
        now = self.machines(world)
        self.judge("differs", leg, self.after[leg], now)
        if leg != "settle" and (report := self.report(world)) != self.reports[leg]:
            found = differences(flat(self.reports[leg]), flat(report))
            self.trouble(f"another report after {leg}: {found[:4]}")
        left = (world / "machines" / self.new).rglob("widetrail") if leg == "settle" else ()
        for folder in left:
            kept = [path.name for path in folder.rglob("*")]
            self.trouble(f"something is left over after settle: {folder} with {kept[:4]}")
        if leg == "new" and "undo" in self.legs and self.dice.random() < 0.5:
            while self.dice.random() < 0.4:
                moment = self.dice.uniform(0.01, self.times["undo"])
                self.kills += call(self.command("undo", world), moment)[0] is None
            if trouble := self.finish("undo", world):
                self.trouble(f"undo {trouble}")
            self.judge("undone", "a broken walk", self.before, self.machines(world), self.new)
        if self.options.licence and leg in ("claim", "settle"):
            holders = Service(world / "maker").holders(SERIALS["Loamlens"])
            if len(holders) != 1 or "glass-office" not in holders[0]:
                self.trouble(f"the seat is held by {holders or 'nobody'}")


@contextmanager
def folder_for(options: argparse.Namespace) -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="kills-", dir=options.folder) as folder:
        yield Path(folder)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--world", choices=("garden", "awkward"), default="awkward")
    parser.add_argument("--sealed", action="store_true")
    parser.add_argument("--licence", action="store_true")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--folder", type=Path)
    options = parser.parse_args()
    with folder_for(options) as folder:
        bench = Bench(folder, options)
        maker = folder / "world/maker"
        with serving(Service(maker), PORT) if options.licence else nullcontext():
            bench.unbroken()
            begun = time.monotonic()
            while bench.kills < options.kills and len(bench.troubles) < 10:
                bench.trial()
        print(
            f"{options.world}{', sealed' if options.sealed else ''}"
            f"{', with a licence' if options.licence else ''}"
            f"{'' if os.geteuid() == 0 else ', ordinary account'}: {bench.kills} kills in "
            f"{bench.trials} trials, {len(bench.troubles)} differences, "
            f"{time.monotonic() - begun:.0f} s"
        )
    sys.exit(bool(bench.troubles))


if __name__ == "__main__":
    main()
