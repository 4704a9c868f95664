"""Finding: recognition, places in every form with how they were found, readings by part."""

import os
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

import build
from widetrail.finding import (
    Absent,
    ByPart,
    Finder,
    Found,
    Instance,
    Known,
    Nowhere,
    Pair,
    Several,
    Unknown,
    Unpaired,
    Where,
    pair,
    survey,
)
from widetrail.finding.values import How
from widetrail.machine import FolderMachine
from widetrail.machine.path_notation import understand_path

H = build.HOMES


def place(finder: Finder, name: str = "notes") -> Where:
    return finder.place(name)


FIXED = 'places: {notes: {folder: "{documents}/Notes"}}\n'


def test_an_application_is_recognised_with_its_release(tmp_path: Path) -> None:
    finder = build.find(build.machine(tmp_path), FIXED)
    assert finder.installation is not None
    assert str(finder.installation.release) == "3.1"
    assert finder.installation.sign == "/home/ada/fernbook.ini"


def test_one_that_is_not_there_is_not(tmp_path: Path) -> None:
    here = build.machine(tmp_path)
    here.host("/home/ada/fernbook.ini").unlink()
    finder = build.find(here, FIXED)
    assert (finder.installation, finder.recognised.installations) == (None, ())


def test_a_release_that_cannot_be_read_is_unknown_with_the_reason(tmp_path: Path) -> None:
    here = build.machine(tmp_path, files={"/home/ada/fernbook.ini": "[fernbook]\nrelease=soon\n"})
    finder = build.find(here, FIXED)
    assert finder.installation is not None
    assert finder.installation.release is None
    assert finder.installation.unknown == ('release: "soon" is not a version',)


SEVERAL_SIGN = """
recognise:
  - for: {platform: windows}
    sign: {registry: 'HKEY_CURRENT_USER\\Software\\Fernbook'}
  - sign: {file: "{home}/opt/fernbook-*/fernbook"}
    release: {text: "{installation}/VERSION", at: '(.+)'}
    edition: {text: "{installation}/EDITION", at: '(.+)'}
"""


def test_of_several_installations_the_latest_release_is_taken(tmp_path: Path) -> None:
    files = {f"/home/ada/opt/fernbook-{n}/VERSION": v for n, v in (("a", "9.2"), ("b", "10.0.2b3"))}
    files |= {f"/home/ada/opt/fernbook-{n}/fernbook": "" for n in "ab"}
    files["/home/ada/opt/fernbook-b/EDITION"] = "institute"
    here = build.machine(tmp_path, files=files)
    finder = build.find(here, FIXED, SEVERAL_SIGN)
    assert [str(i.release) for i in finder.recognised.installations] == ["9.2", "10.0.2b3"]
    chosen = finder.installation
    assert chosen is not None
    assert (str(chosen.release), chosen.edition) == ("10.0.2b3", "institute")
    (found,) = survey(here, [finder.loaded])
    assert len(found.installations) == 2


def test_the_registry_can_be_the_sign_with_its_32_bit_view(tmp_path: Path) -> None:
    text = (
        "Windows Registry Editor Version 5.00\n\n"
        '[HKEY_LOCAL_MACHINE\\Software\\Wow6432Node\\Fernbook]\n"Release"="2024 R3"\n'
    )
    (tmp_path / "registry.reg").write_text(text, encoding="utf-16")
    here = build.machine(tmp_path, "windows")
    sign = r"""
recognise:
  - sign: {registry: 'HKEY_LOCAL_MACHINE\Software\Fernbook', view: '32'}
    release: {registry: 'HKEY_LOCAL_MACHINE\Software\Fernbook', at: release, view: '32'}
"""
    finder = build.find(here, FIXED, sign)
    assert finder.installation is not None
    assert str(finder.installation.release) == "2024 R3"
    assert build.find(here, FIXED, sign.replace(", view: '32'}", "}")).installation is None


