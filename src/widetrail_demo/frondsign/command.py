"""The command ``frondsign``, and what Frondsign keeps.

A sign is a folder ``NAME.sign`` with ``sign.json`` and ``assets``. The signs lie in one folder,
which the settings tell; until release 4 it was called Labels. The settings are XML on Windows, a
property list on macOS and TOML on Linux.
"""

from __future__ import annotations

import argparse
import json
import plistlib
import sys
import tomllib
from pathlib import Path
from urllib.parse import unquote, urlsplit
from xml.sax.saxutils import quoteattr

from widetrail_demo import here

_FILES = {
    "windows": "Frondsign/settings.xml",
    "macos": "org.fernlight.frondsign.plist",
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
    early = int(here.release("4.0").split(".")[0]) < 4
    return here.documents_folder() / "Frondsign" / ("Labels" if early else "Signs")


def main() -> None:
    """Run ``frondsign`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("frondsign", description="Signs and labels for beds.")
    parser.add_argument("--release", action="version", version=f"Frondsign {here.release('4.0')}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the signs")
    move = commands.add_parser("move", help="keep the signs in another folder")
    move.add_argument("folder")
    arguments = parser.parse_args()
    if arguments.command == "move":
        target = here.real(arguments.folder)
        if target.exists():
            sys.exit(f"frondsign: there is something at {arguments.folder} already")
        target.parent.mkdir(parents=True, exist_ok=True)
        signs_folder().rename(target)
        write_told_folder(arguments.folder)
        return
    signs = sorted(signs_folder().glob("*.sign"), key=lambda p: p.name)
    print(f"Frondsign: {len(signs)} signs, grid {read_grid()}")
    for sign in signs:
        told = json.loads((sign / "sign.json").read_text(encoding="utf-8"))
        assets = len(list((sign / "assets").iterdir()))
        print(f"  {sign.stem}: {told['text']} ({told['size']}, {assets} pictures)")


if __name__ == "__main__":
    main()
