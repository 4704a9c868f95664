"""The command ``frondsign``, and what Frondsign keeps.

A sign is a folder ``NAME.sign`` with ``sign.json`` and ``assets``. The signs lie in one folder,
which the settings tell; until release 4 it was called Labels. One sign can be saved to a file and
added elsewhere; before release 4 the list shows it only after a restart. The settings are XML on
Windows, a property list on macOS and TOML on Linux.
"""

from __future__ import annotations

import argparse
import json
import plistlib
import shutil
import sys
import time
import tomllib
import zipfile
from pathlib import Path
from urllib.parse import unquote, urlsplit

from widetrail_demo import here
from widetrail_demo.opening import held_open, tell_to_end

_FILES = {
    "windows": "Frondsign/settings.xml",
    "macos": "example.fernlight.frondsign.plist",
    "linux": "frondsign/settings.toml",
}


def settings_file() -> Path:
    """Return the settings file of the account."""
    return here.preferences_folder() / _FILES[here.PLATFORM]


def read_grid() -> str:
    """Return the grid of the drawing table, as the settings tell it."""
    path = settings_file()
    data = path.read_bytes() if path.exists() else b""
    if here.PLATFORM == "macos":
        return str(plistlib.loads(data).get("Grid", 5) if data else 5)
    if here.PLATFORM == "linux":
        return str(tomllib.loads(data.decode()).get("grid", 5))
    from xml.etree import ElementTree

    return ElementTree.fromstring(data).get("grid", "5") if data else "5"


def told_folder() -> str:
    """Return the folder of the signs as the settings tell it, or an empty text."""
    path = settings_file()
    if not path.exists():
        return ""
    data = path.read_bytes()
    if here.PLATFORM == "macos":
        told: str = plistlib.loads(data).get("Library", {}).get("Folder", "")
        return told
    if here.PLATFORM == "linux":
        return str(tomllib.loads(data.decode()).get("library", {}).get("folder", ""))
    from xml.etree import ElementTree

    element = ElementTree.fromstring(data).find("library")  # its own file
    return element.get("folder", "") if element is not None else ""


def write_told_folder(folder: str) -> None:
    """Write the settings with the folder of the signs."""
    path = settings_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    if here.PLATFORM == "macos":
        grid = int(read_grid())
        library = {"Library": {"Folder": folder}, "Grid": grid}
        path.write_bytes(plistlib.dumps(library, fmt=plistlib.FMT_BINARY))
    elif here.PLATFORM == "linux":
        path.write_text(
            f"grid = {read_grid()}\n\n[library]\nfolder = {json.dumps(folder)}\n", encoding="utf-8"
        )
    else:
        from xml.sax.saxutils import quoteattr  # slow to import, and only this needs it

        element = f"  <library folder={quoteattr(folder)}/>\n"
        quoted = quoteattr(read_grid())
        text = f'<?xml version="1.0"?>\n<settings grid={quoted}>\n{element}</settings>\n'
        path.write_text(text, encoding="utf-8")


def signs_folder() -> Path:
    """Return the folder of the signs."""
    told = told_folder()
    if told.startswith("~"):
        return Path.home() / told[2:]
    if told:
        return here.real(unquote(urlsplit(told).path) if told.startswith("file:") else told)
    return here.documents_folder() / "Frondsign" / ("Labels" if is_early() else "Signs")


def is_early() -> bool:
    """Return whether it is a release before 4: it lists signs only when it starts."""
    return int(here.release("4.0").split(".")[0]) < 4


def shown_file() -> Path:
    """Return the list of signs as an early release made it when it started last."""
    return here.config_folder() / "Frondsign" / "shown.json"


def main() -> None:
    """Run ``frondsign`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("frondsign", description="Signs and labels for beds.")
    parser.add_argument("--release", action="version", version=f"Frondsign {here.release('4.0')}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the signs")
    move = commands.add_parser("move", help="keep the signs in another folder")
    move.add_argument("folder")
    save = commands.add_parser("save", help="write one sign with its pictures to a file")
    save.add_argument("sign")
    save.add_argument("--to", required=True)
    add = commands.add_parser("add", help="add a sign that was written to a file")
    add.add_argument("file")
    add.add_argument(
        "--same-name", choices=["refuse", "leave", "over", "another"], default="refuse"
    )
    opened = commands.add_parser("open", help="start it, and leave it open")
    opened.add_argument("--for", dest="seconds", type=float, default=3600.0)
    commands.add_parser("close", help="ask an open Frondsign to end")
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "move":
            _move(arguments.folder)
        case "save":
            _save(arguments.sign, here.real(arguments.to))
        case "add":
            _add(here.real(arguments.file), arguments.same_name)
        case "open":
            _open(arguments.seconds)
        case "close":
            tell_to_end(_lock())


def _move(folder: str) -> None:
    target = here.real(folder)
    if target.exists():
        sys.exit(f"frondsign: there is something at {folder} already")
    target.parent.mkdir(parents=True, exist_ok=True)
    signs_folder().rename(target)
    write_told_folder(folder)


def _there() -> list[Path]:
    return sorted(signs_folder().glob("*.sign"), key=lambda p: p.name)


def _list() -> None:
    signs = _there()
    if is_early() and shown_file().exists():
        shown = json.loads(shown_file().read_text(encoding="utf-8"))["signs"]
        signs = [sign for sign in signs if sign.stem in shown]
    print(f"Frondsign: {len(signs)} signs, grid {read_grid()}")
    for sign in signs:
        told = json.loads((sign / "sign.json").read_text(encoding="utf-8"))
        assets = len(list((sign / "assets").iterdir()))
        print(f"  {sign.stem}: {told['text']} ({told['size']}, {assets} pictures)")


def _save(name: str, to: Path) -> None:
    sign = signs_folder() / f"{name.removesuffix('.sign')}.sign"
    if not sign.is_dir():
        sys.exit(f"frondsign: there is no sign {name}")
    files = [path for path in sorted(sign.rglob("*")) if path.is_file()]
    with zipfile.ZipFile(to, "w") as archive:
        archive.writestr("name", sign.stem)
        for path in files:
            archive.write(path, path.relative_to(sign).as_posix())
    print(f"pictures: {len(files) - 1}")


def _add(file: Path, same_name: str) -> None:
    with zipfile.ZipFile(file) as archive:
        name = archive.read("name").decode()
        target = signs_folder() / f"{name}.sign"
        if target.exists() and same_name == "refuse":
            sys.exit(f"frondsign: there is a sign {name} already; say --same-name")
        if target.exists() and same_name == "leave":
            print(f"left: {name}")
            return
        if target.exists() and same_name == "over":
            shutil.rmtree(target)
        number = 2
        while target.exists():
            target, number = signs_folder() / f"{name} {number}.sign", number + 1
        archive.extractall(target, [n for n in archive.namelist() if n != "name"])
        (target / "assets").mkdir(exist_ok=True)
    print(f"added: {target.stem}")


def _lock() -> Path:
    return shown_file().with_name("frondsign.lock")


def _open(seconds: float) -> None:
    """Start: an early release makes its list now, and at no other time."""
    if _lock().exists():
        sys.exit("frondsign: it is open already")
    with held_open(_lock()):
        shown = {"signs": [sign.stem for sign in _there()]}
        shown_file().write_text(json.dumps(shown, ensure_ascii=False), encoding="utf-8")
        print("Frondsign is open.", flush=True)
        time.sleep(seconds)


if __name__ == "__main__":
    main()
