"""Paths in settings: understood on old, made right for new, and what still names old is found."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from build import NOW, Trail, machine, moved, outcomes
from conftest import SWEEP, contents, cut_off_everywhere, of_the_person
from widetrail.errors import Obstructed
from widetrail.finding.atlas import (
    Atlas,
    Elsewhere,
    Kept,
    Moved,
    NotUnderstood,
    Rewritten,
    Unsayable,
    short_name,
)
from widetrail.finding.old_path_search import find_remnants, remnant_pattern
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Platform, Spot, Unreadable
from widetrail.formats.registry import Key, registry_text
from widetrail.formats.registry_writing import write_registry
from widetrail.formats.sqlite import list_column, put_column
from widetrail.machine.path_notation import KnownBearings, read_written
from widetrail.machine.paths import trouble_with_name
from widetrail.machine.roots import standard_roots
from widetrail.planning import Choices
from widetrail.planning.user_choices import Verdict
from widetrail.steps.publish_step import PublishFacts
from widetrail.walking import Run


def list_values(form: str, data: bytes, at: str) -> list[Spot]:
    spots = FORMS[form].spots
    assert spots is not None
    return spots(data, at)


def put_values(form: str, data: bytes, at: str, changes: dict[str, str]) -> bytes:
    put = FORMS[form].put
    assert put is not None
    return put(data, at, changes)


HOMES: dict[Platform, str] = {"windows": "C:/Users/{}", "macos": "/Users/{}", "linux": "/home/{}"}


def bearings(platform: Platform, user: str, name: str = "shed") -> KnownBearings:
    home = HOMES[platform].format(user)
    roots = standard_roots(platform, "10.0", home)
    known = {"USERPROFILE": home, "APPDATA": roots["config"]} if platform == "windows" else {}
    return KnownBearings(name, platform, roots, known or {"HOME": home})


SHED, OFFICE = bearings("windows", "ines"), bearings("windows", "imarsh", "office")
NOOK, GATE = bearings("macos", "tomas", "nook"), bearings("linux", "piet", "gate")
PLATES = Moved("D:/Fern herbarium/Sporelog", "C:/Users/imarsh/Documents/Sporelog")
ON_LINUX = Moved("D:/Fern herbarium/Sporelog", "/home/piet/Sporelog")


@pytest.mark.parametrize(
    ("text", "windows", "linux"),
    [
        (
            r"D:\Fern herbarium\Sporelog",
            r"C:\Users\imarsh\Documents\Sporelog",
            "/home/piet/Sporelog",
        ),
        (
            r"d:\FERN HERBARIUM\sporelog\A.png",
            r"c:\Users\imarsh\Documents\Sporelog\A.png",
            "/home/piet/Sporelog/A.png",
        ),
        (
            r"D:\FERNHE~1\Sporelog\a",
            r"C:\Users\imarsh\Documents\Sporelog\a",
            "/home/piet/Sporelog/a",
        ),
        (
            "D:\\\\Fern herbarium\\\\Sporelog\\\\",
            "C:\\\\Users\\\\imarsh\\\\Documents\\\\Sporelog\\\\",
            "/home/piet/Sporelog/",
        ),
        (
            "D:/Fern herbarium/Sporelog/x",
            "C:/Users/imarsh/Documents/Sporelog/x",
            "/home/piet/Sporelog/x",
        ),
        (
            "\\\\?\\D:\\Fern herbarium\\Sporelog",
            "\\\\?\\C:\\Users\\imarsh\\Documents\\Sporelog",
            "/home/piet/Sporelog",
        ),
        (
            "file:///D:/Fern%20herbarium/Sporelog/a%20b.png",
            "file:///C:/Users/imarsh/Documents/Sporelog/a%20b.png",
            "file:///home/piet/Sporelog/a%20b.png",
        ),
        (r"%USERPROFILE%\Documents", None, "/home/piet/Documents"),
        (r"C:\Users\ines", r"C:\Users\imarsh", "/home/piet"),
        ("~/Documents", None, None),
        (r"plates\a.png", None, "plates/a.png"),
        (r"..\Sporelog\a.png", None, "../Sporelog/a.png"),
        ("https://fern.example/D:/x", None, None),
        ("fern", None, None),
        ("", None, None),
    ],
)
def test_a_path_in_every_form_is_said_on_the_new_machine(
    text: str, windows: str | None, linux: str | None
) -> None:
    for new, moved_to, expected in ((OFFICE, PLATES, windows), (GATE, ON_LINUX, linux)):
        atlas = Atlas(SHED, new, [moved_to])
        told = atlas.translate(text, f"{moved_to.old}/s.ini", f"{moved_to.new}/s.ini")
        assert told == (Kept() if expected is None else Rewritten(expected)), (text, new.platform)


def test_what_did_not_move_or_cannot_be_said_is_told() -> None:
    there = {"C:/Program Files/Fern/a.dll", "C:/Users/imarsh/Pictures/a.png"}
    atlas = Atlas(SHED, OFFICE, [PLATES], there.__contains__)
    cases = {
        r"E:\Elsewhere\x": Elsewhere("E:/Elsewhere/x"),
        r"C:\Users\ines\Pictures\gone.png": Elsewhere("C:/Users/ines/Pictures/gone.png"),
        r"C:\Users\ines\Pictures\a.png": Rewritten(r"C:\Users\imarsh\Pictures\a.png"),
        r"C:\Program Files\Fern\a.dll": Kept(),
        r"\\garden\files\x": Elsewhere("//garden/files/x"),
        r"D:\Fern herbarium\Sporelogs": Elsewhere("D:/Fern herbarium/Sporelogs"),
    }
    for text, expected in cases.items():
        assert atlas.translate(text, "", "") == expected, text
    assert isinstance(atlas.translate("%NOWHERE%\\x", "", ""), NotUnderstood)
    assert isinstance(atlas.translate("D:plates", "", ""), NotUnderstood)
    back = Atlas(GATE, OFFICE, [Moved("/srv/plates", "D:/Plates")])
    assert back.translate("/srv/plates/a:b", "", "") == Unsayable("/srv/plates/a:b", "holds ':'")
    renamed = Moved("/srv/plates", "D:/Plates", True, {"a:b": "a%3Ab"})
    told = Atlas(GATE, OFFICE, [renamed]).translate("/srv/plates/a:b/c", "", "")
    assert told == Rewritten("D:\\Plates\\a%3Ab\\c")


def test_a_relative_path_that_leaves_its_folder_is_told_anew_where_it_must_be() -> None:
    for name, expected in (("Sporelog", Kept()), ("Fern", Rewritten("a.png"))):
        moved_to = Moved("/home/ada/Sporelog", f"/home/piet/{name}")
        told = Atlas(bearings("linux", "ada"), GATE, [moved_to]).translate(
            "../Sporelog/a.png", f"{moved_to.old}/s.ini", f"{moved_to.new}/s.ini"
        )
        assert told == expected


def test_short_names_are_those_that_windows_makes() -> None:
    made = {
        "Fern herbarium": "FERNHE~1",
        "ines": "INES",
        "a.b.text": "AB~1.TEX",
        "Long file.jpeg": "LONGFI~1.JPE",
        "with+plus": "WITH_P~1",
    }
    assert {name: short_name(name) for name in made} == made


USERS = st.from_regex(r"[a-z]{1,8}", fullmatch=True)
PLATFORMS = st.sampled_from(["windows", "macos", "linux"])
_IN_NAMES = st.characters(
    exclude_categories=["Cs", "Cc", "Cn", "Zl", "Zp"], exclude_characters="~$%"
)
SEGMENTS = st.text(_IN_NAMES, min_size=1, max_size=12).filter(
    lambda s: s.strip() == s and not any(trouble_with_name(s, p) for p in HOMES)
)
TREES = st.lists(SEGMENTS, min_size=1, max_size=3).map("/".join)


def canonical(path: str, style: str, platform: str) -> str:
    """Return a path as a program writes one in that style."""
    if style == "address":
        lead = "" if path.startswith("/") else "/"
        told = quote(path, safe="/:!$&'()*+,;=@~")
        return f"file://{lead}{told}"
    return path.replace("/", "\\") if platform == "windows" else path


@given(
    PLATFORMS,
    PLATFORMS,
    USERS,
    USERS,
    TREES,
    TREES,
    st.none() | TREES,
    st.sampled_from(["plain", "address"]),
)
def test_rewriting_to_new_and_back_gives_the_first_bytes(
    one: Platform,
    other: Platform,
    user: str,
    there: str,
    place: str,
    target: str,
    below: str | None,
    style: str,
) -> None:
    old, new = bearings(one, user), bearings(other, there, "office")
    roots = {p: "D:" if p == "windows" else "/srv" for p in HOMES}
    moved_one = Moved(f"{roots[one]}/{place}", f"{roots[other]}/{target}")
    path = f"{moved_one.old}/{below}" if below else moved_one.old
    text = canonical(path, style, one)
    told = Atlas(old, new, [moved_one]).translate(text, "", "")
    then = told.text if isinstance(told, Rewritten) else text
    assert isinstance(told, Rewritten | Kept)
    reached, _ = read_written(then, new)
    assert reached is not None
    assert reached.path == (f"{moved_one.new}/{below}" if below else moved_one.new)
    back = Atlas(new, old, [Moved(moved_one.new, moved_one.old)]).translate(then, "", "")
    assert (back.text if isinstance(back, Rewritten) else then) == text


@given(
    PLATFORMS, PLATFORMS, TREES, st.sampled_from(["slashes", "doubled", "case", "trail", "long"])
)
def test_what_is_not_in_canonical_form_means_the_same_after_rewriting(
    one: Platform, other: Platform, below: str, how: str
) -> None:
    assume(one == "windows" or how in ("trail", "slashes"))
    old, new = bearings(one, "ada"), bearings(other, "bo", "office")
    roots = {p: "D:/Fern" if p == "windows" else "/srv/fern" for p in HOMES}
    moved_one = Moved(roots[one], roots[other])
    text = f"{roots[one]}/{below}"
    text = {
        "slashes": text,
        "doubled": text.replace("/", "\\\\"),
        "case": text.replace("/", "\\").replace("D:\\Fern", "d:\\FERN"),
        "trail": f"{text}/",
        "long": "\\\\?\\" + text.replace("/", "\\"),
    }[how]
    told = Atlas(old, new, [moved_one]).translate(text, "", "")
    then = told.text if isinstance(told, Rewritten) else text
    reached, _ = read_written(then, new)
    assert reached is not None
    assert reached.path == f"{roots[other]}/{below}"
    back = Atlas(new, old, [Moved(moved_one.new, moved_one.old)]).translate(then, "", "")
    home, _ = read_written(back.text if isinstance(back, Rewritten) else then, old)
    assert home is not None
    assert home.path.casefold() == f"{roots[one]}/{below}".casefold()


@given(PLATFORMS, PLATFORMS, st.text(st.characters(exclude_characters="/\\~$%:"), max_size=20))
def test_a_value_without_a_path_in_it_is_never_touched(
    one: Platform, other: Platform, text: str
) -> None:
    roots = {p: "D:/Fern" if p == "windows" else "/srv/fern" for p in HOMES}
    atlas = Atlas(bearings(one, "ada"), bearings(other, "bo"), [Moved(roots[one], roots[other])])
    told = atlas.translate(text, f"{roots[one]}/a.ini", f"{roots[other]}/a.ini")
    assert not isinstance(told, Rewritten)


# Values in files

WORDS = st.text(st.characters(exclude_categories=["Cs", "Cc", "Zl", "Zp"]), max_size=12)
FILES = {
    "ini": ('; note\r\n[a]\r\nfolder = "{0}"\r\nother={1}\r\n[b]\r\nfolder={0}\r\n', "*/folder"),
    "toml": ("# note\nx = 1\n\n[a]\nfolder = {0}   # told\nother = {1}\n", "/a/folder"),
    "json": ('{{"a": [{0}, 3,  {{"b": {0}}}],\n\t"c": {1}}}', "/a/*/b"),
    "yaml": ("# note\na:\n  - {0}   # told\n  - {1}\n", "/a/0"),
    "text": ("first\nfolder: {0}\nlast {1}\n", "^folder: (.*)$"),
}


@given(st.sampled_from(sorted(FILES)), TREES, TREES, WORDS)
def test_a_path_is_written_and_every_other_byte_stays(
    form: str, path: str, other: str, word: str
) -> None:
    text, at = FILES[form]
    shown = json.dumps if form in ("json", "toml", "yaml") else str
    assume(form != "ini" or word.strip() == word)
    one = text.format(shown(f"/{path}"), shown(word)).encode()
    two = text.format(shown(f"/{other}"), shown(word)).encode()
    try:
        spots = list_values(form, one, at)
    except Unreadable:  # a word that the form has no room for
        return
    assume(spots)
    assert {spot.text for spot in spots} == {f"/{path}"}
    after = put_values(form, one, at, {spot.where: f"/{other}" for spot in spots})
    assert [(s.where, s.text) for s in list_values(form, after, at)] == [
        (s.where, f"/{other}") for s in spots
    ]
    if form in ("ini", "text"):
        assert after == two
    back = put_values(form, after, at, {spot.where: spot.text for spot in spots})
    assert list_values(form, back, at) == spots
    if form in ("ini", "text") or (path.isascii() and path.isalnum()):
        assert back == one


def test_xml_keeps_its_declaration_comments_line_ends_and_encoding() -> None:
    data = (
        '<?xml version="1.0" encoding="ISO-8859-1"?>\r\n<!-- é -->\r\n<s>\r\n'
        '  <a folder="D:\\Fern" on="1"/><b>D:\\Fern</b>\r\n</s>\r\n<!-- end -->\r\n'
    ).encode("latin-1")
    after = put_values("xml", data, "//a/@folder | //b", {"0": "C:\\Fougère & co", "1": "C:\\x"})
    assert after.decode("latin-1") == (
        '<?xml version="1.0" encoding="ISO-8859-1"?>\r\n<!-- é -->\r\n<s>\r\n'
        '  <a folder="C:\\Fougère &amp; co" on="1"/><b>C:\\x</b>\r\n</s>\r\n<!-- end -->\r\n'
    )
    marked = b"\xef\xbb\xbf<s><a>x</a></s>"
    assert put_values("xml", marked, "//a", {"0": "y"}) == b"\xef\xbb\xbf<s><a>y</a></s>"


def test_registry_texts_are_changed_in_place() -> None:
    key = Key(r"HKEY_CURRENT_USER\Fern", {"a": registry_text("A", "D:\\x", "REG_EXPAND_SZ")})
    data = write_registry([key])
    (spot,) = list_values("reg", data, r"HKEY_CURRENT_USER\Fern\*")
    after = put_values("reg", data, r"HKEY_CURRENT_USER\Fern\*", {spot.where: "C:\\yy"})
    assert put_values("reg", after, r"HKEY_CURRENT_USER\Fern\*", {spot.where: "D:\\x"}) == data
    assert b"h\0e\0x\0(\x002\0)" in after


def test_a_column_is_changed_in_one_transaction(tmp_path: Path) -> None:
    file = tmp_path / "a.db"
    with closing(sqlite3.connect(file)) as connection, connection:
        connection.execute("pragma journal_mode = wal")
        connection.execute('create table "odd ""t" (id integer primary key, "p c" text, q text)')
        rows = [("a", "a"), ("b", "a"), (None, None), (3, "b"), (b"a", "a")]
        connection.executemany('insert into "odd ""t" ("p c", q) values (?, ?)', rows)
    assert [s.text for s in list_column(str(file), 'odd "t.p c')] == ["3", "a", "b"]
    assert put_column(str(file), 'odd "t.p c', {"a": "b", "b": "c"}) == 3
    with closing(sqlite3.connect(file)) as connection:
        found = connection.execute('select "p c", q from "odd ""t" order by id').fetchall()
    assert found == [("b", "a"), ("c", "a"), (None, None), ("3", "b"), (b"b", "a")]
    with pytest.raises(Unreadable, match="cannot be changed"):
        put_column(str(file), "none.p", {"a": "b"})


# What still names old


@pytest.mark.parametrize(
    ("line", "found"),
    [
        (r"folder=C:\Users\ines\x", True),
        (r'{"a": "c:\\users\\INES"}', True),
        ("file:///C:/Users/ines/a", True),
        ("file%3A///C%3A/Users/ines", True),
        (r"C:\/Users\/ines", True),
        (r"\\potting-shed\files", True),
        ("//potting-shed/files", True),
        (r"D:\\F\u00fcr Farne\\x", True),
        ("D:/F%C3%BCr%20Farne", True),
        ("D:\\Für Farne", True),
        ("<a>D:\\Für Farne</a>", True),
        ("ines wrote this on potting-shed", False),
        (r"C:\Users\ines2\x", False),
        (r"C:\Users\ines-old", False),
        ("/Users/ines", False),
        ("C:/work/potting-shed/x", False),
        (r"XC:\Users\ines", False),
    ],
)
def test_old_paths_are_found_in_every_form_and_bare_words_are_not(line: str, found: bool) -> None:
    pattern = remnant_pattern(["C:/Users/ines", "D:/Für Farne", "//potting-shed"], "windows")
    for data in (f"x\n{line}\n".encode(), f"x\r\n{line}\r\n".encode("utf-16")):
        spots = list(find_remnants(data, pattern))
        assert [s.line for s in spots] == ([2] if found else [])
    assert not list(find_remnants(b"\x89PNG\0" + line.encode(), pattern))


# Walks

BODY = """
places:
  settings: {folder: "{config}/Fernbook"}
  notes:
    folder: "{documents}/Fernbook"
    set_in: {ini: "{settings}/book.ini", at: where/notes}
