"""Machines: roots, and what each platform does differently; what all must do is test_contract's."""

import os
import stat
import sys
import tempfile
from pathlib import Path

import pytest

import build
from widetrail.errors import InputUnusable, MachineUnusable, WentWrong
from widetrail.formats.interface import Unreadable
from widetrail.machine import FolderMachine, this_machine
from widetrail.machine.live import LinuxMachine, MacMachine


def test_a_folder_without_permission_is_refused(tmp_path: Path) -> None:
    if os.geteuid() != 0:
        here = build.machine(tmp_path, files={"/home/ada/shut/file": "x"})
        here.host("/home/ada/shut").chmod(0)
        with pytest.raises(MachineUnusable, match="Permission denied"):
            list(here.walk("/home/ada"))
        here.host("/home/ada/shut").chmod(0o700)
        return
    with tempfile.TemporaryDirectory() as folder:  # root may read all; look as somebody else
        Path(folder).chmod(0o755)
        here = build.machine(Path(folder) / "m", files={"/home/ada/shut/file": "x"})
        here.host("/home/ada/shut").chmod(0)
        os.seteuid(65534)
        try:
            with pytest.raises(MachineUnusable, match="Permission denied") as error:
                list(here.walk("/home/ada"))
        finally:
            os.seteuid(0)
        assert error.value.where == "/home/ada/shut"


def test_names_are_compared_as_the_platform_compares_them(tmp_path: Path) -> None:
    decomposed = "Cafe\u0301"
    for platform, found in (("windows", True), ("macos", True), ("linux", False)):
        home = build.HOMES[platform]
        files = {f"{home}/Docs/{decomposed}.txt": "x"}
        here = build.machine(tmp_path / platform, platform, files)
        assert (here.look(f"{home}/dOCS/caf\u00e9.TXT") is not None) is found


def test_windows_before_6_keeps_accounts_elsewhere(tmp_path: Path) -> None:
    text = "machine: old\nplatform: windows\nsystem: '5.1'\nuser: ada\ndisks: {C: {folder: c}}\n"
    (tmp_path / "c").mkdir()
    (tmp_path / "machine.yaml").write_text(text)
    here = FolderMachine(tmp_path)
    home = "C:/Documents and Settings/ada"
    assert here.root("documents") == f"{home}/My Documents"
    assert here.root("config") == f"{home}/Application Data"
    assert here.root("data") == f"{home}/Local Settings/Application Data"


SHELL = r"""Windows Registry Editor Version 5.00

[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders]
"Personal"="D:\\Papers\\"
"AppData"="%USERPROFILE%\\Roaming elsewhere"
"{374DE290-123F-4565-9164-39C4925E467B}"="%NOWHERE%\\x"
"""


def test_the_registry_redirects_roots_and_machine_yaml_wins(tmp_path: Path) -> None:
    (tmp_path / "registry.reg").write_text(SHELL, encoding="utf-16")
    here = build.machine(tmp_path, "windows", more="redirected: {music: D:/Tunes}\n")
    assert here.root("documents") == "D:/Papers"
    assert here.root("config") == "C:/Users/ada/Roaming elsewhere"
    assert here.root("data") == "C:/Users/ada/AppData/Local"
    assert here.root("downloads") == "C:/Users/ada/Downloads"
    assert here.root("music") == "D:/Tunes"


def test_xdg_and_user_dirs_redirect_roots(tmp_path: Path) -> None:
    dirs = (
        'XDG_DOCUMENTS_DIR="$HOME/Papiere"\nXDG_MUSIC_DIR="/srv/music"\nXDG_DESKTOP_DIR="$HOME/"\n'
    )
    more = "environment: {XDG_CONFIG_HOME: /home/ada/cfg, XDG_DATA_HOME: relative}\n"
    here = build.machine(tmp_path, "linux", {"/home/ada/cfg/user-dirs.dirs": dirs}, more)
    assert here.root("config") == "/home/ada/cfg"
    assert here.root("data") == "/home/ada/.local/share"
    assert here.root("documents") == "/home/ada/Papiere"
    assert here.root("music") == "/srv/music"
    assert here.root("desktop") == "/home/ada/Desktop"


def test_the_live_machine_takes_xdg_from_its_own_account_only(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", "/somewhere")
    monkeypatch.setenv("HOME", str(tmp_path))
    assert LinuxMachine("me", str(tmp_path)).root("config") == "/somewhere"
    assert LinuxMachine("ada", "/home/ada").root("config") == "/home/ada/.config"


@pytest.mark.skipif(sys.platform != "linux", reason="reads this Linux account")
def test_whose_account_it_is_must_be_said_by_an_administrator(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    monkeypatch.setenv("SUDO_USER", "ada")
    with pytest.raises(InputUnusable, match="specify the account with --account"):
        this_machine()
    assert this_machine("root").user == "root"
    with pytest.raises(InputUnusable, match="account not found"):
        this_machine("nobody-of-that-name")


def test_the_mac_adapter_answers_without_a_mac(tmp_path: Path) -> None:
    here = MacMachine("ada", str(tmp_path))
    assert here.root("preferences") == f"{tmp_path}/Library/Preferences"
    with pytest.raises(Unreadable):
        here.registry.key("HKEY_CURRENT_USER")


def test_a_disk_that_leads_out_of_the_machine_is_refused(tmp_path: Path) -> None:
    build.machine(tmp_path / "m")
    (tmp_path / "m/root").rename(tmp_path / "elsewhere")
    (tmp_path / "m/root").symlink_to(tmp_path / "elsewhere")
    with pytest.raises(MachineUnusable, match="the folder of a disk is not there"):
        FolderMachine(tmp_path / "m")


PROGRAM = "programs: [{path: /usr/bin/fernbook, start: [sh, -c, '%s']}]\n"


@pytest.mark.parametrize(
    "script", ["sleep 60", "yes flood", "sleep 60 & echo started; wait"], ids=lambda s: s[:10]
)
def test_a_program_without_end_is_stopped_with_all_it_started(tmp_path: Path, script: str) -> None:
    here = build.machine(tmp_path, more=PROGRAM % script)
    with pytest.raises(WentWrong, match="was stopped"):
        here.start("/usr/bin/fernbook", [], seconds=1.5)
    assert here.running("/usr/bin/fernbook") == []


def test_a_program_gets_only_the_machines_environment(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("CANARY", "sings")
    here = build.machine(tmp_path, more=PROGRAM % "env; pwd; ls -A; exit 7")
    done = here.start("/usr/bin/fernbook", [])
    assert done.status == 7
    assert f"HOME={tmp_path}/root/home/ada" in done.output
    assert "CANARY" not in done.output


def test_set_user_id_bits_are_stripped(tmp_path: Path) -> None:
    here = build.machine(tmp_path)
    path = here.host("/home/ada/fernbook.ini")
    here.effects.set_status(path, 0o6755, 1_000_000_000)
    assert stat.S_IMODE(path.stat().st_mode) == 0o755
    assert path.stat().st_mtime == 1
