"""``widetrail machine``: machine folders shown, saved, compared, and their programs run."""

from __future__ import annotations

import os
import pty
import select
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import World, contents, widetrail
from test_isolation import machine_in, real
from widetrail.library.folder_machines import add_program, machine_differences
from widetrail.machine import FolderMachine

debian = pytest.mark.skipif(
    shutil.which("dpkg-query") is None, reason="dpkg-query (Debian) is not installed"
)


def test_a_machine_is_shown(world: World) -> None:
    shown = widetrail("machine", "show", world.machine("gatehouse"))
    assert shown.status == 0
    assert "gatehouse: linux 12" in shown.out
    assert "Account   piet, at home in /home/piet" in shown.out
    assert "since machine.yaml does not say isolated: yes" in shown.out
    told = widetrail("machine", "show", world.machine("gatehouse"), "--json").json
    assert told["disks"] == ["/"]
    assert "/opt/quillbox/quillbox" in [program["path"] for program in told["programs"]]
    assert (told["isolated"], told["saved"]) == (False, [])


def test_a_program_is_run_by_its_name(world: World) -> None:
    """Its exit status is the command's; an unknown one is told with what there is."""
    machine = world.machine("gatehouse")
    ran = widetrail("machine", "run", machine, "quillbox", "list")
    assert ran.status == 0
    assert "contacts: 16" in ran.out
    assert widetrail("machine", "run", machine, "quillbox", "--nonsense").status == 2
    unknown = widetrail("machine", "run", machine, "moss")
    assert unknown.status == 2
    assert "quillbox" in unknown.err


def test_a_state_is_saved_compared_and_restored(world: World) -> None:
    machine = world.machine("gatehouse")
    before = contents(machine)
    assert widetrail("machine", "save", machine, "clean").status == 0
    assert widetrail("machine", "save", machine, "clean").status == 2
    home = FolderMachine(machine).host("/home/piet")
    (home / "moss.txt").write_text("one\ntwo\n")
    (home / "gone").mkdir()
    state = machine.parent / ".saved/gatehouse/clean"
    found = {one.path: one.change for one in machine_differences(state, machine)}
    below = home.relative_to(machine)
    assert found == {f"{below}/moss.txt": "added", f"{below}/gone": "added"}
    (FolderMachine(state).host("/home/piet") / "moss.txt").write_text("one\n2\n")
    shown = widetrail("machine", "diff", state, machine, "--lines").out
    assert "-2\n" in shown.replace(" ", "")
    assert "+two\n" in shown.replace(" ", "")
    assert widetrail("machine", "show", machine, "--json").json["saved"] == ["clean"]
    (FolderMachine(state).host("/home/piet") / "moss.txt").unlink()
    assert widetrail("machine", "restore", machine, "clean").status == 0
    assert contents(machine) == before
    assert widetrail("machine", "diff", state, machine).out == "no differences\n"


@pytest.mark.parametrize("name", ["../moss", "a/b", "", ".hidden", "x" * 80])
def test_a_name_that_is_a_path_is_refused(world: World, name: str) -> None:
    for command in ("save", "restore"):
        assert widetrail("machine", command, world.machine("gatehouse"), name).status == 2
    assert not (world.machine("gatehouse").parent / ".saved").exists()


def test_a_state_that_is_not_there(world: World) -> None:
    told = widetrail("machine", "restore", world.machine("gatehouse"), "clean")
    assert told.status == 2
    assert "Available: none" in told.err


