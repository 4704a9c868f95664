"""Named values: registry texts, desktop settings and preference files, carried and merged."""

from __future__ import annotations

import os
import plistlib
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from build import NOW, Trail, machine, moved, outcomes
from conftest import SWEEP, Stopped, cut_off_everywhere, of_the_person, stop_at
from test_formats import hive
from widetrail.errors import Obstructed
from widetrail.finding.stores import file_with
from widetrail.formats.dconf import dconf_below, edit_dconf, gvariant_with, write_dconf
from widetrail.formats.hive import hive_tree
from widetrail.formats.plist import dump_plist
from widetrail.formats.registry import TYPES, Key, RegistryText, RegistryValue, registry_text
from widetrail.formats.registry_writing import KEY, Edit, edit_registry, write_registry
from widetrail.machine import Effects, FolderMachine
from widetrail.walking import Run

TOP = r"HKEY_CURRENT_USER\Software\Fernbook"
NAMES = st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=12)
_IN_KEYS = st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\\[]")
KEYS = st.text(_IN_KEYS, min_size=1, max_size=8).map(str.strip).filter(bool)
VALUES = st.builds(RegistryValue, NAMES, st.sampled_from(TYPES), st.binary(max_size=90))
TEXTS = st.builds(registry_text, NAMES, st.text(st.characters(exclude_categories=["Cs"])))


def keys_of(values: list[tuple[str, RegistryValue]]) -> list[Key]:
    found: dict[str, Key] = {}
    for name, value in values:
        key = found.setdefault(name.casefold(), Key(f"{TOP}\\{name}"))
        key.values[value.name.casefold()] = value
    return list(found.values())


def plain(keys: list[Key] | RegistryText) -> dict[str, dict[str, tuple[str, bytes]]]:
    listed = keys.keys.values() if isinstance(keys, RegistryText) else keys
    return {
        k.path.casefold(): {n: (v.type, v.data) for n, v in k.values.items()}
        for k in listed
        if k.values
    }


@given(st.lists(st.tuples(KEYS, VALUES | TEXTS), max_size=8))
def test_every_type_of_value_is_written_and_read_again(
    values: list[tuple[str, RegistryValue]],
) -> None:
    keys = keys_of(values)
    text = write_registry(keys)
    assert plain(RegistryText(text)) == plain(keys)


@given(st.lists(st.tuples(KEYS, VALUES | TEXTS), max_size=5), st.tuples(KEYS, VALUES | TEXTS))
def test_what_is_set_and_taken_away_leaves_every_byte(
    values: list[tuple[str, RegistryValue]], more: tuple[str, RegistryValue]
) -> None:
    text = write_registry(keys_of(values))
    name, value = more
    for before in (text, text[:-4]):  # with an empty line at the end, and without
        key = f"{TOP}\\{name}"
        known = RegistryText(before).find(key)
        if known is not None and value.name.casefold() in known.values:
            continue
        after = edit_registry(before, [Edit(key, value.name, value)])
        assert plain(RegistryText(after))[key.casefold()][value.name.casefold()] == (
            value.type,
            value.data,
        )
        gone = [Edit(key)] if known is None else [Edit(key, value.name)]
        assert edit_registry(after, gone) == before


