"""Small machines and recipes for single tests."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from widetrail.finding import Finder
from widetrail.machine import FolderMachine
from widetrail.recipe import load_recipe_text
from widetrail.steps import KINDS

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
) -> FolderMachine:
    """Make a folder machine of account ada; ``files`` are machine paths with their contents."""
    mounts = {"C:": "c", "D:": "d"} if platform == "windows" else {"/": "root"}
    for name in mounts.values():
        (folder / name).mkdir(parents=True, exist_ok=True)
    disks = "".join(f"  '{mount[0]}': {{folder: {name}}}\n" for mount, name in mounts.items())
    (folder / "machine.yaml").write_text(
        f"machine: test\nplatform: {platform}\nsystem: '{system}'\nuser: ada\ndisks:\n{disks}{more}"
    )
    here = FolderMachine(folder)
    for path, data in {f"{HOMES[platform]}/fernbook.ini": INI, **(files or {})}.items():
        host = here.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_bytes(data.encode() if isinstance(data, str) else data)
    return FolderMachine(folder)


def find(here: FolderMachine, body: str, sign: str = SIGN, *, ask: bool = False) -> Finder:
    """Return a finder for a recipe with ``body`` (its places and readings) on ``here``."""
    text = HEAD + sign + body
    loaded = load_recipe_text(text if "items:" in body else text + TAIL, "test", KINDS)
    return Finder(here, loaded, ask_programs=ask)
