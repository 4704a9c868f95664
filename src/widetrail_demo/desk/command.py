"""The command ``desk``, and what it keeps: ``desk.ini``, ``strip.json``, a folder kept in step."""

from __future__ import annotations

import argparse
import json
from configparser import ConfigParser
from pathlib import Path

from widetrail_demo import here


def root() -> Path:
    """Return the folder of the settings."""
    return here.config_folder() / "Desk"


def main() -> None:
    """Run ``desk`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("desk", description="The desktop.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print pointer, launch strip, pinned places and sign-ins")
    sign = commands.add_parser("sign-in", help="sign in to the folder that is kept in step")
    sign.add_argument("name")
    arguments = parser.parse_args()
    settings = ConfigParser(interpolation=None)
    settings.read(root() / "desk.ini", encoding="utf-8")
    if arguments.command == "sign-in":
        settings["sign-ins"] = {"leafdrop": arguments.name}
        root().mkdir(parents=True, exist_ok=True)
        with (root() / "desk.ini").open("w", encoding="utf-8") as file:
            settings.write(file)
        return
    pointer = settings["pointer"] if settings.has_section("pointer") else {}
    print(f"Pointer: speed {pointer.get('speed', '5')}, left-handed {pointer.get('left', 'no')}")
    strip = root() / "strip.json"
    launched = json.loads(strip.read_text(encoding="utf-8")) if strip.exists() else {}
    print(f"Launch strip: {', '.join(launched.get('programs', [])) or 'empty'}")
    for pinned in launched.get("pinned", []):
        print(f"Pinned: {pinned}")
    print(f"Signed in: {settings.get('sign-ins', 'leafdrop', fallback='nobody')}")


if __name__ == "__main__":
    main()