@pytest.mark.parametrize("administrator", ["yes", "no"])
def test_a_place_of_32_bit_programs_is_seen_as_they_see_it(
    administrator: str, tmp_path: Path
) -> None:
    body = (
        REGISTRY.replace("EXISTING", "")
        .replace(
            r"settings: {key: 'HKEY_CURRENT_USER\Software\Fernbook'}",
            r"settings: {key: 'HKEY_LOCAL_MACHINE\Software\Fernbook', view: 32}",
        )
        .replace("checks: {pages: {compare: same}}", "")
    )
    for name, user in (("old", "ada"), ("new", "bo")):
        files = {"C:/Users/ada/notes/a": "a"} if name == "old" else {}
        more = f"identity: {name}\nadministrator: {administrator}\n"
        machine(tmp_path / name, "windows", files, more=more, user=user, name=name)
    key = r"HKEY_LOCAL_MACHINE\Software\Wow6432Node\Fernbook"
    text = write_registry([Key(key, {"a": registry_text("A", "C:\\Users\\ada\\notes\\a")})])
    (tmp_path / "old/registry.reg").write_bytes(text)
    (tmp_path / "new/registry.reg").write_bytes(write_registry([]))
    sides = FolderMachine(tmp_path / "old"), FolderMachine(tmp_path / "new")
    one = moved(tmp_path, body.replace("HKEY_CURRENT_USER\\Software\\Fernbook*", f"{key}*"), *sides)
    if administrator == "no":
        (passed,) = [r for item in one.parcel.plan.left for r in item.rejected]
        assert passed.reason == "administrator on the new computer must be yes, but is no"
        return
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    found = one.new.registry.key(r"HKLM\Software\Fernbook", "32")
    assert found is not None
    assert found.values["a"].plain == "C:\\Users\\bo\\notes\\a"
    assert one.new.registry.key(r"HKLM\Software\Fernbook") is None


def test_an_edit_of_version_4_stays_version_4() -> None:
    text = b'REGEDIT4\n\n[HKEY_CURRENT_USER\\Software\\Fernbook]\n; kept\n"A"="x"\n"B"=dword:1\n'
    values = [registry_text("A", "caf\xe9"), registry_text("C", "%X%\xe9", "REG_EXPAND_SZ")]
    after = edit_registry(text, [Edit(TOP, v.name, v) for v in values])
    assert after == (
        b'REGEDIT4\n\n[HKEY_CURRENT_USER\\Software\\Fernbook]\n; kept\n"A"="caf\xe9"\n"B"=dword:1\n'
        b'"C"=hex(2):25,58,25,e9,00\n'
    )
    found = RegistryText(after).find(TOP)
    assert found is not None
    assert {v.name: v.plain for v in found.values.values()} == {
        "A": "caf\xe9",
        "B": 1,
        "C": "%X%\xe9",
    }
    made = edit_registry(after, [Edit(f"{TOP}\\Empty", KEY)])
    assert made.endswith(b"\n[HKEY_CURRENT_USER\\Software\\Fernbook\\Empty]\n")


@given(
    st.dictionaries(st.from_regex(r"([a-z]{1,3}/){0,2}[a-z]{1,4}", fullmatch=True), st.just("1")),
    st.from_regex(r"([a-z]{1,3}/){0,2}[a-z]{1,4}", fullmatch=True),
)
def test_settings_of_the_desktop_are_set_and_taken_away(values: dict[str, str], name: str) -> None:
    text = write_dconf(values)
    after = edit_dconf(text, {name: "uint32 7"})
    assert dconf_below(after, "") == {**values, name: "uint32 7"}
    if name not in values:
        assert edit_dconf(after, {name: None}) == text


# Walks

REGISTRY = r"""
places:
  settings: {key: 'HKEY_CURRENT_USER\Software\Fernbook'}
  notes: {folder: "{home}/notes"}
readings:
  pages: {registry: 'HKEY_CURRENT_USER\Software\Fernbook', at: Pages}
items:
  values:
    title: Values
    kind: registry
    from: settings
    leave: ["Screens/**", Version]
    paths:
      - {registry: 'HKEY_CURRENT_USER\Software\Fernbook*', at: '*'}
    checks: {pages: {compare: same}}
    routes: [{name: merged, EXISTING legs: [{new: [copy]}]}]
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""


def registry(values: dict[str, dict[str, str]]) -> bytes:
    """Return a registry text of values as they stand in one, by key below the program's own."""
    parts = ["Windows Registry Editor Version 5.00\r\n"]
    for key, named in values.items():
        name = f"{TOP}\\{key}" if key else TOP
        parts.append(f"\r\n[{name}]\r\n")
        parts += [f'"{n}"={text}\r\n' for n, text in named.items()]
    return "".join(parts).encode("utf-16")


def hexed(kind: int, text: str) -> str:
    return f"hex({kind:x}):{text.encode('utf-16-le').hex(',')}"


