"""What is known of Windows without one: paths, status, files in use, what it was told."""

from __future__ import annotations

import struct
from base64 import b64decode
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

import build
from widetrail.formats import Unreadable
from widetrail.formats.outside import windows
from widetrail.formats.registry import Key, RegistryValue
from widetrail.formats.registry_writing import write_registry
from widetrail.formats.shell_link import shortcut_target
from widetrail.machine import FolderMachine

SHORTCUT = b64decode(
    "TAAAAAEUAgAAAAAAwAAAAAAAAEaHAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAQAAAAAA"
    "AAAAAAAAAAAAAM8AFAAfAOBP0CDqOmkQotgIACswMJ0ZACNDOlwAAAAAAAAAAAAAAAAAAAAAAAAANAAxAAAAAAB8"
    "XTM9EABmZXJuAAAgAAAAAAAAAHxdMz18XTM9AAAAAGYAZQByAG4AAAAUACoAMQAAAAAAfF0zPRAANAAaAAAAAAAA"
    "AHxdMz18XTM9AAAAADQAAAAQAEIAMgAAAAAAAAAAAAAAZmVybjQuZXhlACoAAAAAAAAAAAAAAAAAAAAAAAAAZgBl"
    "AHIAbgA0AC4AZQB4AGUAAAAYAAAAQgAAABwAAAABAAAAHAAAAC0AAAAAAAAAQQAAABEAAAADAAAAAAAAQxAAAAAA"
    "QzpcZmVyblw0XGZlcm40LmV4ZQAABQBGAGUAcgBuAAAAAAAAAA=="
)
"""A shortcut to C:\\fern\\4\\fern4.exe as the script host of wine 8 writes one."""


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        ("C:\\a\\b.", "\\\\?\\C:\\a\\b."),
        ("C:/a//con/ ", "\\\\?\\C:\\a\\con\\ "),
        ("b\\..\\c", "\\\\?\\D:\\here\\c"),
        ("\\\\server\\share\\x", "\\\\?\\UNC\\server\\share\\x"),
        ("\\\\?\\C:\\a\\..", "\\\\?\\C:\\a\\.."),
    ],
)
def test_a_path_is_whole_whatever_its_names(path: str, expected: str) -> None:
    assert windows.whole(path, "D:\\here") == expected


def status(tag: int = 0, attributes: int = 0) -> object:
    """Return a status as Windows' Python gives one."""
    return SimpleNamespace(st_reparse_tag=tag, st_file_attributes=attributes)


def test_status_tells_links_and_what_services_keep() -> None:
    for tag in (0xA0000003, 0xA000000C):  # a junction, a symbolic link
        assert windows.leads_elsewhere(status(tag))
        assert not windows.is_kept_in_step(status(tag))
    for tag in (0x9000001A, 0x9000101A, 0x9000F01A):  # cloud files of any provider
        assert windows.is_kept_in_step(status(tag))
        assert not windows.leads_elsewhere(status(tag))
    for attributes in (0x1000, 0x40000, 0x400000):  # offline, recalled on opening, on reading
        assert windows.is_kept_in_step(status(attributes=attributes))
    assert not windows.is_kept_in_step(status(attributes=0x20))
    assert windows.marks_of(status(attributes=0x26)) == {windows.MARKS: b"0x6"}
    assert windows.marks_of(status(attributes=0x21)) == {}
    assert [windows.marks_in(told) for told in (b"0x6", b"0x27\0", b"fern")] == [6, 6, None]


class InUse(OSError):
    winerror = 32