readings:
  pages: {files: "{notes}/*.txt"}
  named: {sqlite: "{notes}/book.db", at: select count(*) from page}
items:
  notes:
    title: Notes
    from: notes
    paths:
      - {sqlite: "{notes}/book.db", at: page.file, outside: OUTSIDE}
      - {text: "{notes}/*.txt", at: '^see (.*)$'}
    checks: {pages: {compare: same}, named: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
  settings:
    title: Settings
    kind: settings
    from: settings
    paths: {json: "{settings}/*.json", at: "/recent/*"}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
INI = b'; mine\r\n[where]\r\nNotes = "D:\\Fern"  \r\n[view]\r\nx=1\r\n'


def book(
    folder: Path, outside: str = "carry", new: Platform = "windows", **choices: Verdict
) -> Trail:
    """Set out from drive D of ada's to bo's documents, with paths in every file."""
    files: dict[str, str | bytes] = {
        "C:/Users/ada/AppData/Roaming/Fernbook/book.ini": INI,
        "C:/Users/ada/AppData/Roaming/Fernbook/recent.json": json.dumps(
            {"recent": ["D:\\Fern\\one.txt", "file:///D:/Fern/two%20b.txt", 3], "by": "ada"}
        ),
        "D:/Fern/one.txt": "first\nsee D:\\Fern\\two b.txt\nsee also\n",
        "D:/Fern/two b.txt": "nothing\n",
        "C:/Users/ada/Pictures/a.png": "a picture",
        "D:/Other/a.png": "another",
    }
    old = machine(folder / "old", "windows", files, more="identity: old\n", name="shed")
    with closing(sqlite3.connect(folder / "old/d/Fern/book.db")) as connection, connection:
        connection.execute("create table page (file text, title text)")
        pages = [
            "D:\\Fern\\one.txt",
            "two b.txt",
            "C:\\Users\\ada\\Pictures\\a.png",
            "d:\\other\\A.png",
            "E:\\gone.png",
        ]
        connection.executemany("insert into page values (?, 'on D:')", [(p,) for p in pages])
    here = machine(folder / "new", new, more="identity: new\n", user="bo", name="office")
    chosen = Choices(outside={f"fernbook.{item}": verdict for item, verdict in choices.items()})
    return moved(folder, BODY.replace("OUTSIDE", outside), old, here, chosen)


def texts(one: Trail, home: str, documents: str) -> dict[str, object]:
    """Return what the files on new say."""
    found: dict[str, object] = {}
    for name in (f"{home}/book.ini", f"{documents}/one.txt"):
        found[name.rpartition("/")[2]] = one.new.read(name).decode()
    found["recent"] = json.loads(one.new.read(f"{home}/recent.json"))["recent"]
    with closing(sqlite3.connect(one.new.host(f"{documents}/book.db"))) as connection:
        found["pages"] = [row[0] for row in connection.execute("select file from page")]
    return found


ON_WINDOWS = ("C:/Users/bo/AppData/Roaming/Fernbook", "C:/Users/bo/Documents/Fernbook")
N = "C:\\Users\\bo\\Documents\\Fernbook"
RIGHT = {
    "book.ini": INI.decode().replace("D:\\Fern", N),
    "one.txt": f"first\nsee {N}\\two b.txt\nsee also\n",
    "recent": [f"{N}\\one.txt", "file:///C:/Users/bo/Documents/Fernbook/two%20b.txt", 3],
    "pages": [
        f"{N}\\one.txt",
        "two b.txt",
        f"{N}\\outside\\a.png",
        f"c{N[1:]}\\outside\\A (2).png",
        "E:\\gone.png",
    ],
}


def test_every_path_is_right_on_new_and_what_lay_elsewhere_came_along(tmp_path: Path) -> None:
    one = book(tmp_path)
    plan = one.parcel.plan
    assert plan.item("fernbook.notes").from_outside == {
        "outside/a.png": "C:/Users/ada/Pictures/a.png",
        "outside/A (2).png": "D:/other/A.png",
    }
    (loss,) = plan.item("fernbook.notes").losses
    assert loss.what == "files elsewhere that it refers to (E:/gone.png)"
    before = contents(one.folder / "old/d")
    one.walk("old")
    told = outcomes(one.walk("new"))
    assert set(told.values()) == {"done"}
    assert texts(one, *ON_WINDOWS) == RIGHT
    assert one.new.read(f"{ON_WINDOWS[1]}/outside/a.png") == b"a picture"
    assert one.new.read(f"{ON_WINDOWS[1]}/outside/A (2).png") == b"another"
    assert contents(one.folder / "old/d") == before
    facts = one.parcel.outcomes["fernbook.notes/copy/1/publish"].facts
    assert isinstance(facts, PublishFacts)
    assert (facts.paths_rewritten, list(facts.of("elsewhere"))) == (4, ["E:/gone.png"])
    mentions = one.parcel.outcomes["fernbook.notes/remnants"].facts.of("mention")
    assert list(mentions) == []


def test_on_another_platform_the_same_paths_are_said_its_way(tmp_path: Path) -> None:
    one = book(tmp_path, new="linux")
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    there = "/home/bo/Documents/Fernbook"
    assert texts(one, "/home/bo/.config/Fernbook", there) == {
        "book.ini": INI.decode().replace("D:\\Fern", there),
        "one.txt": f"first\nsee {there}/two b.txt\nsee also\n",
        "recent": [f"{there}/one.txt", f"file://{there}/two%20b.txt", 3],
        "pages": [
            f"{there}/one.txt",
            "two b.txt",
            f"{there}/outside/a.png",
            f"{there}/outside/A (2).png",
            "E:\\gone.png",
        ],
    }


def test_whether_what_lies_elsewhere_goes_along_is_asked(tmp_path: Path) -> None:
    with pytest.raises(Obstructed) as refused:
        book(tmp_path / "asked", "ask")
    assert "Say --outside notes=carry, or notes=leave." in str(refused.value.obstacles[0].todo)
    left = book(tmp_path / "left", "ask", notes="leave")
    assert left.parcel.plan.item("fernbook.notes").from_outside == {}
    left.walk("old")
    told = outcomes(left.walk("new"))
    assert set(told.values()) == {"done"}  # what stays is told, so it is not a remnant
    names = left.parcel.plan.item("fernbook.notes").losses[0].what
    assert "C:/Users/ada/Pictures/a.png" in names
    carried = book(tmp_path / "carried", "ask", notes="carry")
    assert len(carried.parcel.plan.item("fernbook.notes").from_outside) == 2


def test_settings_that_do_not_parse_are_carried_as_they_are(tmp_path: Path) -> None:
    one = book(tmp_path)
    broken = one.folder / "old/c/Users/ada/AppData/Roaming/Fernbook/broken.json"
    broken.write_bytes(b'{"recent": ["D:\\\\Fern\\\\one.txt",')
    (one.folder / "old/d/Fern/book.db").write_bytes(b"SQLite format 3\0 and no more")
    one.walk("old")
    told = outcomes(one.walk("new"))
    assert one.new.read(f"{ON_WINDOWS[0]}/broken.json") == broken.read_bytes()
    (remark,) = one.parcel.outcomes["fernbook.settings/copy/1/publish"].facts.remarks
    assert remark.code == "not_rewritten" and remark.path.endswith("/broken.json")
    assert remark.reason.startswith("is not json")
    assert "names the old computer" in told["fernbook.settings/remnants"].replace("still ", "")
    (remark,) = one.parcel.outcomes["fernbook.notes/copy/1/publish"].facts.remarks
    assert remark.code == "not_rewritten" and "cannot be queried" in remark.reason


def test_a_setting_that_the_recipe_forgot_is_found_with_file_and_line(tmp_path: Path) -> None:
    one = book(tmp_path)
    settings = one.folder / "old/c/Users/ada/AppData/Roaming/Fernbook"
    (settings / "more.ini").write_bytes(b"[a]\r\nlast=C:\\Users\\ada\\x\r\nby=ada\r\n")
    (one.folder / "old/d/Fern/three.md").write_text("I keep it in D:/Fern\n")
    one.walk("old")
    told = outcomes(one.walk("new"))["fernbook.settings/remnants"]
    assert told == (
        "fernbook.settings still names the old computer: "
        "C:/Users/bo/AppData/Roaming/Fernbook/more.ini:2: last=C:\\Users\\ada\\x"
    )
    mentions = one.parcel.outcomes["fernbook.notes/remnants"].facts.of("mention")
    assert list(mentions) == [f"{ON_WINDOWS[1]}/three.md:1: I keep it in D:/Fern"]


def test_what_is_at_one_path_on_both_machines_is_no_remnant(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "/home/ada/.config/Fernbook/a.ini": "[a]\nlast=/usr/local/share/fern/x\nmine=/home/ada/y\n",
        "/home/ada/Documents/Fernbook/one.txt": "one",
        "/usr/local/share/fern/x": "x",
    }
    old = machine(tmp_path / "old", "linux", files, more="identity: old\n", name="localhost")
    common = {"/usr/local/share/fern/x": "x"}
    new = machine(tmp_path / "new", "linux", common, more="identity: new\n", name="office")
    body = BODY.replace("places:", 'places:\n  common: {folder: "{shared}/fern"}', 1)
    database = '      - {sqlite: "{notes}/book.db", at: page.file, outside: OUTSIDE}\n'
    body = body.replace(database, "").replace(", named: {compare: same}", "")
    one = moved(tmp_path, body, old, new)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}


