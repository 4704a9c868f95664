"""What this machine tells of its folders, programs and services, after some were registered."""

import json
import os
import sys

assert sys.platform == "win32"
import winreg

from widetrail.machine import this_machine
from widetrail.recipe.templates import ROOTS

VERSION = r"Software\Microsoft\Windows\CurrentVersion"


def put(hive: int, key: str, name: str, text: str) -> None:
    with winreg.CreateKey(hive, key) as handle:
        winreg.SetValueEx(handle, name, 0, winreg.REG_SZ, text)


home = os.path.expanduser("~")
for number in range(1, 5):
    os.makedirs(rf"C:\fern\{number}", exist_ok=True)
    open(rf"C:\fern\{number}\fern{number}.exe", "w").close()
put(winreg.HKEY_CURRENT_USER, rf"{VERSION}\App Paths\fern1.exe", "", r'"C:\fern\1\fern1.exe"')
put(winreg.HKEY_LOCAL_MACHINE, rf"{VERSION}\Uninstall\F2", "DisplayIcon", r"C:\fern\2\fern2.exe,0")
put(winreg.HKEY_LOCAL_MACHINE, rf"{VERSION}\Uninstall\F3", "InstallLocation", "C:\\fern\\3\\")
roots = rf"{VERSION}\Explorer\SyncRootManager\Mooskiste!S-1-5!Personal\UserSyncRoots"
put(winreg.HKEY_LOCAL_MACHINE, roots, "S-1-5", rf"{home}\Mooskiste")
shells = rf"{VERSION}\Explorer\User Shell Folders"
put(winreg.HKEY_CURRENT_USER, shells, "Personal", r"D:\Papers")
here = this_machine()
told = {
    "roots": {name: here.root(name) for name in ROOTS},
    "programs": {f"fern{n}": here.command(f"fern{n}") for n in range(1, 6)},
    "services": {
        "in": here.synced(f"{here.root('home')}/Mooskiste/a/b"),
        "out": here.synced(f"{here.root('home')}/Notes"),
    },
    "identity": here.identity == this_machine().identity,
    "administrator": here.administrator,
}
sys.stdout.buffer.write(json.dumps(told).encode())
