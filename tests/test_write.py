"""The step ``write``: one value in a settings file on new."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from build import NOW, Trail, item, outcomes, trail
from conftest import cut_off_everywhere, of_the_person
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


@pytest.mark.sweep
def test_cut_off_anywhere_it_is_written_once_and_can_be_had_back(tmp_path: Path) -> None:
    one = set_out_with(tmp_path / "one", SETTINGS)
    one.walk("old")
    before = of_the_person(one.folder / "new")

    def judge(copy: Trail, number: int) -> None:
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}
        ini = copy.folder / "new/root/home/ada/fernbook.ini"
        assert ini.read_bytes() == INI.replace(b"D:\\old", b"/home/ada/notes")
        Run(copy.new).undo(NOW)
        Run(copy.new).settle()
        assert of_the_person(copy.folder / "new") == before
        assert not list(copy.folder.rglob("staging"))

    assert cut_off_everywhere(one, tmp_path, 3, judge) > 40


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


OTHERS = {
    "yaml": (
        "{yaml: '{home}/f', at: /a/b, value: 'x: y'}",
        b"a:\n  b: old # kept\n",
        b"a:\n  b: 'x: y' # kept\n",
    ),
    "xml": (
        "{xml: '{home}/f', at: /s/@folder, value: '{notes}', as: path}",
        b'<?xml version="1.0"?>\r\n<!-- c -->\r\n<s folder="old"/>\r\n',
        b'<?xml version="1.0"?>\r\n<!-- c -->\r\n<s folder="/home/ada/notes"/>\r\n',
    ),
    "text": (
        "{text: '{home}/f', at: '(?m)^x=(.*)$', value: new}",
        b"w=1\r\nx=old\r\n",
        b"w=1\r\nx=new\r\n",
    ),
    "reg": (
        r"{reg: '{home}/f', at: 'HKEY_CURRENT_USER\A\B', value: new}",
        b'REGEDIT4\n[HKEY_CURRENT_USER\\A]\n"B"="old"\n"C"=dword:1\n',
        b'REGEDIT4\n[HKEY_CURRENT_USER\\A]\n"B"="new"\n"C"=dword:1\n',
    ),
}


@pytest.mark.parametrize("form", sorted(OTHERS))
def test_a_value_is_written_in_every_other_form(tmp_path: Path, form: str) -> None:
    write, before, after = OTHERS[form]
    one = set_out_with(tmp_path, write)
    file = one.folder / "new/root/home/ada/f"
    file.write_bytes(before)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert file.read_bytes() == after
    Run(one.new).undo(NOW)
    assert file.read_bytes() == before


def test_a_value_that_must_be_there_and_is_not_is_told(tmp_path: Path) -> None:
    one = set_out_with(tmp_path, "{yaml: '{home}/f', at: /gone, value: x}")
    (one.folder / "new/root/home/ada/f").write_bytes(b"a: 1\n")
    one.walk("old")
    (told,) = (w for w in outcomes(one.walk("new")).values() if w != "done")
    assert "has 0 texts at /gone, and one was expected" in told


def test_a_row_of_a_database_is_written_and_its_journal_goes_along(tmp_path: Path) -> None:
    one = set_out_with(
        tmp_path,
        "{sqlite: '{home}/f.db', at: setting.value, where: {name: folder}, value: '{notes}'}",
        "{sqlite: '{home}/f.db', at: setting.value, where: {name: twice}, value: x}",
    )
    file = one.folder / "new/root/home/ada/f.db"
    connection = sqlite3.connect(file, isolation_level=None)
    connection.execute("pragma journal_mode = wal")
    connection.execute("create table setting (name text, value text)")
    rows = [("folder", "old"), ("twice", "a"), ("twice", "b")]
    connection.executemany("insert into setting values (?, ?)", rows)
    saved = {p.name: p.read_bytes() for p in file.parent.glob("f.db*")}
    connection.close()
    for name, data in saved.items():  # as a program leaves it that did not close it
        (file.parent / name).write_bytes(data)
    assert "f.db-wal" in saved
    before = {p.name: p.read_bytes() for p in file.parent.glob("f.db*")}
    one.walk("old")
    told = [w for w in outcomes(one.walk("new")).values() if w != "done"]
    assert told == ["/home/ada/f.db has 2 such rows for setting.value, and one was expected"]
    with closing(sqlite3.connect(file)) as again:
        found = dict(again.execute("select name, value from setting").fetchall())
    assert found == {"folder": "/home/ada/notes", "twice": "b"}
    Run(one.new).undo(NOW)
    assert {p.name: p.read_bytes() for p in file.parent.glob("f.db*")} == before


REGISTRY = b"""Windows Registry Editor Version 5.00

[HKEY_CURRENT_USER\\Software\\Fernbook]
"Size"=dword:00000001
"Folder"=hex(2):78,00,00,00
"Bytes"=hex:01
""".replace(b"\n", b"\r\n")
KEY = r"HKEY_CURRENT_USER\Software\Fernbook"


def test_values_of_the_registry_keep_their_types(tmp_path: Path) -> None:
    writes = [
        f"{{registry: '{KEY}', at: {at}, value: '{value}', as: {kind}}}"
        for at, value, kind in (
            ("Size", "7", "text"),
            ("Folder", "{notes}", "path"),
            ("New", "x", "text"),
            ("'@'", "own", "text"),
            ("Bytes", "x", "text"),
        )
    ]
    one = set_out_with(tmp_path, *writes, platform="windows")
    file = one.folder / "new/registry.reg"
    file.write_bytes(REGISTRY)
    one.walk("old")
    (told,) = (w for w in outcomes(one.walk("new")).values() if w != "done")
    assert "has a value of REG_BINARY there" in told
    key = one.new.registry.key(KEY)
    assert key is not None
    assert {n: (v.type, v.plain) for n, v in key.values.items()} == {
        "size": ("REG_DWORD", 7),
        "folder": ("REG_EXPAND_SZ", "C:\\Users\\ada\\notes"),
        "new": ("REG_SZ", "x"),
        "": ("REG_SZ", "own"),
        "bytes": ("REG_BINARY", "01"),
    }
    Run(one.new).undo(NOW)
    assert file.read_bytes() == REGISTRY


def test_settings_of_the_desktop_keep_their_types(tmp_path: Path) -> None:
    text = b"[org/fern/book]\non=false\nsize=uint32 3\nword='x'\n"
    writes = [
        f"{{dconf: /org/fern/book, at: {at}, value: {value}}}"
        for at, value in (("size", "'4'"), ("on", "'true'"), ("word", "it''s"), ("more", "x"))
    ]
    one = set_out_with(
        tmp_path,
        *(w.replace("it''s", '"it\'s"') for w in writes),
        "{dconf: /org/fern/book, at: size, value: many}",
    )
    file = one.folder / "new/desktop.dconf"
    file.write_bytes(text)
    one.walk("old")
    (told,) = (w for w in outcomes(one.walk("new")).values() if w != "done")
    assert "has a value of another type there" in told
    assert file.read_bytes() == (
        b"[org/fern/book]\non=true\nsize=uint32 4\nword=\"it's\"\nmore='x'\n"
    )
    Run(one.new).undo(NOW)
    assert file.read_bytes() == text
