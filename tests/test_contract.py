"""One contract for all machines: folder machines of each platform, and this one."""

import getpass
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import build
from widetrail.machine import Machine, this_machine
from widetrail.testing.contract import Check, NotTried, Stand, contract, name_of

KINDS = ("windows", "macos", "linux", "live")
REGISTRY = "Windows Registry Editor Version 5.00\r\n"

NOT_TRIED = {
    "windows": {"without_a_registry_that_is_said"},
    "other": {
        "values_of_every_type_keep_their_bytes",
        "values_are_replaced_and_taken_away",
        "a_tree_gives_each_key_before_those_below_it",
        "programs_of_32_bits_see_their_own_part",
    },
}
"""What no machine of a platform can be tried on."""


@pytest.fixture(params=KINDS)
def stand(
    request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Stand]:
    kind = request.param
    if kind == "live":
        own = tmp_path / "home"
        own.mkdir()
        monkeypatch.setenv("HOME", str(own))
        yield Stand(this_machine(getpass.getuser()), str(own), sys.executable)
        return
    program = "C:/fern/python.exe" if kind == "windows" else "/opt/fern/python"
    listed = f"programs: [{{path: '{program}', start: ['{sys.executable}'], paths: machine}}]\n"
    here = build.machine(tmp_path / "machine", kind, {program: ""}, "administrator: yes\n" + listed)
    (tmp_path / "machine/registry.reg").write_text(REGISTRY)
    home = here.root("home")
    here.effects.remove_file(here.host(f"{home}/fernbook.ini"))
    yield Stand(here, home, program)


@pytest.mark.parametrize("check", contract(), ids=name_of)
def test_contract(stand: Stand, check: Check) -> None:
    machine: Machine = stand.machine
    left_out = NOT_TRIED["windows" if machine.platform == "windows" else "other"]
    try:
        check(stand)
    except NotTried as reason:
        assert name_of(check) in left_out, reason
    else:
        assert name_of(check) not in left_out
