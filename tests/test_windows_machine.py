"""This machine under Windows, by Windows' own CPython under wine: what it does and tells."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

import build
import on_windows
from on_windows import Prefix, windows
from widetrail.machine.paths import trouble_with_name
from widetrail.testing.contract import contract, name_of

prefix = on_windows.prefix
pytestmark = on_windows.needed

WINES_OWN = {
    "links_are_never_followed": "wine 8 claims to make a symbolic link, and makes none",
    "a_name_is_spelled_anew": "wine 8 keeps the case of a name that differs in nothing else",
}
"""What of the contract wine does not do, while Windows does."""


@pytest.fixture(scope="module")
def held_to(prefix: Prefix) -> dict[str, str]:
    return dict(prefix.script("contract"))


@pytest.mark.parametrize("name", [name_of(check) for check in contract()])
def test_contract(held_to: dict[str, str], name: str) -> None:
    if name == "without_a_registry_that_is_said":
        assert held_to[name] == "not tried: the platform has a registry"
    elif name in WINES_OWN:
        assert held_to[name], "wine does it now"
    else:
        assert held_to[name] == ""


NAMES = [
    "plain.txt",
    "ends in a dot.",
    "ends in a space ",
    ".begins with one",
    "con",
    "Con.txt",
    "aux.tar.gz",
    "com1",
    "com¹",
    "lpt9.x",
    "conin",
    "conin$",
    "CONOUT$",
    "a:b",
    "a<b",
    "a>b",
    "a|b",
    'a"b',
    "a?b",
    "a*b",
    "a\x01b",
    "a\x7fb",
    "x" * 255,
    "x" * 256,
    "e\u0301",
    "🌿",
    "$Recycle",
    "a;b=c,d",
]
WINES_NAMES = {
    "com¹": "wine 8 takes no superscript digit for a device",
    "a:b": "wine 8 makes a file of it; on Windows it is a stream of the file a",
}
"""Names with which wine does otherwise than Windows, which the rules follow."""


def test_names_are_what_the_platforms_rules_say(prefix: Prefix) -> None:
    made = prefix.told("names", NAMES)
    for name in NAMES:
        fits = not trouble_with_name(name, "windows")
        if name in WINES_NAMES:
            assert (made[name] == "made") != fits, (name, made[name])
        else:
            assert (made[name] == "made") == fits, (name, made[name])


def test_a_file_that_a_program_holds_is_told(prefix: Prefix) -> None:
    told = prefix.script("held")
    for change in ("rename", "remove", "write"):
        what, why, todo = told[change]
        assert what.startswith("cannot ")
        assert "another program uses it" in why
        assert todo == "Close that program, then run this again."
    assert told["read"][0] == "MachineUnusable"
    assert "another program uses it" in told["read"][1]
    assert told["after a while"] == ["x"]
    kind, words = told["key"]
    assert kind == "Unreadable"
    assert "x" * 300 in words
    assert "(code " in words
    what, where, why, todo = told["key made"]
    assert (what, where) == ("cannot store", "HKEY_CURRENT_USER\\" + "x" * 300)
    assert why
    assert todo


def test_one_run_at_a_time_and_none_that_has_ended(prefix: Prefix) -> None:
    assert prefix.script("alone") == {
        "first": "True",
        "other meanwhile": "False",
        "other afterwards": "True",
        "after one that was killed": "True",
    }


@pytest.mark.skipif(shutil.which("xvfb-run") is None, reason="xvfb-run is not installed")
def test_a_program_that_does_not_end_is_asked_to_close(prefix: Prefix) -> None:
    assert prefix.script("asked", screen=True) == {
        "with a window": "it did not end within 3 seconds",
        "without one": "it did not end within 3 seconds",
        "its window": "True",
        "the file it wrote": "closed by asking",
    }


def test_a_program_is_traced(prefix: Prefix) -> None:
    books = "C:/Users/alva/Documents/Books of Alva"
    told = prefix.script("traced")
    assert told["needed"] == [
        "C:/Users/alva/AppData/Roaming/Shelf/shelf.json",
        f"{books}/books.db",
        f"{books}/größe.txt",
    ]
    assert told["told"] == [[books, "/books", "whole"]]
    assert told["cells"] == [["book.name, row 2", "Ferns", "Bachstelze 7"]]
    assert told["rows"] == {"book": 2}
    assert told["written"] == [f"{books}/books.db"], "what is only read is not told as written"
    assert told["idle"] == [], "nor is what nobody reads told as read"
    assert "fingerprints" in told["eyes"]


@pytest.fixture(scope="module")
def told(prefix: Prefix) -> Any:
    menu = prefix.folder / "drive_c/ProgramData/Microsoft/Windows/Start Menu/Programs/Ferns"
    menu.mkdir(parents=True)
    script = prefix.folder / "drive_c/shortcut.vbs"
    program = prefix.folder / "drive_c/fern/4/fern4.exe"
    program.parent.mkdir(parents=True)
    program.touch()
    where = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Ferns\fern4.lnk"
    script.write_text(
        'Set shell = CreateObject("WScript.Shell")\r\n'
        f'Set link = shell.CreateShortcut("{where}")\r\n'
        'link.TargetPath = "C:\\fern\\4\\fern4.exe"\r\n'
        "link.Save\r\n"
    )
    prefix.tool("cscript", r"C:\shortcut.vbs")
    return prefix.script("told")


def test_programs_are_found_where_windows_was_told_of_them(told: Any) -> None:
    """By App Paths, an icon and a folder of what uninstalls them, and the Start menu."""
    found = {
        name: f"C:/fern/{name[-1]}/{name}.exe" for name in ("fern1", "fern2", "fern3", "fern4")
    }
    assert told["programs"] == {**found, "fern5": None}


def test_folders_are_those_that_the_system_knows(told: Any, tmp_path: Path) -> None:
    roots = told["roots"]
    assert roots["documents"] == "D:/Papers"
    home = roots["home"]
    assert home.startswith("C:/users/")
    expected = build.machine(tmp_path, "windows", user=home.rpartition("/")[2])
    same = {
        name for name, path in roots.items() if path.casefold() == expected.root(name).casefold()
    }
    otherwise = {name: path for name, path in roots.items() if name not in same}
    assert {*otherwise} <= {"documents", "temp", "saved_games"}, otherwise
    assert told["services"] == {"in": "Mooskiste", "out": ""}
    assert told["identity"] is True


REHEARSED = {
    "huemoss.rehearsal.yaml": "a folder machine of Windows to another, by copies",
    "frondsign.rehearsal.yaml": "of macOS, where files lie otherwise",
    "mistvane.rehearsal.yaml": "with a licence that its maker's service releases and grants",
}


def test_rehearsals_of_the_demo_pass(prefix: Prefix, tmp_path: Path) -> None:
    """With stand-ins that Windows' own Python starts, on machines in folders of Windows."""
    world = tmp_path / "world"
    prefix.widetrail("demo", windows(world), "--world-only")
    named = [windows(world / "recipes" / name) for name in REHEARSED]
    told = json.loads(prefix.widetrail("rehearse", *named, "--json"))
    outcome = {r["title"]: (r["passed"], r["differences"]) for r in told["rehearsals"]}
    assert len(outcome) >= len(REHEARSED)
    assert all(passed for passed, _ in outcome.values()), outcome