CASES = """
places:
  notes:
    - for: {platform: windows, system: "<6"}
      folder: "{documents}/Old Notes"
    - for: {release: "<3"}
      folder: "{documents}/Labels"
    - for: {release: ">=3"}
      folder: {macos: "{config}/Notes", else: "{documents}/Notes"}
"""


@pytest.mark.parametrize(
    ("platform", "system", "release", "path", "case"),
    [
        ("windows", "5.1", "3.1", "C:/Documents and Settings/ada/My Documents/Old Notes", 0),
        ("windows", "10.0", "2.9", "C:/Users/ada/Documents/Labels", 1),
        ("windows", "10.0", "3.0", "C:/Users/ada/Documents/Notes", 2),
        ("macos", "14", "3.1", "/Users/ada/Library/Application Support/Notes", 2),
        ("linux", "12", "3.0rc1", "/home/ada/Documents/Labels", 1),
    ],
)
def test_cases_by_platform_system_and_release(
    tmp_path: Path, platform: str, system: str, release: str, path: str, case: int
) -> None:
    home = "C:/Documents and Settings/ada" if system == "5.1" else H[platform]
    files = {f"{home}/fernbook.ini": f"[fernbook]\nrelease={release}\n"}
    finder = build.find(build.machine(tmp_path, platform, files, system=system), CASES)
    found = place(finder)
    assert isinstance(found, Absent)
    assert (found.path, found.how.case) == (path, case)


TOLD = """
places:
  notes:
    folder: "{documents}/Notes"
    set_in: {ini: "{home}/fernbook.ini", at: notes/folder, as: path}
"""


@pytest.mark.parametrize(
    ("platform", "written", "path"),
    [
        ("windows", r"D:\Papers\Notes", "D:/Papers/Notes"),
        ("windows", r"d:/Papers//Notes\ ", "D:/Papers/Notes"),
        ("windows", r"%USERPROFILE%\Notes", "C:/Users/ada/Notes"),
        ("windows", r"%appdata%\Notes", "C:/Users/ada/AppData/Roaming/Notes"),
        ("windows", "file:///D:/Papers/My%20Notes", "D:/Papers/My Notes"),
        ("windows", r"\Papers", "C:/Papers"),
        ("windows", r"..\Notes", "C:/Users/Notes"),
        ("windows", "Notes", "C:/Users/ada/Notes"),
        ("macos", "~/Notes", "/Users/ada/Notes"),
        ("macos", "file:///Users/ada/No%CC%81tes", "/Users/ada/No\u0301tes"),
        ("macos", "file://localhost/Users/ada/Notes/", "/Users/ada/Notes"),
        ("linux", "$HOME/Notes", "/home/ada/Notes"),
        ("linux", "${HOME}/Notes", "/home/ada/Notes"),
        ("linux", '"/srv/Notes"', "/srv/Notes"),
        ("linux", "./a/../Notes", "/home/ada/Notes"),
    ],
)
def test_a_told_path_is_understood(tmp_path: Path, platform: str, written: str, path: str) -> None:
    ini = f"{build.INI}[notes]\nfolder={written}\n"
    files = {f"{H[platform]}/fernbook.ini": ini, f"{path}/page": "x"}
    found = place(build.find(build.machine(tmp_path, platform, files), TOLD))
    assert isinstance(found, Found), found
    assert found.path == path
    assert (found.how.rule, found.how.line) == ("told", 4)
    assert str(found.how) == f"set in {H[platform]}/fernbook.ini, line 4"


@pytest.mark.parametrize(
    ("written", "reason"),
    [
        ("~other/Notes", "home of another account"),
        ("$NOWHERE/Notes", "variable that is not known"),
    ],
)
def test_a_told_path_that_is_not_understood_is_never_the_fall_back(
    tmp_path: Path, written: str, reason: str
) -> None:
    ini = f"{build.INI}[notes]\nfolder={written}\n"
    files = {"/home/ada/fernbook.ini": ini, "/home/ada/Documents/Notes/page": "x"}
    found = place(build.find(build.machine(tmp_path, files=files), TOLD))
    assert isinstance(found, Nowhere)
    assert reason in found.reason


