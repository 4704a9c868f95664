"""Windows' own CPython under wine: what starts it, and scripts that run within."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import uuid
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

LAID_OUT = os.environ.get("WIDETRAIL_WINDOWS", "")
HERE = Path(__file__).parent

needed = [
    pytest.mark.large,
    pytest.mark.skipif(not LAID_OUT, reason="WIDETRAIL_WINDOWS names no CPython for Windows"),
    pytest.mark.skipif(shutil.which("wine") is None, reason="wine is not installed"),
]
"""What tests need that speak to it."""


def windows(path: Path) -> str:
    """Return what Windows calls a path of this computer."""
    return "Z:" + str(path).replace("/", "\\")


class Prefix:
    """A computer with Windows: a folder of wine's."""

    def __init__(self, folder: Path, like: Prefix | None = None) -> None:
        """Set one up, or copy one ``like`` it, which is quicker."""
        self.folder, self._told = folder, folder.parent / f"{folder.name}.json"
        if like is not None:
            like.leave()
            subprocess.run(["cp", "-a", str(like.folder), str(folder)], check=True)
            number = r"HKLM\Software\Microsoft\Cryptography", "/v", "MachineGuid"
            self.tool("reg", "add", *number, "/d", str(uuid.uuid4()), "/f")

    def run(
        self, *arguments: str, utf8: bool = True, screen: bool = False
    ) -> subprocess.CompletedProcess[bytes]:
        """Run its Python; without ``utf8`` as Windows starts it where a pipe is its output, with
        ``screen`` on a virtual one."""
        flags = ["-X", "utf8"] if utf8 else []
        command = [f"{LAID_OUT}/run", str(self.folder), "python.exe", *flags, *arguments]
        if screen:
            self.leave()
            command = ["xvfb-run", "-a", *command]
        return subprocess.run(command, input=b"\n", capture_output=True, timeout=300, check=False)

    def widetrail(self, *arguments: str, status: int = 0) -> str:
        """Run the command line; return what it prints."""
        done = self.run("-m", "widetrail", *arguments)
        told = (done.stdout + done.stderr).decode("utf-8", "replace")
        assert done.returncode == status, told
        return done.stdout.decode().replace("\r\n", "\n")

    def script(self, name: str, *arguments: str, screen: bool = False) -> Any:
        """Run one of the scripts beside this file; return what it prints as JSON."""
        done = self.run(windows(HERE / f"{name}.py"), *arguments, screen=screen)
        assert done.returncode == 0, done.stderr.decode("utf-8", "replace")
        return json.loads(done.stdout)

    def told(self, name: str, what: Any, *arguments: str) -> Any:
        """As ``script``, with ``what`` in a file that it is given last."""
        self._told.write_text(json.dumps(what))
        return self.script(name, *arguments, windows(self._told))

    def state(self, made: Mapping[str, Any] | None = None) -> Any:
        """Make files and values of Fernbook; return all there are."""
        return self.told("state", made or {})

    def exported(self) -> bytes:
        """Return the registry of the account's programs as Windows' own tool exports it."""
        path = self.folder.parent / f"{self.folder.name}.reg"
        path.unlink(missing_ok=True)
        self.tool("reg", "export", r"HKCU\Software", windows(path), "/y")
        return path.read_bytes()

    def tool(self, *command: str) -> str:
        """Run a program of Windows' own; return what it prints."""
        env = {**os.environ, "WINEPREFIX": str(self.folder), "WINEDEBUG": "-all"}
        told = subprocess.run(
            ["wine", *command], env=env, input=b"", capture_output=True, timeout=100, check=False
        )
        assert told.returncode == 0, told.stderr.decode("utf-8", "replace")
        return told.stdout.decode("utf-8", "replace")

    def leave(self) -> None:
        """Have all that is kept in memory be written, and end what runs."""
        env = {**os.environ, "WINEPREFIX": str(self.folder), "WINEDEBUG": "-all"}
        subprocess.run(["wineserver", "-w"], env=env, timeout=100, check=False)


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Prefix:
    """A computer with Windows that holds nothing yet."""
    made = Prefix(tmp_path_factory.mktemp("windows") / "first")
    assert made.run("-c", "").returncode == 0
    return made