OLD = {
    "": {
        "Pages": "dword:0000000c",
        "Version": '"3.1"',
        "Notes": r'"C:\\Users\\ada\\notes\\first – 1.txt"',
        "Expanded": hexed(2, "%USERPROFILE%\\notes\0"),
        "Recent": hexed(7, "C:\\Users\\ada\\notes\\a\0C:\\Users\\ada\\notes\\b\0\0"),
        "Word": '"ada"',
    },
    "Screens\\1": {"Width": "dword:00000500"},
    "View\\Columns": {"Order": '"name"'},
}
NEW = {
    "": {"pages": "dword:00000001", "Version": '"3.2"', "Own": '"stays"'},
    "View": {"Zoom": "dword:00000002"},
}


def two(folder: Path, existing: str = "", new: dict[str, dict[str, str]] | None = None) -> Trail:
    files = {"C:/Users/ada/notes/a": "a"}
    old = machine(folder / "old", "windows", files, more="identity: old\n", name="shed")
    here = machine(folder / "new", "windows", more="identity: new\n", user="bo", name="office")
    (folder / "old/registry.reg").write_bytes(registry(OLD))
    (folder / "new/registry.reg").write_bytes(registry(NEW if new is None else new))
    body = REGISTRY.replace("EXISTING", f"existing: {existing}," if existing else "")
    return moved(folder, body, FolderMachine(old.folder), FolderMachine(here.folder))


def values_on(one: Trail) -> dict[str, object]:
    text = RegistryText((one.folder / "new/registry.reg").read_bytes())
    return {
        f"{key.path[len(TOP) :]}\\{value.name.capitalize()}".lstrip("\\"): value.plain
        for key in text.keys.values()
        for value in key.values.values()
    }


CARRIED = {
    "Pages": 12,
    "Notes": "C:\\Users\\bo\\notes\\first – 1.txt",
    "Expanded": "%USERPROFILE%\\notes",
    "Recent": ["C:\\Users\\bo\\notes\\a", "C:\\Users\\bo\\notes\\b"],
    "Word": "ada",
    "View\\Columns\\Order": "name",
}
KEPT = {"Version": "3.2", "Own": "stays", "View\\Zoom": 2}


@pytest.mark.parametrize(
    ("existing", "expected"),
    [
        ("", {**CARRIED, **KEPT}),
        ("replace", {**CARRIED, **KEPT}),
        ("back up", {**CARRIED, "Version": "3.2"}),
        ("skip", {**CARRIED, **KEPT, "Pages": 1}),
    ],
)
def test_values_are_merged_their_paths_are_right_and_all_can_be_had_back(
    tmp_path: Path, existing: str, expected: dict[str, object]
) -> None:
    one = two(tmp_path, existing)
    before = (one.folder / "new/registry.reg").read_bytes()
    one.walk("old")
    told = outcomes(one.walk("new"))
    wrong = {reason for reason in told.values() if reason != "done"}
    assert wrong == (
        {"pages: 12 on the old computer, 1 on the new computer"} if existing == "skip" else set()
    )
    assert values_on(one) == expected
    text = (one.folder / "new/registry.reg").read_bytes()
    assert RegistryText(text).find(f"{TOP}\\Screens") is None
    expanded = RegistryText(text).find(TOP)
    assert expanded is not None
    assert expanded.values["expanded"].type == "REG_EXPAND_SZ"
    Run(one.new).undo(NOW)
    after = (one.folder / "new/registry.reg").read_bytes()
    if existing == "back up":  # what went comes back, in another place of the text
        assert plain(RegistryText(after)) == plain(RegistryText(before))
    else:
        assert after == before


def test_values_are_entered_where_nothing_is_yet_and_stop_where_something_is(
    tmp_path: Path,
) -> None:
    one = two(tmp_path / "empty", "refuse", {})
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert values_on(one) == CARRIED
    with pytest.raises(Obstructed) as refused:
        two(tmp_path / "taken", "refuse")
    assert "the recipe refuses where" in str(refused.value.obstacles[0])