@SWEEP
def test_cut_off_anywhere_paths_are_made_right_once_and_all_can_be_had_back(
    tmp_path: Path,
) -> None:
    one = book(tmp_path / "one")
    one.walk("old")
    before = of_the_person(one.folder / "new")

    def judge(copy: Trail, number: int) -> None:
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}
        assert texts(copy, *ON_WINDOWS) == RIGHT
        assert not list(copy.folder.rglob("staging"))
        Run(copy.new).undo(NOW)
        Run(copy.new).settle()
        assert of_the_person(copy.folder / "new") == before

    assert cut_off_everywhere(one, tmp_path, 5, judge) > 100


def test_new_settings_tell_where_the_place_is_when_old_ones_did_not(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "/home/ada/.config/Fernbook/book.ini": "[view]\nx=1\n",
        "/home/ada/Documents/Fernbook/one.txt": "one",
    }
    old = machine(tmp_path / "old", "linux", files, more="identity: old\n", name="shed")
    mine = {"/home/bo/.config/Fernbook/book.ini": "[where]\nnotes=~/Elsewhere\n"}
    new = machine(tmp_path / "new", "linux", mine, more="identity: new\n", user="bo", name="office")
    body = BODY.replace(
        '      - {sqlite: "{notes}/book.db", at: page.file, outside: OUTSIDE}\n', ""
    )
    body = body.replace(", named: {compare: same}", "")
    one = moved(tmp_path, body, old, new)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert one.new.read("/home/bo/Elsewhere/one.txt") == b"one"
    told = one.new.read("/home/bo/.config/Fernbook/book.ini").decode()
    assert told == "[view]\nx=1\n[where]\nnotes=/home/bo/Elsewhere\n"
