"""Looking changes nothing and starts no program of a recipe, as the system itself sees it."""

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import World, contents

CALLS = (
    "execve,execveat,open,openat,openat2,creat,rename,renameat,renameat2,unlink,unlinkat,mkdir,"
    "mkdirat,symlink,symlinkat,link,linkat,truncate,chmod,fchmodat,?fchmodat2,connect,bind"
)
STRACE = ("strace", "-f", "-qq", "-y", "-s", "300", "-e", f"trace={CALLS}")
OWN = ("/dev/null", "/dev/shm/", "__pycache__", "/proc/self/")


def seen(log: Path, allowed: tuple[str, ...]) -> list[str]:
    """Return the calls that change something, reach a network or start what is not ours."""
    found = []
    for line in log.read_text(errors="replace").splitlines():
        call = re.sub(r"^\d+\s+", "", line)
        name = call.partition("(")[0]
        reading = name.startswith("open") and not re.search("O_WRONLY|O_RDWR|O_CREAT|TRUNC", call)
        if "= -1" in call or call.startswith(("---", "+++", "<...")) or reading:
            continue
        ours = name == "execve" and f'"{sys.executable}"' in call
        if not ours and not any(one in call for one in (*OWN, *allowed)):
            found.append(call[:200])
    return found


@pytest.mark.skipif(shutil.which("strace") is None, reason="strace is not installed")
@pytest.mark.parametrize(
    "command",
    ["lint", "survey", "card", "plan", "report", "forget", "compare", "rehearse --from nothing"],
)
def test_a_command_that_looks_only_looks(world: World, tmp_path: Path, command: str) -> None:
    recipe, old, to = world.recipe, world.old, tmp_path / "to"
    calls: dict[str, tuple[str | Path, ...]] = {
        "lint": (recipe,),
        "survey": (recipe, "--machine", old),
        "card": (recipe, "--machine", old, "--to", to),
        "plan": (recipe, "--old", old, "--new", world.new, "--parcel", to),
        "report": (world.parcel, "--for-maintainer", to, "--machine", old),
        "forget": ("--machine", old),
        "compare": (recipe, recipe),
        "rehearse --from nothing": (recipe,),
    }
    first, *more = command.split()
    if command == "report":
        assert world.plan().status == 0
    before = contents(world.folder)
    log, temporary = tmp_path / "calls.log", tmp_path / "temporary"
    temporary.mkdir()
    ran = subprocess.run(
        [*STRACE, "-o", log, sys.executable, "-m", "widetrail", first, *more, *calls[command]],
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
        env={
            "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin",
            "HOME": str(tmp_path),
            "TMPDIR": str(temporary),
            "XDG_STATE_HOME": str(tmp_path / "own-state"),
            "XDG_CACHE_HOME": str(tmp_path / "own-cache"),
            "PYTHONDONTWRITEBYTECODE": "1",
        },
    )
    if "Operation not permitted" in ran.stderr and not log.read_text():
        pytest.skip("processes may not be traced here")
    assert ran.returncode in (0, 2, 3), ran.stderr
    ours = (temporary, to, tmp_path / "own-cache", tmp_path / "own-state")
    named = tuple(f"{mark}{path}" for path in ours for mark in '"<')
    assert seen(log, named) == []
    assert contents(world.folder) == before
