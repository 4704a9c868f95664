"""Where Desk keeps how the pointer goes: registry, settings database or preference file.

On a machine that is played by folders, the registry is the text ``registry.reg`` and the database
the text ``desktop.dconf`` in the machine's folder (``docs/folder-machine.md``).
"""

from __future__ import annotations

import os
import plistlib
import re
from collections.abc import Mapping
from pathlib import Path

from widetrail_demo import here

KEY = r"HKEY_CURRENT_USER\Software\Desk"
PATH = "example/marrowfield/desk"
PREFERENCES = "example.marrowfield.desk.plist"


def read_pointer() -> Mapping[str, str]:
    """Return the settings by name: ``speed``, ``left`` and ``folder``; none that are not there."""
    machine = Path(os.environ.get("FOLDER_MACHINE", "/nowhere"))
    if here.PLATFORM == "windows":
        return _from_registry(machine / "registry.reg")
    if here.PLATFORM == "linux":
        return _from_database(machine / "desktop.dconf")
    file = here.preferences_folder() / PREFERENCES
    told = plistlib.loads(file.read_bytes()) if file.exists() else {}
    return _named(told.get("Pointer", {}) | {"Folder": told.get("Folder", "")})


def _named(values: Mapping[str, object]) -> dict[str, str]:
    words = {True: "yes", False: "no"}
    told = {name.lower(): words[v] if isinstance(v, bool) else str(v) for name, v in values.items()}
    return {name: value for name, value in told.items() if value}


def _from_registry(file: Path) -> dict[str, str]:
    if not file.exists():
        return {}
    text = file.read_bytes().decode("utf-16").replace("\\\r\n  ", "")
    inside, values = False, dict[str, object]()
    for line in text.splitlines():
        if line.startswith("["):
            inside = line.strip("[]").casefold().startswith(KEY.casefold())
        elif inside and (found := re.fullmatch(r'"(\w+)"=(.*)', line)):
            values[found[1]] = _value(found[2])
    return _named(values)


def _value(text: str) -> object:
    if text.startswith("dword:"):
        return int(text[6:], 16)
    if text.startswith("hex(2):"):
        return bytes.fromhex(text[7:].replace(",", "")).decode("utf-16-le").rstrip("\0")
    return text.strip('"').replace("\\\\", "\\")


def _from_database(file: Path) -> dict[str, str]:
    if not file.exists():
        return {}
    group, values = "", dict[str, object]()
    for line in file.read_text(encoding="utf-8").splitlines():
        if line.startswith("["):
            group = line.strip("[]")
        elif group.startswith(PATH) and "=" in line:
            name, _, text = line.partition("=")
            words: dict[str, object] = {"true": True, "false": False}
            values[name] = words.get(text, text.strip("'"))
    return _named(values)
