"""The settings of the desk on each platform."""

from __future__ import annotations

import json
import plistlib
from datetime import UTC, datetime
from pathlib import Path

from widetrail_demo.herbarium import (
    write_text,
)
from widetrail_demo.machine_files import linux_machine
from widetrail_demo.other_programs import write_wicketleaf_mail

REGISTRY = r"""Windows Registry Editor Version 5.00

[HKEY_CURRENT_USER\Software\Marram\Quillbox]
"Release"="8.4"
"Installed"=dword:0133b2c1

[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders]
"Personal"=hex(2):25,00,55,00,53,00,45,00,52,00,50,00,52,00,4f,00,46,00,49,00,\
  4c,00,45,00,25,00,5c,00,44,00,6f,00,63,00,75,00,6d,00,65,00,6e,00,74,00,73,00,\
  00,00
"""


def write_registry(folder: Path, text: str) -> None:
    (folder / "registry.reg").write_bytes(text.replace("\n", "\r\n").encode("utf-16"))


def expanded(text: str) -> str:
    """Return a text in which variables are expanded, as a registry text has it."""
    return f"hex(2):{f'{text}{chr(0)}'.encode('utf-16-le').hex(',')}"


def desk_keys(values: dict[str, str], width: str) -> str:
    key = r"HKEY_CURRENT_USER\Software\Desk"
    lines = "".join(f'"{name}"={value}\n' for name, value in values.items())
    return f'\n[{key}\\Pointer]\n{lines}\n[{key}\\Screens\\1]\n"Width"=dword:{width}\n'


def desk_preferences(home: Path, pointer: dict[str, object], folder: str) -> None:
    told = {"Pointer": pointer, "Folder": folder, "Screens": {"1": {"Width": 1440}}}
    path = home / "Library/Preferences/example.marrowfield.desk.plist"
    path.write_bytes(plistlib.dumps(told, fmt=plistlib.FMT_BINARY))


def write_desk(home: Path, programs: list[str], pinned: list[str]) -> None:
    root, moment = home / "AppData/Roaming/Desk", datetime(2025, 1, 9, tzinfo=UTC)
    write_text(root / "strip.json", json.dumps({"programs": programs, "pinned": pinned}), moment)


_BOTHY = """[example/marrowfield/desk/pointer]
speed=3
wheel=uint32 4

[example/marrowfield/other]
kept=true
"""


def bothy(folder: Path) -> None:
    """The replacement of the Linux desk, with a pointer of its own."""
    home = linux_machine(
        folder, "bothy", "pietk", {"Frondsign": "4.2", "Desk": "1.3", "Wicketleaf": "2.3"}
    )
    (folder / "desktop.dconf").write_text(_BOTHY, encoding="utf-8")
    text = 'grid = 2\n\n[library]\nfolder = "/home/pietk/Labels"\n'
    write_text(home / ".config/frondsign/settings.toml", text, datetime(2026, 9, 1, tzinfo=UTC))
    (home / "Labels").mkdir()
    write_wicketleaf_mail(home / ".local/share/wicketleaf")
