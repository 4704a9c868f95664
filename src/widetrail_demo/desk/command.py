"""The command ``desk``, and what it keeps.

``strip.json`` holds launch strip and pinned places, ``sign-ins.ini`` who is signed in where. How
the pointer goes and which folder is shown first lies where the platform keeps such things: the
registry, the desktop's settings database, or a preference file. A folder that Commonbed keeps in
step comes back file by file after the sign-in.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import time
from configparser import ConfigParser
from pathlib import Path
from urllib.parse import unquote, urlsplit

from widetrail_demo import here
from widetrail_demo.desk.settings import read_pointer

PAUSE = 0.1
"""Seconds that Commonbed takes for a file."""


def root() -> Path:
    """Return the folder of the settings."""
    return here.config_folder() / "Desk"


def main() -> None:
    """Run ``desk`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("desk", description="The desktop.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print pointer, launch strip, pinned places and sign-ins")
    sign = commands.add_parser("sign-in", help="sign in to Commonbed")
    sign.add_argument("name")
    commands.add_parser("keep-in-step", help="bring what Commonbed keeps, file by file")
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "sign-in":
            _sign_in(arguments.name)
        case "keep-in-step":
            _keep_in_step()


def _read(name: str) -> ConfigParser:
    settings = ConfigParser(interpolation=None)
    settings.read(root() / name, encoding="utf-8")
    return settings


def _list() -> None:
    pointer = read_pointer()
    print(f"Pointer: speed {pointer.get('speed', '5')}, left-handed {pointer.get('left', 'no')}")
    print(f"First folder: {_shown(pointer.get('folder', ''))}")
    strip = root() / "strip.json"
    launched = json.loads(strip.read_text(encoding="utf-8")) if strip.exists() else {}
    print(f"Launch strip: {', '.join(launched.get('programs', [])) or 'empty'}")
    for pinned in launched.get("pinned", []):
        print(f"Pinned: {_shown(pinned)}")
    print(f"Signed in: {_read('sign-ins.ini').get('sign-ins', 'commonbed', fallback='nobody')}")
    kept = Path.home() / "Commonbed"
    names = sorted(p.name for p in kept.iterdir()) if kept.is_dir() else []
    print(f"Commonbed: {', '.join(names) or 'nothing'}")


def _shown(folder: str) -> str:
    """Return a folder as the desktop shows it: its name, or that it is not there."""
    for home in ("~", "%USERPROFILE%"):
        folder = folder.replace(home, str(Path.home()))
    path = here.real(unquote(urlsplit(folder).path) if folder.startswith("file:") else folder)
    return f"{path.name} is not there" if folder and not path.is_dir() else path.name or "none"


def _sign_in(name: str) -> None:
    root().mkdir(parents=True, exist_ok=True)
    text = f"[sign-ins]\ncommonbed = {name}\n"
    (root() / "sign-ins.ini").write_text(text, encoding="utf-8")
    command = [sys.executable, "-m", "widetrail_demo.desk.command", "keep-in-step"]
    environment = {**os.environ, "FOLDER_MACHINE_PROGRAM": "Commonbed"}  # a service, not the desk
    quiet = subprocess.DEVNULL
    alone = 0
    if sys.platform == "win32":
        alone = subprocess.CREATE_BREAKAWAY_FROM_JOB | subprocess.DETACHED_PROCESS
    subprocess.Popen(
        command,
        env=environment,
        stdin=quiet,
        stdout=quiet,
        stderr=quiet,
        start_new_session=True,
        creationflags=alone,
    )


def _keep_in_step() -> None:
    kept = here.service_folder("commonbed")
    target = Path.home() / "Commonbed"
    for path in sorted(kept.iterdir()) if kept is not None else ():
        time.sleep(PAUSE)
        target.mkdir(exist_ok=True)
        shutil.copy2(path, target / f".{path.name}")
        (target / f".{path.name}").rename(target / path.name)


if __name__ == "__main__":
    main()
