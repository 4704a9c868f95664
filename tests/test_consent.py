"""Places that need a consent of their own, and those that are none whatever anybody says."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import pytest

from build import HOMES, NOW, Trail, item, machine, moved, trail
from conftest import contents, widetrail
from test_doing import new
from widetrail.machine import Effect, Effects, FolderMachine
from widetrail.machine.paths import upwards
from widetrail.machine.sensitive import attention, attention_key, never_a_place
from widetrail.parcel import Parcel


@dataclass(frozen=True)
class Case:
    """A place of a recipe by platform, the file that arrives in it, and why it is asked for."""

    platform: str
    place: str
    file: str
    why: str


CASES = [
    Case("linux", 'folder: "{config}/autostart"', ".config/autostart/x.desktop", "start-up"),
    Case("linux", 'folder: "{config}"', ".config/autostart/x.desktop", "start-up"),
    Case("linux", 'folder: "{config}/systemd/user"', ".config/systemd/user/x.service", "start-up"),
    Case("linux", 'file: "{home}/.bashrc"', ".bashrc", "start-up"),
    Case("linux", 'file: "{home}/.profile"', ".profile", "start-up"),
    Case("linux", 'folder: "{home}/.ssh"', ".ssh/authorized_keys", "access"),
    Case("linux", 'folder: "{home}/.gnupg"', ".gnupg/x", "access"),
    Case("macos", 'folder: "{home}/Library/LaunchAgents"', "Library/LaunchAgents/x", "start-up"),
    Case("macos", 'folder: "{home}/Library"', "Library/LaunchAgents/x.plist", "start-up"),
    Case("macos", 'file: "{home}/.ZSHRC"', ".ZSHRC", "start-up"),
    Case("macos", 'folder: "{home}/.ssh"', ".ssh/config", "access"),
    Case(
        "windows",
        'folder: "{config}/Microsoft/Windows/Start Menu/Programs/Startup"',
        "AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup/x.bat",
        "start-up",
    ),
    Case(
        "windows",
        'folder: "{config}/microsoft/windows/START MENU/Programs"',
        "AppData/Roaming/microsoft/windows/START MENU/Programs/startup/x.bat",
        "start-up",
    ),
    Case("windows", 'folder: "{home}/.ssh"', ".ssh/config", "access"),
]


def between(folder: Path, case: Case, settings: dict[str, str | bytes] | None = None) -> Trail:
    """Two machines of a platform, with some settings, between which what lies in a place goes."""
    home = HOMES[case.platform]
    files: dict[str, str | bytes] = {f"{home}/{case.file}": "evil\n", **(settings or {})}
    old = machine(folder / "old", case.platform, files=files, more="identity: old\n")
    new = machine(folder / "new", case.platform, files=settings, more="identity: new\n")
    body = (
        f"places:\n  notes: {{{case.place}}}\nitems:\n  notes:\n    title: Notes\n"
        "    from: notes\n    routes: [{name: copy, legs: [{new: [copy]}]}]\n"
    )
    return moved(folder, body, old, new)


def walk(one: Trail, station: str, *more: str) -> tuple[int, str]:
    ran = widetrail("walk", one.at, "--machine", one.folder / station, "--yes", *more)
    return ran.status, ran.out + ran.err


@pytest.mark.parametrize("case", CASES, ids=lambda c: f"{c.platform} {c.file}")
def test_what_arrives_where_it_does_more_than_lie_there_is_asked_for_apart(
    tmp_path: Path, case: Case
) -> None:
    one = between(tmp_path, case)
    taken = case.why == "access"
    status, said = walk(one, "old")
    assert status == (3 if taken else 0), said
    if taken:
        assert "is taken from" in said
        assert walk(one, "old", "--allow", "access")[0] == 0
    before = contents(tmp_path / "new")
    status, said = walk(one, "new")
    assert status == 3
    assert "This needs separate consent" in said
    assert f"then add --allow {case.why}" in said
    assert contents(tmp_path / "new") == before
    other = "access" if case.why != "access" else "start-up"
    assert walk(one, "new", "--allow", other)[0] == 3
    status, said = walk(one, "new", "--allow", case.why)
    assert status == 0, said
    arrived = FolderMachine(tmp_path / "new").read(f"{HOMES[case.platform]}/{case.file}")
    assert arrived == b"evil\n"


def test_set_user_id_is_never_carried(tmp_path: Path) -> None:
    case = Case("linux", 'folder: "{config}/x"', ".config/x/run", "")
    one = between(tmp_path, case)
    host = FolderMachine(tmp_path / "old").host("/home/ada/.config/x/run")
    host.chmod(0o6755)
    assert walk(one, "old")[0] == 0
    assert walk(one, "new")[0] == 0
    there = FolderMachine(tmp_path / "new").host("/home/ada/.config/x/run")
    assert there.stat().st_mode & 0o7777 == 0o755


KEYS = [
    r"HKCU\Software\Microsoft\Windows\CurrentVersion\Run",
    r"HKEY_CURRENT_USER\SOFTWARE\MICROSOFT\Windows\CurrentVersion\RUNONCE",
    r"HKCU\Software\Wow6432Node\Microsoft\Windows\CurrentVersion\Run",
    r"HKCU\Software\Microsoft\Windows NT\CurrentVersion\Winlogon",
    r"HKCU\Environment",
    r"HKCU\Software\Classes\.txt\shell",
    r"HKLM\SYSTEM\CurrentControlSet\Services\x",
]


@pytest.mark.parametrize("key", KEYS)
def test_a_key_that_starts_programs_needs_a_consent_of_its_own(key: str) -> None:
    assert attention_key(key) == "start-up"
    assert attention_key(f"{key}\\below") == "start-up"
    assert attention_key(key.rpartition("\\")[0]) == "start-up"  # a whole key that holds it


@pytest.mark.parametrize(
    "key", [r"HKCU\Software\Fernbook", r"HKCU\EnvironmentOther", KEYS[0] + "X"]
)
def test_an_own_key_needs_none(key: str) -> None:
    assert attention_key(key) is None


# Where settings may lead


TOLD = ', set_in: {ini: "{home}/n.ini", at: a/folder, as: path}'


@pytest.mark.parametrize(
    ("platform", "path", "asked"),
    [
        ("linux", "/etc/cron.d", True),
        ("linux", "/opt/x", True),
        ("linux", "/srv/x", True),
        ("linux", "/home/eve/x", True),
        ("linux", "/home/ada/x", False),
        ("linux", "/media/x/y", False),
        ("windows", "C:/Windows/Tasks", True),
        ("windows", "C:/x", True),
        ("windows", "C:/Users/eve/x", True),
        ("windows", "D:/Windows/x", True),
        ("windows", "D:/x", False),
        ("windows", "C:/Users/ada/x", False),
        ("macos", "/Library/x", False),
        ("macos", "/Users/eve/x", True),
        ("macos", "/Volumes/x", False),
        ("macos", "/etc/x", True),
    ],
)
def test_settings_lead_outside_the_own_folders_only_with_consent(
    tmp_path: Path, platform: str, path: str, asked: bool
) -> None:
    here = machine(tmp_path / "x", platform)
    if path == "/Library/x":
        path = "/Library/Application Support/x"  # the folder for what all accounts share
    assert (attention(path, here, told=True) is not None) is asked


def test_settings_that_lead_outside_are_asked_for_at_both_stations(tmp_path: Path) -> None:
    case = Case("linux", f'folder: "{{documents}}/Notes"{TOLD}', "x", "")
    told = {"/home/ada/n.ini": "[a]\nfolder=/opt/notes\n"}
    (tmp_path / "old/root/opt/notes").mkdir(parents=True)
    (tmp_path / "old/root/opt/notes/a.txt").write_text("a\n")
    one = between(tmp_path, case, {**told})
    for station in ("old", "new"):
        status, said = walk(one, station)
        assert (status, "/opt/notes: it lies outside" in said) == (3, True), said
        assert walk(one, station, "--allow", "outside")[0] == 0
    assert FolderMachine(tmp_path / "new").read("/opt/notes/a.txt") == b"a\n"


NEVER = [
    ("windows", "C:"),
    ("windows", "C:/Users/ada/nul"),
    ("windows", "C:/Users/ada/LPT¹"),
    ("windows", "C:/Users/ada/com1.txt"),
    ("windows", "C:/Users/ada/Notes:evil"),
    ("windows", "C:/Users/ada/Notes."),
    ("windows", "C:/Users/ada/Notes "),
    ("windows", "notes"),
    ("windows", "//./C:/x"),
    ("windows", "//?/C:/x"),
    ("windows", "C:/Users/ada"),
    ("windows", "C:/Users"),
    ("windows", "C:/Users/ADA"),
    ("windows", "C:/Users/ada/AppData/Local/widetrail/x"),
    ("linux", "/"),
    ("linux", "/home"),
    ("linux", "/home/ada"),
    ("linux", "/dev/sda"),
    ("linux", "/proc/self/mem"),
    ("linux", "/home/ada/../eve"),
    ("linux", "/home/ada/a\0b"),
    ("linux", "/home/ada/.local/state/widetrail"),
    ("linux", f"/home/ada/{'x' * 300}"),
    ("macos", "/"),
    ("macos", "/Users/ada"),
    ("macos", "/dev/disk0"),
    ("macos", "/Users/ada/Library/Application Support/widetrail"),
]


@pytest.mark.parametrize(("platform", "path"), NEVER)
def test_some_paths_are_no_place_whatever_anybody_says(
    tmp_path: Path, platform: str, path: str
) -> None:
    assert never_a_place(path, machine(tmp_path / "x", platform), told=True)


@pytest.mark.parametrize("path", ["/home/ada", "/home/ada/.local/state/widetrail"])
def test_settings_that_lead_to_no_place_carry_nothing(tmp_path: Path, path: str) -> None:
    home = HOMES["linux"]
    files = {f"{home}/n.ini": f"[a]\nfolder={path}\n", f"{home}/.local/state/widetrail/x": "x"}
    here = machine(tmp_path / "x", "linux", files=files)
    recipe = tmp_path / "x.trail.yaml"
    recipe.write_text(
        "recipe: 1\nrevision: 1\napplication: {id: notes, name: Notes}\n"
        'recognise:\n  - sign: {file: "{home}/n.ini"}\n'
        f'places:\n  notes: {{folder: "{{documents}}/Notes"{TOLD}}}\n'
        "items:\n  notes:\n    title: Notes\n    from: notes\n"
        "    routes: [{name: copy, legs: [{new: [copy]}]}]\n"
    )
    said = widetrail("survey", recipe, "--machine", here.folder)
    assert "cannot be used" in said.out, said.out


def test_what_is_our_own_is_never_carried_nor_put_away(tmp_path: Path) -> None:
    case = Case("linux", 'folder: "{home}/.local"', ".local/x", "")
    one = between(tmp_path, case)
    secret = FolderMachine(tmp_path / "old").host("/home/ada/.local/state/widetrail/seats/ledger")
    secret.parent.mkdir(parents=True)
    for station in ("old", "new"):
        status, said = walk(one, station)
        assert status == 0, said
    carried = {e.path for e in Parcel(one.at, one.new.effects).reader("linux").entries}
    assert "x" in carried and not any("widetrail" in path for path in carried)
    assert widetrail("undo", "--machine", tmp_path / "new", "--yes").status == 0


# What is shown is what is done


class Recorded(Effects):
    """Effects that note each path that is changed."""

    def __init__(self) -> None:
        super().__init__(self._note)
        self.paths: set[str] = set()

    def _note(self, effect: Effect) -> None:
        if effect.kind not in ("start", "barrier", "sync", "sync folder"):
            self.paths.add(effect.path)


GIVEN = "{run: [fernbook, give, '{parcel}/x'], makes: '{parcel}/x'}"
TAKEN = "{run: [fernbook, take, '{parcel}/x'], changes: notes}"
STEPS = {
    "copy": new("copy"),
    "copied elsewhere": new("{copy: '{extra}'}"),
    "merged": new("copy").replace("name: way", "name: way\n        existing: replace"),
    "written": new("copy", "write: {ini: '{home}/fernbook.ini', at: a/b, value: x}"),
    "run": new("copy", "{run: [fernbook, say, hello], changes: notes}"),
    "made by it": item(f"        legs:\n          - old: [{GIVEN}]\n          - new: [{TAKEN}]"),
}


@pytest.mark.parametrize("name", STEPS)
def test_nothing_is_changed_but_what_was_shown(tmp_path: Path, name: str) -> None:
    one = trail(tmp_path, STEPS[name])
    (one.folder / "new/root/home/ada/notes").mkdir()
    (one.folder / "new/root/home/ada/notes/one.txt").write_text("another\n")
    for station in ("old", "new"):
        recorded = Recorded()
        visit = one.visit(station, recorded)
        visit.look_ahead(NOW)
        shown = " ".join(words for _, words in visit.words(NOW))
        words = {word.strip(";,:'\"") for word in shown.split()} - {"/"}
        before = contents(one.folder / station)
        assert visit.walk(NOW).failed == ()
        disk = str(one.folder / station / "root")
        changed = {path[len(disk) :] for path in recorded.paths if path.startswith(disk)}
        after = contents(one.folder / station)
        seen = {f"/{p}".removeprefix("/root") for p in after if after[p] != before.get(p)}
        seen |= {f"/{p}".removeprefix("/root") for p in before.keys() - after.keys()}
        for path in sorted(changed | seen):
            own = path.startswith("/home/ada/.local") or "/home/ada/.local".startswith(path)
            told = words & set(upwards(path))
            assert own or told, f"{station}: {path} was changed, and this was shown: {shown}"
