"""Small machines and recipes for single tests."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from widetrail.finding import Finder, find_application, make_card
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.parcel import Along, Parcel, make_seal, set_out
from widetrail.planning import Choices, make_plan
from widetrail.recipe import Station, load_recipe_text
from widetrail.steps import KINDS, Done
from widetrail.walking import Answers, Company, LegDone, Patience, Visit
from widetrail.walking.answers import Answer

NOW = datetime(2026, 11, 24, 9, 0, tzinfo=UTC)

HOMES = {"windows": "C:/Users/ada", "macos": "/Users/ada", "linux": "/home/ada"}

HEAD = """
recipe: 1
revision: 1
application:
  id: fernbook
  name: Fernbook
  programs: {fernbook: fernbook}
"""
TAIL = """
items:
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""
SIGN = """
recognise:
  - sign: {file: "{home}/fernbook.ini"}
    release: {ini: "{home}/fernbook.ini", at: fernbook/release}
"""
INI = "[fernbook]\nrelease=3.1\n"


def machine(
    folder: Path,
    platform: str = "linux",
    files: Mapping[str, str | bytes] | None = None,
    more: str = "",
    system: str = "10.0",
    user: str = "ada",
    name: str = "test",
) -> FolderMachine:
    """Make a folder machine of ``user``; ``files`` are machine paths with their contents."""
    mounts = {"C:": "c", "D:": "d"} if platform == "windows" else {"/": "root"}
    for disk in mounts.values():
        (folder / disk).mkdir(parents=True, exist_ok=True)
    disks = "".join(f"  '{mount[0]}': {{folder: {disk}}}\n" for mount, disk in mounts.items())
    (folder / "machine.yaml").write_text(
        f"machine: {name}\nplatform: {platform}\nsystem: '{system}'\nuser: {user}\n"
        f"disks:\n{disks}{more}"
    )
    here, home = FolderMachine(folder), HOMES[platform].replace("ada", user)
    for path, data in {f"{home}/fernbook.ini": INI, **(files or {})}.items():
        host = here.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_bytes(data.encode() if isinstance(data, str) else data)
    return FolderMachine(folder)


def find(here: FolderMachine, body: str, sign: str = SIGN, *, ask: bool = False) -> Finder:
    """Return a finder for a recipe with ``body`` (its places and readings) on ``here``."""
    text = HEAD + sign + body
    loaded = load_recipe_text(text if "items:" in body else text + TAIL, "test", KINDS)
    return find_application(here, loaded, ask_programs=ask)


READINGS = "readings:"
PROGRAM = "/opt/fernbook/fernbook"
TRAIL_HEAD = """
recipe: 1
revision: 1
application:
  id: fernbook
  name: Fernbook
  programs: {fernbook: fernbook}
  screen: [fernbook, say, hello]
  open: [fernbook, open]
  close: [fernbook, close]
  lock: "{notes}/lock"
recognise:
  - sign: {file: "{home}/fernbook.ini"}
places:
  notes: {folder: "{home}/notes"}
  extra: {folder: "{home}/extra"}
readings:
  pages: {files: "{notes}/*.txt"}
  first: {text: "{notes}/one.txt", at: '^(.*)$'}
  begun: {file: "{notes}/session"}
  kept: {ini: "{home}/fernbook.ini", at: fernbook/kept}
asks:
  word: {secret: A word for the file}
  colour: {text: Which colour}
"""