def test_a_restore_that_was_cut_off_is_done_again(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What it had made so far is in nobody's way."""
    machine = world.machine("gatehouse")
    before = contents(machine)
    assert widetrail("machine", "save", machine, "clean").status == 0
    rename = Path.rename

    def cut_off(self: Path, target: Path) -> Path:
        if target.name == "gatehouse":
            raise KeyboardInterrupt
        return rename(self, target)

    monkeypatch.setattr(Path, "rename", cut_off)
    with pytest.raises((KeyboardInterrupt, SystemExit)):
        from widetrail.library.folder_machines import restore_machine

        restore_machine(machine, "clean")
    monkeypatch.undo()
    assert widetrail("machine", "restore", machine, "clean").status == 0
    assert contents(machine) == before


PROGRAMS = [
    "",
    "programs: []\n",
    "programs: [{path: /usr/bin/py, start: [python]}]\n",
    "programs:\n  - {path: /usr/bin/py, start: [python]}  # ours\nnetwork: no\n",
    "programs:\n- path: /usr/bin/py\n  start:\n  - python\n\n# the end\nnetwork: no\n",
    "programs: [{path: /usr/bin/py, start: [python]}]\nnetwork: no",
]


@debian
@pytest.mark.parametrize("told", PROGRAMS)
def test_programs_of_a_package_are_registered(tmp_path: Path, told: str) -> None:
    """Whatever the file looks like, nothing else of it changes."""
    machine_in(tmp_path / "m")
    file = tmp_path / "m/machine.yaml"
    own = file.read_text()
    file.write_text(own[: own.index("programs:")] + told)
    before = FolderMachine(tmp_path / "m").file
    added = add_program(tmp_path / "m", "dash")
    assert "dash" in [Path(program.path).name for program in added]
    assert added[0].version
    after = FolderMachine(tmp_path / "m").file
    assert after.programs == (*before.programs, *added)
    assert after.model_copy(update={"programs": ()}) == before.model_copy(update={"programs": ()})
    assert "# ours" in file.read_text() or "# ours" not in told
    assert add_program(tmp_path / "m", "dash") == ()


@debian
def test_packages_that_cannot_be_registered(tmp_path: Path, world: World) -> None:
    machine = machine_in(tmp_path / "m").folder
    missing = widetrail("machine", "add-program", machine, "no-such-moss")
    assert (missing.status, "apt install no-such-moss" in missing.err) == (2, True)
    without = widetrail("machine", "add-program", machine, "base-files")
    assert (without.status, "package has no programs" in without.err) == (2, True)
    other = widetrail("machine", "add-program", world.machine("potting-shed"), "dash")
    assert (other.status, "is a machine of windows" in other.err) == (2, True)


@real
def test_a_program_is_given_the_input_where_that_is_said(tmp_path: Path) -> None:
    """Else it has none, and nobody waits for the end of what may never end."""
    machine = machine_in(tmp_path / "m").folder
    call = [sys.executable, "-m", "widetrail", "machine", "run"]
    told = [str(machine), "sh", "-c", "cat; echo ."]
    reads, writes = os.pipe()
    for more, wanted in (([], ".\n"), (["--stdin"], "moss\n.\n")):
        if more:
            os.write(writes, b"moss\n")
            os.close(writes)
        command = [*call, *more, *told]
        ran = subprocess.run(command, stdin=reads, capture_output=True, text=True, timeout=60)
        assert ran.stdout == wanted
    os.close(reads)


@debian
@real
def test_a_registered_program_runs_on_the_machine(tmp_path: Path) -> None:
    machine = machine_in(tmp_path / "m").folder
    add_program(machine, "dash")
    ran = widetrail("machine", "run", machine, "dash", "-c", "echo $HOME; exit 5")
    assert (ran.out, ran.status) == ("/home/alva\n", 5)
    file = machine / "machine.yaml"
    file.write_text(file.read_text().replace("version: ", "version: 0.0-"))
    assert "is installed here)" in widetrail("machine", "show", machine).out


def _printed(terminal: int, until: str) -> str:
    """Return what is printed on a terminal until a text is in it, or nothing comes any more."""
    printed = ""
    while until not in printed and select.select([terminal], [], [], 20)[0]:
        try:
            printed += os.read(terminal, 4096).decode()
        except OSError:  # nobody has it open any more
            break
    return printed


@real
def test_a_shell_has_a_terminal_of_its_own(tmp_path: Path) -> None:
    """What is typed reaches it, and what it prints comes back."""
    machine = machine_in(tmp_path / "m").folder
    ours, theirs = pty.openpty()
    command = [sys.executable, "-m", "widetrail", "machine", "shell", str(machine)]
    shell = subprocess.Popen(command, stdin=theirs, stdout=theirs, stderr=theirs)
    os.close(theirs)
    assert "$ " in _printed(ours, "$ ")
    os.write(ours, b"tty; echo $((6 * 7)) >$HOME/made; exit 6\n")
    assert "\n/dev/console" in _printed(ours, "\n/dev/console")
    _printed(ours, "no more")
    os.close(ours)
    assert shell.wait(20) == 6
    assert (machine / "disk/home/alva/made").read_text() == "42\n"


def test_a_shell_without_isolation_is_refused(world: World) -> None:
    told = widetrail("machine", "shell", world.machine("gatehouse"))
    assert told.status == 2
    assert "a shell needs isolation" in told.err
