"""A move between two accounts of Windows, by Windows' own CPython under wine.

.ci/windows FOLDER && WIDETRAIL_WINDOWS=FOLDER pytest -m large tests/test_on_windows.py
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

LAID_OUT = os.environ.get("WIDETRAIL_WINDOWS", "")
pytestmark = [
    pytest.mark.large,
    pytest.mark.skipif(not LAID_OUT, reason="WIDETRAIL_WINDOWS names no CPython for Windows"),
    pytest.mark.skipif(shutil.which("wine") is None, reason="wine is not installed"),
]

RECIPE = r"""
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook}
recognise: [{sign: {folder: "{config}/Fernbook"}}]
places:
  notes: {folder: "{config}/Fernbook"}
  settings: {key: 'HKEY_CURRENT_USER\Software\Fernbook'}
readings:
  pages: {files: "{notes}"}
  folder: {registry: 'HKEY_CURRENT_USER\Software\Fernbook', at: Folder, as: path}
items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
  settings:
    title: Settings
    kind: registry
    from: settings
    paths: {registry: 'HKEY_CURRENT_USER\Software\Fernbook', at: Folder}
    checks: {folder: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""

STATE = r"""
import json, os, sys, winreg
top = os.path.join(os.environ["APPDATA"], "Fernbook")
made = json.loads(open(sys.argv[1], encoding="utf-8").read())
for name, text in made.get("files", {}).items():
    os.makedirs(os.path.dirname(os.path.join(top, name)), exist_ok=True)
    with open(os.path.join(top, name), "w", encoding="utf-8") as file:
        file.write(text)
for name in made.get("read only", []):
    os.chmod(os.path.join(top, name), 0o444)
for name, (kind, value) in made.get("values", {}).items():
    key = winreg.CreateKey(winreg.HKEY_CURRENT_USER, r"Software\Fernbook")
    winreg.SetValueEx(key, name, 0, kind, value)
files, values = {}, {}
for folder, _, names in os.walk(top):
    for name in names:
        path = os.path.join(folder, name)
        with open(path, encoding="utf-8") as file:
            files[os.path.relpath(path, top)] = file.read(), os.access(path, os.W_OK)
try:
    key = winreg.OpenKey(winreg.HKEY_CURRENT_USER, r"Software\Fernbook")
    for number in range(winreg.QueryInfoKey(key)[1]):
        name, value, kind = winreg.EnumValue(key, number)
        values[name] = kind, value
except OSError:
    pass
print(json.dumps({"files": files, "values": values}))
"""


def windows(path: Path) -> str:
    """Return what Windows calls a path of this computer."""
    return "Z:" + str(path).replace("/", "\\")


class Prefix:
    """A computer with Windows: a folder of wine's."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._scratch = folder, folder.parent

    def run(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        command = [f"{LAID_OUT}/run", str(self._folder), "python.exe", "-X", "utf8", *arguments]
        return subprocess.run(
            command, input="\n", capture_output=True, text=True, timeout=300, check=False
        )

    def widetrail(self, *arguments: str) -> str:
        done = self.run("-m", "widetrail", *arguments)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def state(self, made: Mapping[str, Any] | None = None) -> Any:
        """Make files and values; return all there are."""
        (self._scratch / "state.py").write_text(STATE)
        (self._scratch / "made.json").write_text(json.dumps(made or {}))
        told = windows(self._scratch / "state.py"), windows(self._scratch / "made.json")
        done = self.run(*told)
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)


def test_files_and_values_are_moved_and_taken_back(tmp_path: Path) -> None:
    old, new = Prefix(tmp_path / "old"), Prefix(tmp_path / "new")
    recipe = tmp_path / "fernbook.trail.yaml"
    recipe.write_text(RECIPE)
    files = {"one.txt": "one", "bücher\\zwei – 2.txt": "zwei", "con fig.txt": ""}
    values = {
        "Folder": (2, r"%APPDATA%\Fernbook\bücher"),
        "Count": (4, 7),
        "Names": (7, ["Ada", "Bö"]),
        "": (1, "the key's own"),
    }
    mine = old.state({"files": files, "read only": ["one.txt"], "values": values})
    before = new.state({"files": {"own.txt": "own"}, "values": {"Own": (1, "stays")}})
    parcel, card = tmp_path / "parcel", tmp_path / "card.json"
    new.widetrail("card", windows(recipe), "--to", windows(card))
    old.widetrail("plan", windows(recipe), "--new", windows(card), "--parcel", windows(parcel))
    old.widetrail("walk", windows(parcel), "--yes")
    new.widetrail("walk", windows(parcel), "--yes")
    assert "transferred" in new.widetrail("report", windows(parcel))
    now = new.state()
    assert now["files"] == mine["files"]
    assert now["files"]["one.txt"] == ["one", False]
    assert now["values"] == {**mine["values"], "Own": [1, "stays"]}
    new.widetrail("undo", "--yes")
    assert new.state() == before
    assert old.state() == mine
