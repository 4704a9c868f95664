"""Beginning a recipe: a first edition from a few answers, with machines to rehearse it on.

What is made passes: the rehearsal has a case in which all arrives, one with something in its place
on new, and one whose check fails, so that every branch of the first edition is reached.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.paths import join, trouble_with_name
from widetrail.machine.platforms import PLATFORMS, STRICTEST, Platform
from widetrail.machine.platforms.linux import LINUX
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import examine
from widetrail.recipe.templates import ROOTS
from widetrail.rehearsing.rehearsal import SUFFIX
from widetrail.rehearsing.stage import MACHINES
from widetrail.steps import KINDS

SAMPLES = {
    "first.txt": "made for the rehearsal\n",
    "more/second – näive.txt": "a name with a dash, an umlaut and a space\n",
    "more/empty.txt": "",
}
"""What lies in the place on old: names below it and texts. Put samples of the program there."""

SCHEMAS = "schemas"
"""The folder beside a recipe in which editors find what may stand where."""

_MODELINE = f"# yaml-language-server: $schema={SCHEMAS}/{{}}.json"


@dataclass(frozen=True)
class Beginning:
    """What must be known to begin: the program, and one folder in which it keeps what matters.

    ``keeps`` and ``sign`` are paths as recipes write them, beginning with a root in braces;
    ``sign`` is a file that shows the program is there.
    """

    id: str
    name: str
    maker: str
    platform: Platform
    keeps: str
    sign: str


def usual_sign(platform: Platform, name: str) -> str:
    """Return where a program's file usually is."""
    plain = re.sub(r"\W+", "-", name.casefold()).strip("-") or "program"
    folder = usual_folder(name)
    return PLATFORMS[platform].sample.program.format(folder=folder, name=plain)


def usual_folder(name: str) -> str:
    """Return what a program's folder is usually called: its name, as any volume can have it."""
    fit = " ".join(re.sub(r'[<>:"/\\|?*\x00-\x1f]', " ", name).split()).strip(". ")
    return fit if fit and not trouble_with_name(fit, STRICTEST) else usual_id(name) or "program"


def usual_id(name: str) -> str:
    """Return an id that the name suggests."""
    return re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")


def begin_recipe(folder: Path, told: Beginning) -> tuple[Path, ...]:
    """Write recipe, rehearsal and two machines into ``folder``; return what was made.

    Raises:
        InputUnusable: Something of it is there already, or a path begins with no root.
        DocumentUnusable: The answers make no recipe.

    Example:
        >>> from pathlib import Path
        >>> words = ("ledge", "Ledge", "Conker Rooms", "linux")
        >>> told = Beginning(*words, "{documents}/Ledge", "{programs}/Ledge/ledge")
        >>> [path.name for path in begin_recipe(Path("ledge"), told)][:2]
        ['ledge.trail.yaml', 'ledge.rehearsal.yaml']
    """
    recipe, rehearsal = folder / f"{told.id}{RECIPE_SUFFIX}", folder / f"{told.id}{SUFFIX}"
    old, new = (folder / MACHINES / f"{told.id}-{station}" for station in ("old", "new"))
    for path in (recipe, rehearsal, old, new):
        if path.exists():
            raise InputUnusable("already exists", where=str(path), todo="Name another folder.")
    roots = {name: _root_of(path) for name, path in (("keeps", told.keeps), ("sign", told.sign))}
    text = _recipe(told)
    loaded, findings = examine(text, str(recipe), KINDS)
    if loaded is None:
        raise DocumentUnusable(str(recipe), findings)
    folder.mkdir(parents=True, exist_ok=True)
    recipe.write_text(text, encoding="utf-8")
    _machine(old, told, "anna", {}, SAMPLES)
    moved = {} if roots["keeps"] == "programs" else _moved(told.platform, roots["keeps"])
    _machine(new, told, "anna.berg", moved, {})
    place = _here(FolderMachine(new), told.keeps)
    rehearsal.write_text(_rehearsal(told, place), encoding="utf-8")
    return recipe, rehearsal, old, new