def test_a_told_folder_that_is_not_there_is_said(tmp_path: Path) -> None:
    ini = f"{build.INI}[notes]\nfolder=/media/stick/Notes\n"
    files = {"/home/ada/fernbook.ini": ini, "/home/ada/Documents/Notes/page": "x"}
    found = place(build.find(build.machine(tmp_path, files=files), TOLD))
    assert isinstance(found, Absent)
    assert str(found) == "/media/stick/Notes is not there (set in /home/ada/fernbook.ini, line 4)"


def test_a_told_drive_that_is_not_there_is_said(tmp_path: Path) -> None:
    files = {"C:/Users/ada/fernbook.ini": f"{build.INI}[notes]\nfolder=F:\\Notes\n"}
    found = place(build.find(build.machine(tmp_path, "windows", files), TOLD))
    assert isinstance(found, Nowhere)
    assert "disk not found" in found.reason


def test_where_nothing_is_told_the_fixed_path_holds(tmp_path: Path) -> None:
    found = place(build.find(build.machine(tmp_path), TOLD))
    assert isinstance(found, Absent)
    assert (found.path, found.how.rule) == ("/home/ada/Documents/Notes", "fixed")


def test_a_place_that_is_a_link_is_said_with_its_target(tmp_path: Path) -> None:
    here = build.machine(tmp_path, files={"/srv/Notes/page": "x", "/home/ada/Documents/x": ""})
    here.host("/home/ada/Documents/Notes").symlink_to("/srv/Notes")
    found = place(build.find(here, FIXED))
    assert isinstance(found, Nowhere)
    assert "is a link to /srv/Notes" in found.reason


FIRST = """
places:
  settings:
    first_of: ["{home}/.fernbook", "{config}/fernbook"]
    else: "{config}/fernbook"
  notes:
    first_of: ["{home}/.fernbook-notes", "{data}/fernbook"]
    else: "{data}/fernbook"
    follows: settings
items:
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
  settings: {title: Settings, from: settings, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""


@pytest.mark.parametrize(
    ("there", "settings", "notes"),
    [
        ([".fernbook/x", ".local/share/fernbook/x"], ".fernbook", ".fernbook-notes"),
        ([".config/fernbook/x", ".fernbook-notes/x"], ".config/fernbook", ".local/share/fernbook"),
        ([], ".config/fernbook", ".local/share/fernbook"),
    ],
)
def test_the_first_that_is_there_and_what_follows_it(
    tmp_path: Path, there: list[str], settings: str, notes: str
) -> None:
    here = build.machine(tmp_path, files={f"/home/ada/{path}": "x" for path in there})
    finder = build.find(here, FIRST)
    follower, chosen = place(finder), place(finder, "settings")
    assert isinstance(chosen, Found | Absent)
    assert isinstance(follower, Found | Absent)
    assert chosen.path == f"/home/ada/{settings}"
    assert follower.path == f"/home/ada/{notes}"
    assert follower.how.rule == "follows"
    assert len(chosen.how.among) == 2


EACH = """
places:
  notes:
    each: "{home}/books/*"
    contains: ["book.db", "pages/**"]
    in_use: {ini: "{home}/fernbook.ini", at: notes/current}
readings:
  size: {size: "{notes}/book.db"}