@SWEEP
def test_cut_off_anywhere_values_are_entered_once_and_can_be_had_back(tmp_path: Path) -> None:
    one = two(tmp_path / "one")
    one.walk("old")
    before = of_the_person(one.folder / "new")

    def judge(copy: Trail, number: int) -> None:
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}
        assert values_on(copy) == {**CARRIED, **KEPT}
        with suppress(Stopped):
            Run(FolderMachine(copy.folder / "new", Effects(stop_at(number % 40 + 1)))).undo(NOW)
        if not Run(copy.new).undone:
            Run(copy.new).undo(NOW)
        Run(copy.new).settle()
        assert of_the_person(copy.folder / "new") == before

    assert cut_off_everywhere(one, tmp_path, 2, judge) > 60


def test_values_beyond_what_the_item_takes_are_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = two(tmp_path)
    with monkeypatch.context() as patch:
        every = "widetrail.steps.pack.selected"
        patch.setattr(every, lambda kind, item, values: dict(values))
        one.walk("old")
    before = (one.folder / "new/registry.reg").read_bytes()
    told = outcomes(one.walk("new"))["fernbook.values/merged/1/enter"]
    assert "gets a value that fernbook.values does not take" in told
    assert (one.folder / "new/registry.reg").read_bytes() == before


def test_a_registry_that_does_not_parse_stops_the_walk_before_it_begins(tmp_path: Path) -> None:
    one = two(tmp_path)
    one.walk("old")
    (one.folder / "new/registry.reg").write_bytes(b"Windows Registry Editor Version 5.00\n\n?!\n")
    with pytest.raises(Obstructed) as refused:
        one.walk("new")
    assert "is not a registry text at line 3" in str(refused.value.obstacles[0])
    assert (one.folder / "new/registry.reg").read_bytes().endswith(b"?!\n")


PREFERENCES = """
places:
  settings: {file: "{preferences}/org.fern.book.plist"}
  notes: {folder: "{home}/notes", set_in: {plist: "{settings}", at: Where/Notes}}
items:
  values:
    title: Values
    kind: settings
    from: settings
    leave: Window
    paths: {plist: "{settings}", at: Recent}
    routes: [{name: merged, legs: [{new: [copy]}]}]
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""


def test_a_preference_file_is_merged_value_by_value(tmp_path: Path) -> None:
    mine = {
        "Where": {"Notes": "~/Papers"},
        "Recent": ["/Users/ada/Papers/a", "/Users/ada/Papers/b c"],
        "Window": [1, 2],
        "Blob": b"\0\1",
        "Deep": {"On": True, "Size": 1.5, "Empty": {}},
    }
    theirs = {"Window": [9, 9], "Own": "stays", "Where": {"Notes": "/Users/bo/Notes", "Other": 1}}
    path = "/Users/{}/Library/Preferences/org.fern.book.plist"
    files = {path.format("ada"): plistlib.dumps(mine), "/Users/ada/Papers/a": b"a"}
    old = machine(tmp_path / "old", "macos", files, more="identity: old\n", name="shed")
    binary = plistlib.dumps(theirs, fmt=plistlib.FMT_BINARY)
    new = machine(
        tmp_path / "new",
        "macos",
        {path.format("bo"): binary},
        more="identity: new\n",
        user="bo",
        name="office",
    )
    one = moved(tmp_path, PREFERENCES, old, new)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    written = one.new.read(path.format("bo"))
    assert written.startswith(b"bplist")
    assert plistlib.loads(written) == {
        "Window": [9, 9],
        "Own": "stays",
        "Where": {"Notes": "~/Notes", "Other": 1},
        "Recent": ["/Users/bo/Notes/a", "/Users/bo/Notes/b c"],
        "Blob": b"\0\1",
        "Deep": {"On": True, "Size": 1.5},
    }
    Run(one.new).undo(NOW)
    assert one.new.read(path.format("bo")) == binary


def test_values_do_not_go_from_one_kind_of_store_to_another(tmp_path: Path) -> None:
    body = (
        REGISTRY.replace("kind: registry", "kind: settings")
        .replace("EXISTING", "")
        .replace(
            r"settings: {key: 'HKEY_CURRENT_USER\Software\Fernbook'}",
            r"settings: [{for: {platform: windows}, key: 'HKEY_CURRENT_USER\Software\Fernbook'},"
            " {dconf: /org/fern/book}]",
        )
    )
    files = {"C:/Users/ada/notes/a": "a"}
    old = machine(tmp_path / "old", "windows", files, more="identity: old\n", name="shed")
    (tmp_path / "old/registry.reg").write_bytes(registry(OLD))
    new = machine(tmp_path / "new", "linux", more="identity: new\n", user="bo", name="office")
    (tmp_path / "new/desktop.dconf").write_text("[org/other]\na=1\n")
    one = moved(tmp_path, body, FolderMachine(old.folder), FolderMachine(new.folder))
    (left,) = one.parcel.plan.left
    assert left.rejected[0].reason == "values are not transferred from registry to dconf"


# The systems' own tools


def tool(name: str, package: str) -> str:
    found = shutil.which(name)
    if found is None:
        pytest.skip(f"{name} (Debian: {package}) is not installed")
    return found


@pytest.fixture(scope="module")
def wine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, str]]:
    """Lend the environment of a fresh Windows that Debian's wine plays."""
    tool("wine", "wine")
    folder = tmp_path_factory.mktemp("wine")
    own = {"WINEPREFIX": str(folder), "WINEDEBUG": "-all", "LC_ALL": "C.UTF-8", "HOME": str(folder)}
    environment = {**os.environ, **own}
    made = subprocess.run(["wine", "wineboot", "-i"], env=environment, capture_output=True)
    if made.returncode != 0:
        pytest.skip(f"wine does not start here: {made.stderr.decode()[:200]}")
    yield environment
    subprocess.run(["wineserver", "-k"], env=environment, capture_output=True)