@pytest.mark.parametrize("frees_after", [0, 3, 99])
def test_a_file_in_use_is_tried_for_a_while(
    frees_after: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    pauses: list[float] = []
    monkeypatch.setattr("time.sleep", pauses.append)

    def call() -> str:
        if len(pauses) < frees_after:
            raise InUse(13, "a sharing violation")
        return "done"

    if frees_after < 99:
        assert windows.patiently(call, "C:\\x") == "done"
        assert len(pauses) == frees_after
        return
    with pytest.raises(OSError, match="another program uses it") as told:
        windows.patiently(call, "C:\\x")
    assert told.value.errno == 13
    assert pauses == list(windows.PAUSES)


def test_another_failure_is_not_tried_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("time.sleep", pytest.fail)
    with pytest.raises(PermissionError):
        windows.patiently(lambda: (_ for _ in ()).throw(PermissionError(13, "denied")), "C:\\x")


def test_a_shortcut_leads_where_its_writer_said() -> None:
    assert shortcut_target(SHORTCUT) == "C:\\fern\\4\\fern4.exe"


@given(st.integers(0, len(SHORTCUT)), st.integers(0, len(SHORTCUT) - 1), st.integers(0, 255))
def test_a_damaged_shortcut_is_refused_or_read(cut: int, at: int, byte: int) -> None:
    changed = bytearray(SHORTCUT)
    changed[at] = byte
    for data in (SHORTCUT[:cut], bytes(changed)):
        try:
            assert isinstance(shortcut_target(data), str)
        except Unreadable as error:
            assert str(error) in ("is not a valid shortcut", "names no path")


def test_a_shortcut_of_variables_only_is_expanded_by_its_reader() -> None:
    wide = "%PROGRAMFILES%\\Fern\\fern.exe\0".encode("utf-16-le").ljust(520, b"\0")
    block = struct.pack("<2I", 788, 0xA0000001) + b"\0" * 260 + wide
    data = SHORTCUT[:20] + struct.pack("<I", 0x200) + SHORTCUT[24:76] + block
    assert shortcut_target(data) == "%PROGRAMFILES%\\Fern\\fern.exe"


VERSION = r"Software\Microsoft\Windows\CurrentVersion"


def text(name: str, value: str) -> RegistryValue:
    return RegistryValue(name, "REG_EXPAND_SZ", f"{value}\0".encode("utf-16-le"))


def told(tmp_path: Path, keys: dict[str, RegistryValue]) -> FolderMachine:
    """Return a machine with Windows that was told of things."""
    menu = "C:/ProgramData/Microsoft/Windows/Start Menu/Programs/Ferns/fern4.lnk"
    files: dict[str, str | bytes] = {f"C:/fern/{n}/fern{n}.exe": "" for n in range(1, 5)}
    build.machine(tmp_path, "windows", {**files, menu: SHORTCUT})
    made = [Key(path, {v.name.casefold(): v}) for path, v in keys.items()]
    (tmp_path / "registry.reg").write_bytes(write_registry(made))
    return FolderMachine(tmp_path)


USER, ALL = rf"HKEY_CURRENT_USER\{VERSION}", rf"HKEY_LOCAL_MACHINE\{VERSION}"
ALL_32 = ALL.replace("Software", r"Software\Wow6432Node")


@pytest.mark.parametrize(
    ("name", "key", "value"),
    [
        ("fern1", rf"{USER}\App Paths\fern1.exe", text("", r"C:\fern\1\fern1.exe")),
        ("fern1", rf"{ALL_32}\App Paths\fern1.exe", text("", r'"%SYSTEMDRIVE%\fern\1\fern1.exe"')),
        ("fern2", rf"{ALL}\Uninstall\F", text("DisplayIcon", r"C:\fern\2\fern2.exe,0")),
        ("fern3", rf"{USER}\Uninstall\F", text("InstallLocation", "C:\\fern\\3\\")),
        ("fern4", USER, text("x", "the Start menu has it")),
    ],
)
def test_programs_are_found_where_windows_was_told_of_them(
    name: str, key: str, value: RegistryValue, tmp_path: Path
) -> None:
    here = told(tmp_path, {key: value})
    assert here.command(name) == f"C:/fern/{name[-1]}/{name}.exe"
    assert here.command("fern9") is None


def test_what_is_registered_but_not_there_is_no_program(tmp_path: Path) -> None:
    gone = rf"{USER}\App Paths\fern9.exe"
    for path in (r"C:\fern\9\fern9.exe", "fern9.exe", r"%NOWHERE%\fern9.exe", r"C:\fern"):
        assert told(tmp_path, {gone: text("", path)}).command("fern9") is None


def test_folders_that_a_service_registered_are_told(tmp_path: Path) -> None:
    roots = rf"{ALL}\Explorer\SyncRootManager\Mooskiste!S-1!x\UserSyncRoots"
    here = told(tmp_path, {roots: text("S-1", "C:\\Users\\ada\\Mooskiste\\")})
    assert here.synced("C:/Users/Ada/mooskiste/a") == "Mooskiste"
    assert here.synced("C:/Users/Ada/other") == ""
    assert ("C:/Users/ada/Mooskiste", "Mooskiste") in here.shares()
