"""The files that say what the demo machines are."""

from __future__ import annotations

import plistlib
import random
from datetime import UTC, datetime
from pathlib import Path

from widetrail_demo.__main__ import start_command
from widetrail_demo.herbarium import (
    write_text,
)


def windows_machine(
    folder: Path, name: str, user: str, programs: dict[str, str], *, system: str
) -> Path:
    """Make a Windows machine with drives C and D and ``programs`` installed; return the home."""
    home = folder / "disks/C/Users" / user
    for below in ("AppData/Roaming", "AppData/Local/Temp", "Desktop", "Documents", "Downloads"):
        (home / below).mkdir(parents=True)
    (folder / "disks/D").mkdir()
    (folder / "disks/C/ProgramData").mkdir()
    moment = datetime(2023, 5, 2, tzinfo=UTC)
    for program, release in programs.items():
        installed = folder / "disks/C/Program Files" / program
        write_text(installed / "release.txt", f"{release}\n", moment)
        write_text(installed / f"{_command(program)}.exe", "a stand-in plays this\n", moment)
    paths = {p: f"C:/Program Files/{p}/{_command(p)}.exe" for p in programs}
    disks = (
        "  C: {folder: disks/C, size: 256 GiB, format: NTFS}\n"
        "  D: {folder: disks/D, size: 1 TiB, format: NTFS}\n"
    )
    _machine_file(folder, name, "windows", system, user, disks, paths)
    return home


def macos_machine(folder: Path, name: str, user: str, programs: dict[str, str]) -> Path:
    """Make a macOS machine with ``programs`` installed; return the home."""
    home = folder / "disks/root/Users" / user
    for below in ("Documents", "Desktop", "Library/Application Support", "Library/Preferences"):
        (home / below).mkdir(parents=True)
    moment = datetime(2023, 5, 2, tzinfo=UTC)
    for program, release in programs.items():
        contents = folder / f"disks/root/Applications/{program}.app/Contents"
        write_text(contents / "MacOS" / program.lower(), "a stand-in plays this\n", moment)
        about = {"CFBundleName": program, "CFBundleShortVersionString": release}
        (contents / "Info.plist").write_bytes(plistlib.dumps(about))
    paths = {p: f"/Applications/{p}.app/Contents/MacOS/{p.lower()}" for p in programs}
    disks = "  /: {folder: disks/root, size: 500 GiB, format: APFS}\n"
    _machine_file(folder, name, "macos", "14.5", user, disks, paths)
    return home


def linux_machine(folder: Path, name: str, user: str, programs: dict[str, str]) -> Path:
    """Make a Linux machine with ``programs`` installed; return the home."""
    home = folder / "disks/root/home" / user
    for below in (".config", ".local/share", ".local/state", ".cache", "Schreibtisch"):
        (home / below).mkdir(parents=True)
    moment = datetime(2024, 5, 2, tzinfo=UTC)
    (folder / "disks/root/tmp").mkdir()
    for program, release in programs.items():
        opt = folder / f"disks/root/opt/{program.lower()}"
        write_text(opt / program.lower(), "a stand-in plays this\n", moment)
        write_text(opt / "release.txt", f"{release}\n", moment)
    paths = {p: f"/opt/{p.lower()}/{p.lower()}" for p in programs}
    disks = "  /: {folder: disks/root, size: 120 GiB, format: ext4}\n"
    _machine_file(folder, name, "linux", "12", user, disks, paths)
    return home


def _machine_file(
    folder: Path,
    name: str,
    platform: str,
    system: str,
    user: str,
    disks: str,
    programs: dict[str, str],
) -> None:
    identity = f"{random.Random(name).getrandbits(64):016x}"
    installed = "".join(
        f"  - path: {path}\n    start: {start_command(_command(program))}\n    paths: machine\n"
        for program, path in programs.items()
    )
    (folder / "machine.yaml").write_text(
        f"machine: {name}\n"
        f"identity: {identity}\n"
        f"platform: {platform}\n"
        f"system: '{system}'\n"
        f"user: {user}\n"
        f"administrator: no\n"
        f"network: yes\n"
        f"disks:\n{disks}"
        f"programs:\n{installed}",
        encoding="utf-8",
    )


def _command(program: str) -> str:
    return "seedling-quest" if program == "SeedlingQuest" else program.lower()