@pytest.mark.sweep
def test_wine_reads_what_we_write_and_we_read_what_it_exports(
    wine: dict[str, str], tmp_path: Path
) -> None:
    values = [
        registry_text("Text", 'C:\\Größe\\"q"'),
        registry_text("シダ – é", "%APPDATA%\\ünï", "REG_EXPAND_SZ"),
        registry_text("", "the key's own"),
        RegistryValue("Many", "REG_MULTI_SZ", "a\0シダ\0\0".encode("utf-16-le")),
        RegistryValue("Word", "REG_DWORD", b"\1\2\3\4"),
        RegistryValue("Long", "REG_QWORD", bytes(range(8))),
        RegistryValue("Bytes", "REG_BINARY", bytes(range(200))),
        RegistryValue("None", "REG_NONE", b"\7\0"),
        registry_text("Empty", ""),
    ]
    keys = [Key(f"{TOP}\\Ünder", {v.name.casefold(): v for v in values}), Key(f"{TOP}\\Bare")]
    (tmp_path / "ours.reg").write_bytes(write_registry(keys))
    read = subprocess.run(
        ["wine", "reg", "import", str(tmp_path / "ours.reg")], env=wine, capture_output=True
    )
    assert read.returncode == 0, read.stdout + read.stderr
    short = TOP.replace("HKEY_CURRENT_USER", "HKCU")
    written = subprocess.run(
        ["wine", "reg", "export", short, f"Z:{tmp_path}/theirs.reg".replace("/", "\\"), "/y"],
        env=wine,
        capture_output=True,
    )
    assert written.returncode == 0, written.stdout + written.stderr
    theirs = RegistryText((tmp_path / "theirs.reg").read_bytes())
    assert plain(theirs) == plain(keys)
    assert theirs.find(f"{TOP}\\Bare") is not None
    again = edit_registry((tmp_path / "theirs.reg").read_bytes(), [])
    assert again == (tmp_path / "theirs.reg").read_bytes()