items:
  notes:
    title: Notes
    from: notes
    checks: {size: {}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""


def test_several_by_glob_hold_what_they_must_and_one_is_in_use(tmp_path: Path) -> None:
    files = {
        "/home/ada/fernbook.ini": f"{build.INI}[notes]\ncurrent=Zwei\n",
        "/home/ada/books/Eins/book.db": "1",
        "/home/ada/books/Eins/pages/1": "",
        "/home/ada/books/Zwei/book.db": "22",
        "/home/ada/books/Zwei/pages/1": "",
        "/home/ada/books/empty/readme": "",
        "/home/ada/books/file": "",
    }
    here = build.machine(tmp_path, files=files)
    finder = build.find(here, EACH)
    found = place(finder)
    assert isinstance(found, Several)
    assert [(i.name, i.in_use) for i in found.instances] == [("Eins", False), ("Zwei", True)]
    assert found.rejected == (("/home/ada/books/empty", "it holds no book.db"),)
    assert finder.reading("size") == Known(2, "/home/ada/books/Zwei/book.db")
    items = survey(here, [finder.loaded])[0].items
    assert [i.checks[0][1] for i in items] == [
        Known(1, "/home/ada/books/Eins/book.db"),
        Known(2, "/home/ada/books/Zwei/book.db"),
    ]


def test_of_several_with_none_in_use_a_single_reading_is_unknown(tmp_path: Path) -> None:
    books = {f"/home/ada/books/{n}/book.db": n for n in "ab"}
    books |= {f"/home/ada/books/{n}/pages/1": n for n in "ab"}
    finder = build.find(build.machine(tmp_path, files=books), EACH)
    answer = finder.reading("size")
    assert isinstance(answer, Unknown)
    assert "not known which one is in use" in answer.reason


INDEXES = {
    "json": (
        "rooms.json",
        '{"rooms": [{"dir": "rooms/a", "label": "A", "on": true}, {"dir": "/srv/b", "label": "B"},'
        ' {"dir": "rooms/gone", "label": "C"}, {"label": "no dir"}]}',
        "at: /rooms",
    ),
    "yaml": (
        "rooms.yaml",
        "rooms:\n  - {dir: rooms/a, label: A, on: yes}\n  - {dir: /srv/b, label: B}\n"
        "  - {dir: rooms/gone}\n  - {label: no dir}\n",
        "at: /rooms",
    ),
    "ini": (
        "rooms.ini",
        "[Room0]\nDir=rooms/a\nLabel=A\nOn=1\n[General]\nx=1\n[Room1]\nDir=/srv/b\nLabel=B\n"
        "[Room2]\nDir=rooms/gone\n[Room3]\nLabel=x\n",
        'at: "Room*"',
    ),
}


@pytest.mark.parametrize("form", INDEXES)
def test_several_by_the_programs_own_index(tmp_path: Path, form: str) -> None:
    name, text, at = INDEXES[form]
    files = {f"/home/ada/{name}": text, "/home/ada/rooms/a/db": "x", "/srv/b/db": "x"}
    files["/home/ada/rooms/stray/db"] = "x"
    body = f"""
places:
  notes:
    index: {{{form}: "{{home}}/{name}", {at}, path: dir, name: label, in_use: on}}
    contains: db
"""
    found = place(build.find(build.machine(tmp_path, files=files), body))
    assert isinstance(found, Several), found
    shown = [(i.path, i.name, i.in_use) for i in found.instances]
    assert shown == [("/home/ada/rooms/a", "A", True), ("/srv/b", "B", False)]
    assert ("/home/ada/rooms/gone", "it is listed, but does not exist") in found.rejected
    assert len(found.rejected) == 2
    assert str(found.instances[0].how) == f"listed in /home/ada/{name}"


def test_an_index_that_is_broken_is_said(tmp_path: Path) -> None:
    body = 'places: {notes: {index: {json: "{home}/i", at: /r, path: d}}}\n'
    found = place(build.find(build.machine(tmp_path, files={"/home/ada/i": "{"}), body))
    assert isinstance(found, Nowhere)
    assert "its index /home/ada/i is not json" in found.reason


def instance(name: str, in_use: bool | None = None) -> Instance:
    return Instance(f"/x/{name}", name, in_use, How("each"))


def test_old_and_new_are_paired_by_the_recipes_rules_in_order() -> None:
    old = Several((instance("Work", True), instance("home"), instance("Lab")))
    new = Several((instance("First", True), instance("HOME")))
    pairs = pair(old, new, ("name", "in use", "register"))
    shown = [
        (p.old.name, p.new.name if p.new else None, p.by) for p in pairs if isinstance(p, Pair)
    ]
    assert shown == [
        ("Work", "First", "in use"),
        ("home", "HOME", "name"),
        ("Lab", None, "register"),
    ]
    assert [type(p) for p in pair(old, new, ("name",))] == [Unpaired, Pair, Unpaired]


def test_a_place_inside_a_synced_folder_is_known_as_such(tmp_path: Path) -> None:
    more = "synced: [{folder: /home/ada/Documents, service: Commonbed}]\n"
    here = build.machine(tmp_path, files={"/home/ada/Documents/Notes/x": ""}, more=more)
    found = place(build.find(here, FIXED))
    assert isinstance(found, Found)
    assert found.synced == "Commonbed"


def test_places_in_the_registry(tmp_path: Path) -> None:
    text = 'Windows Registry Editor Version 5.00\n\n[HKEY_CURRENT_USER\\A\\B]\n"C"="x"\n'
    (tmp_path / "registry.reg").write_text(text, encoding="utf-16")
    here = build.machine(tmp_path, "windows")
    body = "places: {notes: {key: 'HKCU\\A'}, one: {value: 'HKCU\\A\\B\\c'}}\n"
    finder = build.find(here, body)
    assert isinstance(finder.place("notes"), Found)
    assert isinstance(finder.place("one"), Found)
    assert isinstance(place(build.find(here, "places: {notes: {key: 'HKCU\\A\\D'}}\n")), Absent)
    assert isinstance(
        place(build.find(build.machine(tmp_path / "l"), "places: {notes: {key: 'HKCU\\A'}}\n")),
        Nowhere,
    )


PARTS = """
places: {notes: {folder: "{home}"}}
readings:
  accounts: {sqlite: "{notes}/db", at: select distinct who from t, as: set}
  letters: {sqlite: "{notes}/db", at: "select count(*) from t where who = :account"}
items:
  notes:
    title: Notes
    from: notes
    parts: {account: accounts}
    checks: {letters: {}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""


def test_a_reading_with_a_part_is_answered_by_part_and_bound_not_pasted(tmp_path: Path) -> None:
    import sqlite3

    here = build.machine(tmp_path)
    connection = sqlite3.connect(here.host("/home/ada/db"))
    with connection:
        connection.execute("create table t (who)")
        rows = [("o'hara",), ("o'hara",), ("x' or '1'='1",)]
        connection.executemany("insert into t values (?)", rows)
    connection.close()
    finder = build.find(here, PARTS)
    answer = finder.answer("letters", finder.loaded.recipe.items["notes"])
    assert isinstance(answer, ByPart)
    shown = [(name, a.value) for name, a in answer.answers if isinstance(a, Known)]
    assert shown == [("o'hara", 2), ("x' or '1'='1", 1)]
    assert answer.total == Known(3)


def test_a_database_that_was_asked_before_is_asked_again_once_it_holds_something_else(
    tmp_path: Path,
) -> None:
    import sqlite3

    here = build.machine(tmp_path)
    finder = build.find(here, PARTS)
    connection = sqlite3.connect(here.host("/home/ada/db"))
    connection.execute("pragma journal_mode = wal")  # the file itself stays as it is
    connection.execute("pragma wal_autocheckpoint = 0")
    for number in range(4):
        with connection:
            connection.execute("create table if not exists t (who)")
            connection.execute("insert into t values (?)", (f"p{number}",))
        for _ in range(2):
            told = finder.reading("accounts")
            assert isinstance(told, Known)
            assert told.value == tuple(f"p{n}" for n in range(number + 1))
    path = here.host("/home/ada/db")
    moment = path.stat()
    connection.close()
    with sqlite3.connect(path) as other:  # as long as before, and of the same time
        other.execute("update t set who = 'q0' where who = 'p0'")
    other.close()
    os.utime(path, ns=(moment.st_atime_ns, moment.st_mtime_ns))
    told = finder.reading("accounts")
    assert isinstance(told, Known)
    assert told.value == ("p1", "p2", "p3", "q0")


PROGRAM = """
programs:
  - path: /usr/bin/fernbook
    start: [sh, -c, 'echo "at: $HOME"; echo "state: active"; ls "$HOME"; touch "$HOME/left"']
"""
ASK = """
places: {{notes: {{folder: "{{home}}/Notes"}}}}
readings:
  state: {{output: [fernbook, state], at: '^state: (.*)$', home: {home}}}
  pages: {{output: [fernbook, list], at: '^(Notes)$', as: count, home: {home}}}
items:
  notes:
    title: Notes
    from: notes
    checks: {{state: {{}}, pages: {{}}}}
    routes: [{{name: copy, legs: [{{new: [copy]}}]}}]
"""


@pytest.mark.parametrize(
    ("home", "seen", "left"), [("empty", 0, False), ("copy", 1, False), ("real", 1, True)]
)
def test_programs_are_asked_in_the_home_the_recipe_says(
    tmp_path: Path, home: str, seen: int, left: bool
) -> None:
    here = build.machine(tmp_path, files={"/home/ada/Notes/x": ""}, more=PROGRAM)
    silent = build.find(here, ASK.format(home=home))
    answer = silent.reading("state")
    assert isinstance(answer, Unknown)
    assert "add --ask-programs" in answer.reason
    finder = build.find(here, ASK.format(home=home), ask=True)
    assert finder.reading("state") == Known("active", "`fernbook state`", 2)
    pages = finder.reading("pages")
    assert isinstance(pages, Known)
    assert pages.value == seen
    assert (here.look("/home/ada/left") is not None) is left
    assert len(finder.commands()) == 2


@given(
    st.lists(
        st.text(st.characters(exclude_categories=["Cc", "Cs"], exclude_characters='/\\<>:"|?*%'))
        .map(str.strip)
        .filter(lambda s: s.strip(". ") and len(s) < 40),
        min_size=1,
        max_size=4,
    )
)
def test_one_path_in_all_its_spellings_is_one_place(names: list[str]) -> None:
    path = "C:/Users/ada/" + "/".join(names)
    here = _WINDOWS[0]
    spellings = (
        path,
        path.replace("/", "\\"),
        "c:" + path[2:] + "\\",
        "file:///" + quote(path, safe="/:"),
        "%UserProfile%\\" + "\\".join(names),
        "\\Users\\ada\\" + "\\".join(names),
        "\\".join(names) if not names[0].startswith("~") else path,
    )
    for written in spellings:
        if written.startswith("file:") and path != written and "file:" in names[0]:
            continue
        assert understand_path(written, here, "C:/Users/ada/f.ini") == (path, ""), written


_WINDOWS: list[FolderMachine] = []


@pytest.fixture(scope="module", autouse=True)
def _windows(tmp_path_factory: pytest.TempPathFactory) -> None:
    _WINDOWS.append(build.machine(tmp_path_factory.mktemp("windows"), "windows"))


def test_a_glob_of_a_hostile_depth_ends(tmp_path: Path) -> None:
    files = {f"/home/ada/{'a/' * n}b": "" for n in range(1, 60)}
    body = 'places: {notes: {each: "{home}/**/a*/**/a*/**/a*/**/c"}}\n'
    found = place(build.find(build.machine(tmp_path, files=files), body))
    assert found == Several(())