@dataclass(frozen=True)
class Trail:
    """Two machines with Fernbook, and the parcel of a move between them."""

    folder: Path
    hands: Mapping[str, Answer] = field(default_factory=dict)
    medium: Path | None = None

    @property
    def at(self) -> Path:
        """Where the parcel lies."""
        return self.medium or self.folder / "parcel"

    @property
    def old(self) -> FolderMachine:
        return FolderMachine(self.folder / "old")

    @property
    def new(self) -> FolderMachine:
        return FolderMachine(self.folder / "new")

    @property
    def parcel(self) -> Parcel:
        return Parcel(self.at, Effects())

    def notes(self, station: str) -> Path:
        return self.folder / station / "root/home/ada/notes"

    def visit(self, station: Station, effects: Effects | None = None, **patience: Any) -> Visit:
        machine = FolderMachine(self.folder / station, effects)
        patience = {"waits": False, **patience}
        company = Company(Answers(self.hands), patience=Patience(**patience))
        parcel = Parcel(self.at, machine.effects)
        return Visit(parcel, machine, station=station, company=company)

    def walk(self, station: Station, effects: Effects | None = None, **patience: Any) -> LegDone:
        return self.visit(station, effects, **patience).walk(NOW)

    def everything(self) -> str:
        """Return all that the tool wrote or keeps, as one text."""
        files = [p for p in self.folder.rglob("*") if p.is_file()]
        return "".join(p.read_bytes().decode("utf-8", "replace") for p in files)


def outcomes(done: LegDone) -> dict[str, str]:
    """Return how each step came out, by its id: done, or why it did not."""
    return {
        s.step.id: "done" if isinstance(s.outcome, Done) else s.outcome.reason for s in done.steps
    }


def trail(
    folder: Path,
    items: str,
    *,
    hands: Mapping[str, Answer] | None = None,
    places: str = "",
    platform: str = "linux",
    machines: str = "",
    disks: str = "",
    sealed: str = "",
    parcel: Path | None = None,
) -> Trail:
    """Make two machines with notes on old, and set out with a recipe of ``items``.

    ``places`` are more places of the recipe, ``platform`` is new's, ``machines`` more of both
    machine files, ``disks`` more disks of new, ``sealed`` the parcel's passphrase, ``parcel`` where
    it lies, if not beside the machines.
    """
    script = Path(__file__).with_name("fernbook.py")
    programs = (
        f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n{machines}"
    )
    notes = {"/home/ada/notes/one.txt": "one\n", "/home/ada/notes/two.txt": "two\n"}
    for name, files in (("old", notes), ("new", {}), ("between", {})):
        more, on = f"identity: {name}\n{programs}", platform if name == "new" else "linux"
        if name == "new" and disks:
            more = f"{disks}{more}"
            (folder / name / "n").mkdir(parents=True)
        if on == "windows":
            more = more.replace(PROGRAM, f"C:{PROGRAM}.exe")
        program = f"C:{PROGRAM}.exe" if on == "windows" else PROGRAM
        machine(folder / name, on, files={program: "", **files}, more=more)
    known = {"parcel.seal": sealed} if sealed else {}
    made = Trail(folder, {**known, **(hands or {})}, parcel)
    return run_of(made, items, "run", places=places, sealed=sealed)


def run_of(made: Trail, items: str, run: str, *, places: str = "", sealed: str = "") -> Trail:
    """Set out with a recipe of ``items`` between two machines that are there, as ``run``."""
    loaded = load_recipe_text(
        f"{TRAIL_HEAD.replace(READINGS, places + READINGS)}items:\n{items}", "test", KINDS
    )
    plan = make_plan([loaded], made.old, made.new, medium_of(made.at), NOW)
    card = make_card(made.new, [loaded])
    seal = (
        make_seal(sealed, "a bird at the pond", "please call the glass office") if sealed else None
    )
    set_out(made.at, plan, [loaded], run, NOW, Effects(), Along(card, sealed=seal))
    return made


def moved(
    folder: Path,
    body: str,
    old: FolderMachine,
    new: FolderMachine,
    choices: Choices | None = None,
) -> Trail:
    """Set out with a recipe of ``body`` (its places, readings and items) between two machines.

    They must lie in ``old`` and ``new`` below ``folder``.
    """
    loaded = load_recipe_text(HEAD + SIGN + body, "test", KINDS)
    made = Trail(folder)
    plan = make_plan([loaded], old, new, medium_of(made.at), NOW, choices)
    along = Along(make_card(new, [loaded]), choices)
    set_out(made.at, plan, [loaded], "run", NOW, Effects(), along)
    return made


def item(steps: str, more: str = "") -> str:
    """Return one item, the notes, that goes by one route with the legs ``steps``."""
    return f"""
  notes:
    title: Notes
    from: notes
    leave: [lock]
{more}
    routes:
      - name: way
{steps}
"""