def test_a_hive_that_hivex_made_is_read_as_a_whole_and_written_as_text(tmp_path: Path) -> None:
    data = hive(tmp_path)
    found = hive_tree(data, "Software")
    assert [key.path for key in found][:2] == ["Software", "Software\\Fernbook"]
    here = machine(tmp_path / "m", "windows", {"C:/Users/ada/ntuser.dat": data})
    keys = list(here.registry.tree(r"HKCU\Software\Fernbook"))
    assert keys[0].path == TOP
    assert plain(RegistryText(write_registry(keys))) == plain(keys)
    assert len(keys[0].values) > 4
    assert here.registry.tree(r"HKCU\Software\Nothing") == ()


def test_the_real_dconf_loads_what_we_write_and_dumps_what_we_read(tmp_path: Path) -> None:
    tool("dconf", "dconf-cli")
    tool("dbus-run-session", "dbus")
    values = {
        "org/fern/book/speed": "3",
        "org/fern/book/size": "uint32 7",
        "org/fern/book/recent": gvariant_with("['x']", ["/home/ada/it's", "C:\\ü", 'a "b"']),
        "org/fern/book/view/columns": "[('a', 1), ('b', 2)]",
        "org/fern/other": "true",
    }
    script = f"dconf load / < {tmp_path}/ours && dconf dump /"
    (tmp_path / "ours").write_bytes(write_dconf(values))
    environment = {"HOME": str(tmp_path), "PATH": "/usr/bin:/bin", "XDG_RUNTIME_DIR": str(tmp_path)}
    done = subprocess.run(
        ["dbus-run-session", "sh", "-c", script], env=environment, capture_output=True, check=False
    )
    if b"dbus" in done.stderr and done.returncode != 0:
        pytest.skip(f"dconf does not work here: {done.stderr.decode()[:200]}")
    assert done.returncode == 0, done.stderr
    assert dconf_below(done.stdout, "/") == values
    assert done.stdout == write_dconf(values)


LIVE = """
from widetrail.machine.live import this_machine
here = this_machine()
here.edit_desktop({"/org/fern/book/a": "uint32 7", "/org/fern/book/b": "'x'"})
here.edit_desktop({"/org/fern/book/b": None, "/org/fern/other": "[true]"})
print(here.desktop_settings().decode(), end="")
"""


@pytest.mark.skipif(sys.platform != "linux", reason="changes the settings of a Linux account")
def test_this_machine_sets_and_resets_settings_of_its_desktop(tmp_path: Path) -> None:
    tool("dconf", "dconf-cli")
    session = tool("dbus-run-session", "dbus")
    (tmp_path / "run").mkdir(mode=0o700)
    own = {"HOME": str(tmp_path), "XDG_RUNTIME_DIR": str(tmp_path / "run"), "SUDO_USER": ""}
    environment = {k: v for k, v in os.environ.items() if not k.startswith("XDG_")} | own
    done = subprocess.run(
        [session, sys.executable, "-c", LIVE], env=environment, capture_output=True, text=True
    )
    if "dbus" in done.stderr.casefold() and done.returncode != 0:
        pytest.skip(f"dconf does not work here: {done.stderr[-200:]}")
    assert done.returncode == 0, done.stderr
    assert done.stdout == "[org/fern]\nother=[true]\n\n[org/fern/book]\na=uint32 7\n"


def test_plistutil_reads_the_preference_files_that_we_write(tmp_path: Path) -> None:
    program = tool("plistutil", "libplist-utils")
    leaf = plistlib.dumps({"value": "C:\\ü & <é>"}).decode()
    ours = file_with(
        "plist", b"", {"/Where/Notes": leaf, "/Blob": plistlib.dumps({"value": b"x"}).decode()}
    )
    for name, like in (("xml", b""), ("binary", plistlib.dumps({}, fmt=plistlib.FMT_BINARY))):
        data = dump_plist(plistlib.loads(ours), like)
        (tmp_path / name).write_bytes(data)
        shown = subprocess.run(
            [program, "-i", str(tmp_path / name), "-f", "xml"], capture_output=True, check=True
        )
        assert plistlib.loads(shown.stdout) == plistlib.loads(ours)
