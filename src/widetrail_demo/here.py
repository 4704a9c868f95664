"""Where a stand-in program is: drives and folders of the computer it was started on.

A stand-in started on a real computer uses that computer's own folders. On a machine that is
played by folders, these variables say where things lie (``docs/folder-machine.md``):
``FOLDER_MACHINE`` (the folder that plays the machine), ``FOLDER_MACHINE_PLATFORM``,
``FOLDER_MACHINE_USER``, ``FOLDER_MACHINE_DISKS`` (JSON: drive or mount point to folder) and
``FOLDER_MACHINE_PROGRAM`` (the path the program was started by).
"""

from __future__ import annotations

import getpass
import json
import os
import sys
from pathlib import Path

PLATFORM = os.environ.get(
    "FOLDER_MACHINE_PLATFORM",
    {"win32": "windows", "darwin": "macos"}.get(sys.platform, "linux"),
)


def config_folder() -> Path:
    """Return the folder for the account's settings."""
    if PLATFORM == "windows":
        return Path(os.environ["APPDATA"])
    if PLATFORM == "macos":
        return Path.home() / "Library" / "Application Support"
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")


def user() -> str:
    """Return the account's name."""
    return os.environ.get("FOLDER_MACHINE_USER") or getpass.getuser()


def service_folder(name: str) -> Path | None:
    """Return what a service on the network keeps, as this computer reaches it, if it does."""
    machine = os.environ.get("FOLDER_MACHINE")
    folder = Path(machine) / "services" / name if machine else None
    return folder if folder is not None and folder.is_dir() else None


def documents_folder() -> Path:
    """Return the account's documents."""
    return Path.home() / "Documents"


def preferences_folder() -> Path:
    """Return the folder for preference files, where the platform tells it from settings."""
    return Path.home() / "Library" / "Preferences" if PLATFORM == "macos" else config_folder()


def release(otherwise: str) -> str:
    """Return the release that was installed: a file beside the program says it."""
    for name in ("release.txt", "../Info.plist", "../share/release.txt"):
        path = program_folder() / name
        if path.is_file():
            if path.suffix == ".plist":
                import plistlib  # which most machines have no use for

                told: str = plistlib.loads(path.read_bytes())["CFBundleShortVersionString"]
                return told
            return path.read_text(encoding="utf-8").strip()
    return otherwise


def program_folder() -> Path:
    """Return the folder the program is installed in."""
    return real(os.environ.get("FOLDER_MACHINE_PROGRAM", sys.argv[0])).parent


def real(path: str) -> Path:
    """Return where a path of this computer (``D:\\Post`` or ``/home/x``) really lies."""
    path = path.replace("\\", "/") if PLATFORM == "windows" else path
    disks: dict[str, str] = json.loads(os.environ.get("FOLDER_MACHINE_DISKS", "{}"))
    for mount in sorted(disks, key=len, reverse=True):
        if path.casefold().startswith(mount.casefold()):
            return _spelled(Path(disks[mount]), path[len(mount) :])
    return Path(path)


def _spelled(folder: Path, rest: str) -> Path:
    """Follow ``rest`` below ``folder`` as a volume does on which case does not matter."""
    for name in filter(None, rest.split("/")):
        if PLATFORM != "linux" and folder.is_dir() and not (folder / name).exists():
            same = (p.name for p in folder.iterdir() if p.name.casefold() == name.casefold())
            name = next(same, name)
        folder /= name
    return folder
