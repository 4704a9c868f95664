"""The step ``write``: one value in a settings file on new."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from build import NOW, Trail, item, outcomes, trail
from conftest import Stopped, contents, stop_at, without_state
from widetrail.machine import Effects
from widetrail.walking import Run

SETTINGS = "{ini: '{home}/fernbook.ini', at: fernbook/folder, value: '{notes}', as: path}"
INI = b'; mine\r\n[Fernbook]\r\nrelease = 3.1\r\nFolder = "D:\\old"  \r\n\r\n[view]\r\nx=1\r\n'


def new(*writes: str) -> str:
    steps = "".join(f"              - {{write: {write}}}\n" for write in writes)
    return item(f"        legs:\n          - new:\n              - copy\n{steps}")


def set_out_with(folder: Path, *writes: str, platform: str = "linux") -> Trail:
    one = trail(folder, new(*writes), platform=platform)
    ini = next((one.folder / "new").rglob("fernbook.ini"))
    ini.write_bytes(INI)
    ini.chmod(0o640)
    return one


@pytest.mark.parametrize(
    ("platform", "value"),
    [("linux", "/home/ada/notes"), ("windows", "C:\\Users\\ada\\notes")],
)
def test_a_value_is_written_and_every_other_byte_stays(
    tmp_path: Path, platform: str, value: str
) -> None:
    one = set_out_with(tmp_path, SETTINGS, platform=platform)
    ini = next((one.folder / "new").rglob("fernbook.ini"))
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert ini.read_bytes() == INI.replace(b"D:\\old", value.encode())
    assert ini.stat().st_mode & 0o777 == 0o640
    Run(one.new).undo(NOW)
    assert ini.read_bytes() == INI
    assert not next((one.folder / "new").rglob("notes"), None)


def test_cut_off_anywhere_it_is_written_once_and_can_be_had_back(tmp_path: Path) -> None:
    one = set_out_with(tmp_path / "one", SETTINGS)
    one.walk("old")
    before = without_state(contents(one.folder / "new"))
    for number in range(1, 300, 3):
        copy = Trail(shutil.copytree(one.folder, tmp_path / str(number), symlinks=True))
        try:
            copy.walk("new", Effects(stop_at(number)))
            break
        except Stopped:
            pass
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}
        ini = copy.folder / "new/root/home/ada/fernbook.ini"
        assert ini.read_bytes() == INI.replace(b"D:\\old", b"/home/ada/notes")
        Run(copy.new).undo(NOW)
        Run(copy.new).settle()
        after = without_state(contents(copy.folder / "new"))
        assert {n: d for n, d in after.items() if "/.local" not in n} == before
        assert not list(copy.folder.rglob("staging"))
        shutil.rmtree(copy.folder)
    assert number > 40


@pytest.mark.parametrize(
    ("write", "why"),
    [
        ("{ini: '{home}/gone.ini', at: a/b, value: x}", "is not there"),
        ("{json: '{home}/fernbook.ini', at: /a, value: x}", "is not json"),
        ("{json: '{home}/some.json', at: /count, value: many}", "a whole number there"),
        ("{json: '{home}/some.json', at: /a/b/c, value: x}", "on the way to"),
        ("{ini: '{home}/link.ini', at: a/b, value: x}", "link"),
    ],
)
def test_what_cannot_be_written_leaves_the_file_alone(tmp_path: Path, write: str, why: str) -> None:
    one = set_out_with(tmp_path, write)
    home = one.folder / "new/root/home/ada"
    (home / "some.json").write_text('{"count": 3, "a": {"b": 1}}')
    (home / "link.ini").symlink_to("fernbook.ini")
    one.walk("old")
    before = {p.name: p.read_bytes() for p in home.iterdir() if p.is_file()}
    (told,) = (w for w in outcomes(one.walk("new")).values() if w != "done")
    assert why in told
    assert {p.name: p.read_bytes() for p in home.iterdir() if p.is_file()} == before
    assert os.readlink(home / "link.ini") == "fernbook.ini"


def test_a_value_becomes_the_kind_that_stands_there(tmp_path: Path) -> None:
    writes = [
        f"{{json: '{{home}}/some.json', at: {at}, value: '{value}'}}"
        for at, value in (("/count", "-4"), ("/on", "no"), ("/word", "7"), ("/new", "8"))
    ]
    one = set_out_with(tmp_path, *writes, "{toml: '{home}/some.toml', at: /a/x, value: '1.5'}")
    home = one.folder / "new/root/home/ada"
    (home / "some.json").write_text('{"count": 3, "on": true, "word": "x"}')
    (home / "some.toml").write_text("[a]\nx = 2.0 # half\n")
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    told = '{"count": -4, "on": false, "word": "7", "new": "8"}'
    assert (home / "some.json").read_text() == told
    assert (home / "some.toml").read_text() == "[a]\nx = 1.5 # half\n"
    Run(one.new).undo(NOW)
    assert (home / "some.json").read_text() == '{"count": 3, "on": true, "word": "x"}'