def _root_of(path: str) -> str:
    match = re.match(r"\{(\w+)\}/.", path)
    if match is None or match[1] not in ROOTS:
        known = " ".join(f"{{{name}}}" for name in sorted(ROOTS))
        raise InputUnusable(
            "the path does not begin with a root",
            where=path,
            todo=f"Write it like {{documents}}/Program; the roots are {known}.",
        )
    return match[1]


def _moved(platform: Platform, root: str) -> Mapping[str, str]:
    """Return the root of what is kept, on the other disk of the new machine."""
    return {root: f"{PLATFORMS[platform].sample.second}/{root}"}


def _machine(
    folder: Path,
    told: Beginning,
    user: str,
    redirected: Mapping[str, str],
    files: Mapping[str, str],
) -> None:
    """Make a machine on which the program is, with ``files`` in the place."""
    for _, disk in PLATFORMS[told.platform].sample.disks:
        (folder / disk).mkdir(parents=True)
    disks = "".join(
        f"  {name}: {{folder: {disk}}}\n" for name, disk in PLATFORMS[told.platform].sample.disks
    )
    moved = "".join(f"  {root}: {json.dumps(path)}\n" for root, path in redirected.items())
    (folder / "machine.yaml").write_text(
        f"machine: {folder.name}\nplatform: {told.platform}\n"
        f"system: '{PLATFORMS[told.platform].sample.system}'\nuser: {user}\n"
        + ("isolated: yes\n" if told.platform == LINUX.name else "")
        + (f"redirected:\n{moved}" if moved else "")
        + f"disks:\n{disks}",
        encoding="utf-8",
    )
    machine = FolderMachine(folder)
    _put(machine, _here(machine, told.sign), "this stands for the program\n")
    for root in ("home", "documents", "config", "data", "state", "temp"):
        machine.host(machine.root(root)).mkdir(parents=True, exist_ok=True)
    for name, text in files.items():
        _put(machine, join(_here(machine, told.keeps), name), text)


def _here(machine: FolderMachine, template: str) -> str:
    root = _root_of(template)
    return join(machine.root(root), template[len(root) + 3 :])


def _put(machine: FolderMachine, path: str, text: str) -> None:
    host = machine.host(path)
    host.parent.mkdir(parents=True, exist_ok=True)
    host.write_text(text, encoding="utf-8")


def _recipe(told: Beginning) -> str:
    quoted = {name: json.dumps(value, ensure_ascii=False) for name, value in vars(told).items()}
    return f"""{_MODELINE.format("recipe")}
recipe: 1
revision: 1
application:
  id: {told.id}
  name: {quoted["name"]}
  maker: {quoted["maker"]}

recognise:
  - sign: {{file: {quoted["sign"]}}}

places:
  kept: {{folder: {quoted["keeps"]}}}

readings:
  files_there: {{files: "{{kept}}"}}            # better: what the program itself counts

items:
  kept:
    title: What {told.name.replace(":", "")} keeps
    from: kept
    checks:
      files_there: {{compare: same}}
    routes:
      - name: whole folder
        legs:
          - new: [copy]
"""


def _rehearsal(told: Beginning, place: str) -> str:
    count = len(SAMPLES)
    own = json.dumps(join(place, "own.txt"), ensure_ascii=False)
    return f"""{_MODELINE.format("rehearsal")}
rehearsal: another user, and what is kept lies on another disk
recipe: {told.id}
old: {{machine: {told.id}-old}}
new: {{machine: {told.id}-new}}
each:
  - case: nothing is there yet
    expect:
      kept: {{route: whole folder, backed_up: no, checks: {{files_there: {count}}}}}
  - case: what is there already is backed up
    new: {{files: {{{own}: of the new one}}}}
    expect:
      kept: {{backed_up: yes, checks: {{files_there: {count}}}}}
      at_the_end: {{new: {{gone: {own}}}}}
  - case: the check notices a file too many
    stops:
      - before: kept/check
        by: {{files: {{{own}: added by someone}}}}
    expect:
      kept: {{state: failed, checks: {{files_there: {{differs: {count + 1}}}}}}}
"""
