"""Values of settings files, taken one by one and merged; and settings as Qt programs write them."""

from __future__ import annotations

import json
import plistlib
from collections.abc import Mapping
from pathlib import Path
from random import Random
from typing import Any

import pytest
import tomlkit
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from build import HEAD, NOW, SIGN, find, machine, moved, outcomes
from widetrail.finding.stores import StoreKind, file_with
from widetrail.formats.form import NamedValues
from widetrail.formats.forms import FORMS, forms_for
from widetrail.formats.interface import NotThere, Unreadable, Unwritable
from widetrail.recipe.loader import examine
from widetrail.steps import KINDS
from widetrail.walking import Run

CASES = Path(__file__).parent / "cases"

FILES: Mapping[str, tuple[str, str, str]] = {
    "json": (
        '{"look": {"size": 12, "dirs": ["/home/ada/Notes/a", "x"]}, "window": 1, "none": null}',
        '{\n  "look": {\n    "size": 9,\n    "own": {"a": [1, 2]}\n  },\n  "window": 7\n}\n',
        '{\n  "look": {\n    "size": 12,\n    "own": {"a": [1, 2]},\n'
        '    "dirs": ["/home/bo/Notes/a", "x"]\n  },\n  "window": 7,\n  "none": null\n}\n',
    ),
    "yaml": (
        "look:\n  size: 12\n  dirs:\n    - /home/ada/Notes/a\n    - x\nwindow: 1\nnone: 'no'\n",
        "# mine\nlook:  # how\n  size: 9  # points\n  own: {a: [1, 2]}\n\nwindow: 7\n",
        "# mine\nlook:  # how\n  size: 12  # points\n  own: {a: [1, 2]}\n"
        "  dirs: [/home/bo/Notes/a, x]\n\nwindow: 7\nnone: 'no'\n",
    ),
    "toml": (
        "window = 1\nnone = 1979-05-27\n[look]\nsize = 12\ndirs = ['/home/ada/Notes/a', 'x']\n",
        "# mine\nwindow = 7\n\n[look] # how\nsize = 9 # points\nown.a = [1, 2]\n",
        "# mine\nwindow = 7\nnone = 1979-05-27\n\n[look] # how\nsize = 12 # points\n"
        'own.a = [1, 2]\ndirs = ["/home/bo/Notes/a", "x"]\n',
    ),
    "ini": (
        "window=1\nnone=\n[look]\nSize=12\ndirs=/home/ada/Notes/a\n",
        'window = 7\n; mine\n[look]\n; points\nsize = 9\nown = "a, b"\n[more]\n',
        'window = 7\nnone = \n; mine\n[look]\n; points\nsize = 12\nown = "a, b"\n'
        "dirs = /home/bo/Notes/a\n[more]\n",
    ),
    "qt_ini": (
        '[General]\nwindow=1\nnone=@Invalid()\n[look]\nsize=12\ndirs=/home/ada/Notes/a, "x,y"\n',
        "[General]\nwindow=7\n\n[look]\nsize=9\nown\\deep=\\xf6\n",
        "[General]\nwindow=7\nnone=@Invalid()\n\n[look]\nsize=12\nown\\deep=\\xf6\n"
        'dirs=/home/bo/Notes/a, "x,y"\n',
    ),
    "xml": (
        '<c><window/><look size="12"><dirs><p>/home/ada/Notes/a</p><p>x</p></dirs></look>'
        '<o name="n" v="1"/></c>',
        '<?xml version="1.0" encoding="utf-8"?>\n<!DOCTYPE c>\n<c>\n  <!-- mine -->\n'
        '  <window>7</window>\n  <look size="9" own="a"/>\n</c>\n',
        '<?xml version="1.0" encoding="utf-8"?>\n<!DOCTYPE c>\n<c>\n  <!-- mine -->\n'
        '  <window>7</window>\n  <look size="12" own="a"><dirs>'
        '<p>/home/bo/Notes/a</p><p>x</p></dirs></look>\n  <o name="n" v="1"/>\n</c>\n',
    ),
}
"""Of each form: what old has, what new has, and what comes of that."""

PATHS = {
    "json": "/look/dirs/*",
    "yaml": "/look/dirs/*",
    "toml": "/look/dirs/*",
    "ini": "look/dirs",
    "qt_ini": "look/dirs",
    "xml": "/c/look/dirs/p",
}

BODY = """
places:
  settings: {{file: "{{config}}/fern.{form}"}}
  notes: {{folder: "{{home}}/Notes"}}
items:
  values:
    title: Values
    kind: settings
    from: settings
    values: {form}
    leave: [window, c/window]
    paths: {{{form}: "{{settings}}", at: {paths}}}
    routes: [{{name: merged{existing}, legs: [{{new: [copy]}}]}}]
  notes: {{title: Notes, from: notes, routes: [{{name: copy, legs: [{{new: [copy]}}]}}]}}
"""


def of(form: str) -> NamedValues:
    named = FORMS[form].named
    assert named is not None
    return named


def body(form: str, existing: str = "") -> str:
    return BODY.format(form=form, paths=PATHS[form], existing=existing)


def test_each_form_of_values_is_tried() -> None:
    assert set(FILES) | {"plist"} == set(forms_for("values"))
    assert all(FORMS[form].can("values") for form in forms_for("values"))


@pytest.mark.parametrize("form", FILES)
def test_values_are_merged_and_given_back(tmp_path: Path, form: str) -> None:
    mine, theirs, becomes = (text.encode() for text in FILES[form])
    files: dict[str, str | bytes] = {
        f"/home/ada/.config/fern.{form}": mine,
        "/home/ada/Notes/a": "a",
    }
    old = machine(tmp_path / "old", "linux", files, more="identity: old\n", name="shed")
    place = f"/home/bo/.config/fern.{form}"
    new = machine(
        tmp_path / "new", "linux", {place: theirs}, more="identity: new\n", user="bo", name="office"
    )
    one = moved(tmp_path, body(form), old, new)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert one.new.read(place).decode() == becomes.decode()
    Run(one.new).undo(NOW)
    assert one.new.read(place) == theirs


@pytest.mark.parametrize("form", FILES)
def test_a_file_that_new_lacks_is_made_of_what_is_taken(tmp_path: Path, form: str) -> None:
    mine = FILES[form][0].encode()
    files: dict[str, str | bytes] = {
        f"/home/ada/.config/fern.{form}": mine,
        "/home/ada/Notes/a": "a",
    }
    old = machine(tmp_path / "old", "linux", files, more="identity: old\n", name="shed")
    new = machine(tmp_path / "new", "linux", {}, more="identity: new\n", user="bo", name="office")
    one = moved(tmp_path, body(form, ", existing: refuse"), old, new)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    there = of(form).read(one.new.read(f"/home/bo/.config/fern.{form}"))
    wanted = {n: t.replace("/home/ada", "/home/bo") for n, t in of(form).read(mine).items()}
    assert there == {n: t for n, t in wanted.items() if "window" not in n}


LEAVES = st.one_of(
    st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=6),
    st.integers(-9, 9),
    st.booleans(),
    st.lists(st.integers(0, 9) | st.sampled_from(["a", "no", "#", "1.0"]), max_size=3),
)
KEYS = st.sampled_from(["a", "b", "c d", "e/f", "g~", "no", "1", "ü", "k: v", "#h"])
TREES = st.dictionaries(KEYS, LEAVES | st.dictionaries(KEYS, LEAVES, max_size=3), max_size=4)


@settings(max_examples=60)
@given(st.sampled_from(["json", "yaml", "toml", "plist"]), TREES, TREES, st.randoms())
def test_what_is_set_and_taken_away_changes_nothing_else(
    form: StoreKind, mine: dict[str, Any], theirs: dict[str, Any], chance: Random
) -> None:
    named = of(form)
    texts = [_document(form, tree) for tree in (mine, theirs)]
    here, there = (named.read(text) for text in texts)
    changes = {n: t if chance.random() < 0.7 else None for n, t in here.items()}
    try:
        written = file_with(form, texts[1], changes)
    except Unwritable:
        clash = [n for n in here for t in there if n.startswith(f"{t}/") or t.startswith(f"{n}/")]
        assert clash, (texts, changes)
        return
    set_now = {n: t for n, t in changes.items() if t is not None}
    assert named.read(written) == {n: t for n, t in there.items() if n not in changes} | set_now


def _document(form: str, tree: dict[str, Any]) -> bytes:
    match form:
        case "plist":
            return plistlib.dumps(tree)
        case "toml":
            return tomlkit.dumps(tree).encode()
        case "yaml":
            return yaml.safe_dump(tree, allow_unicode=True).encode()
    return json.dumps(tree, indent=2).encode()


REFUSED: list[tuple[StoreKind, bytes, dict[str, str | None], str]] = [
    ("json", b"[1]", {"/a": "1"}, "holds no settings by name"),
    ("json", b'{"a": 1}', {"/a/b": "1"}, "has one value on the way to /a/b"),
    ("json", b'{"a": {"b": 1}}', {"/a": "1"}, "cannot hold these values beside its own: '/a/b'"),
    ("yaml", b"- a\n", {"/a": "1"}, "holds no settings by name"),
    ("yaml", b"a: &x {b: 1}\nc: *x\n", {"/c/b": "2"}, "cannot hold these values beside its own"),
    ("yaml", b"? [a]\n: b\n", {"/a": "1"}, "has a key that is no text"),
    ("toml", b"a = 1", {"/a/b": "1"}, "has one value on the way to /a/b"),
    ("ini", b"", {"a": "1\n2"}, "is an ini file, where a value is one line"),
    ("xml", b"<a/>", {"/b/@c": "text 1"}, "is another document, whose element is a"),
    ("xml", b'<a xmlns="u:x" b="1"/>', {"/a/@b": "text 1"}, "has namespaces"),
    ("xml", b"<a>", {"/a/@b": "text 1"}, "is not XML"),
    ("xml", b"<a><b/>t</a>", {"/a/b/@c": "text 1"}, "cannot hold these values beside its own"),
    ("xml", b"<a/>", {"/a/@c": "text \0"}, "is XML, which cannot hold it"),
]


@pytest.mark.parametrize(("form", "data", "changes", "reason"), REFUSED)
def test_what_a_file_cannot_hold_changes_nothing(
    form: StoreKind, data: bytes, changes: dict[str, str | None], reason: str
) -> None:
    with pytest.raises((Unreadable, Unwritable)) as refused:
        file_with(form, data, changes)
    assert reason in str(refused.value)


def test_values_are_taken_of_a_file_only(tmp_path: Path) -> None:
    text = (
        HEAD + SIGN + body("json").replace('file: "{config}/fern.json"', 'folder: "{config}/fern"')
    )
    findings = examine(text, "fern.trail.yaml", KINDS)[1]
    assert "its place is no file" in {f.message for f in findings}


# XML


SUBSET = """<?xml version="1.0"?>
<!DOCTYPE c [
  <!-- a ] and a "quote -->
  <!ELEMENT c (d*)> <!ATTLIST c e CDATA "]>"> <?x ]> ?>
]>
<c xmlns="urn:a" xmlns:z="urn:z"><z:d z:f="/home/alva/x">one</z:d><g>/home/alva/y</g></c>
"""


def test_a_document_type_without_entities_stays_and_namespaces_have_their_prefix() -> None:
    form, data = FORMS["xml"], SUBSET.encode()
    assert form.read is not None and form.put is not None and form.spots is not None
    assert [one.value for one in form.read(data, "//z:d/@z:f")] == ["/home/alva/x"]
    assert [one.value for one in form.read(data, "/default:c/default:g")] == ["/home/alva/y"]
    spots = form.spots(data, "//z:d/@z:f | //default:g")
    changes = {spot.where: spot.text.replace("alva", "brook") for spot in spots}
    written = form.put(data, "//z:d/@z:f | //default:g", changes).decode()
    assert written.startswith(SUBSET.partition("<c ")[0])
    assert 'z:f="/home/brook/x"' in written and "<g>/home/brook/y</g>" in written


@pytest.mark.parametrize(
    "subset",
    [
        '[<!ENTITY a "b">]',
        '[<!ENTITY % a "b">]',
        '[<!ENTITY a SYSTEM "file:///etc/passwd">]',
        '[<!-- > --><!ELEMENT c ANY>\n<!ENTITY a "b">]',
    ],
)
def test_a_document_type_with_entities_is_not_read(subset: str) -> None:
    form, data = FORMS["xml"], f"<!DOCTYPE c {subset}><c>&a;</c>".encode()
    assert form.read is not None
    with pytest.raises(Unreadable) as refused:
        form.read(data.replace(b"&a;", b"x"), "/c")
    assert "declares entities" in str(refused.value)


def test_a_document_type_elsewhere_is_not_fetched(tmp_path: Path) -> None:
    (tmp_path / "c.dtd").write_text('<!ENTITY a "fetched">')
    data = f'<!DOCTYPE c SYSTEM "file://{tmp_path}/c.dtd"><c>x&a;</c>'.encode()
    form = FORMS["xml"]
    assert form.read is not None
    try:
        assert "fetched" not in str(form.read(data, "/c"))
    except Unreadable as error:
        assert "is not XML" in str(error)


# Qt


@pytest.mark.parametrize("release", ["5", "6"])
def test_what_qt_wrote_is_read(release: str) -> None:
    form, data = FORMS["qt_ini"], (CASES / f"qt-{release}.ini").read_bytes()
    assert form.value is not None and form.entries is not None
    expected = {
        "lastDir": "/home/alva/Döcs, old",
        "recent/files": ["/home/alva/a b.txt", "/home/alva/c,d.txt", "/home/alva/漢字.txt"],
        "Deep Group/sub group/key one": 'quote " and ; semi = x',
        "at": "@home",
        "hexy": "öa",
        "lead": " x ",
        "nl": "a\nb\tc",
        "map": {"d": 1.5, "folder": "/home/alva/map", "n": 3},
        "url": "file:///home/alva/u.txt",
        "bytes": b"/home/alva/bytes\0\xff\n".hex(),
        "none": None,
        "geo": "@Rect(1 2 3 4)",
        "win": "C:\\Users\\alva\\x",
    }
    for at, value in expected.items():
        assert form.value(data, at) == value, at
    with pytest.raises(NotThere):
        form.value(data, "lastDi")


@pytest.mark.parametrize("release", ["5", "6"])
def test_paths_are_rewritten_in_what_qt_wrote_and_all_else_stays(release: str) -> None:
    form, data = FORMS["qt_ini"], (CASES / f"qt-{release}.ini").read_bytes()
    assert form.spots is not None and form.put is not None and form.value is not None
    found = {spot.where: spot.text for spot in form.spots(data, "*") if "alva" in spot.text}
    assert {"lastDir", "map", "url", "win", "recent/files/2"} <= set(found)
    changes = {where: text.replace("alva", "imarsh,ö") for where, text in found.items()}
    changes["url"] = "file:///home/imarsh%2C%C3%B6/u.txt"
    written = form.put(data, "*", changes)
    now = {spot.where: spot.text for spot in form.spots(written, "*")}
    assert {where: now[where] for where in changes} == changes
    was = {spot.where: spot.text for spot in form.spots(data, "*")}
    assert {w: t for w, t in now.items() if w not in changes} == {
        w: t for w, t in was.items() if w not in changes
    }
    assert form.value(written, "bytes") == form.value(data, "bytes")


ANY = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=9)


@given(st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=8), ANY)
def test_any_text_under_any_name_is_written_as_qt_reads_it(name: str, text: str) -> None:
    form = FORMS["qt_ini"]
    assert form.add is not None and form.value is not None
    name = name.strip("/").replace("//", "/") or "x"
    if "//" in name or name.casefold().startswith("general/"):
        return
    assert form.value(form.add(b"[General]\nown=1\n", name, text), name) == text


def test_a_list_of_one_is_written_as_the_one_alone(tmp_path: Path) -> None:
    for raw, count in (("@Invalid()", 0), ("", 0), ("/a", 1), ("/a, /b", 2)):
        files = {"/home/ada/s.ini": f"[recent]\nfiles={raw}\n"}
        here = machine(tmp_path / str(count) / raw.replace("/", ""), "linux", files)
        places = 'places: {s: {file: "{home}/s.ini"}, notes: {folder: "{home}/notes"}}\nreadings:\n'
        body = f"{places}  n: {{qt_ini: '{{s}}', at: recent/files, as: count}}\n"
        assert str(find(here, body).reading("n")) == str(count)


def test_the_entries_of_an_array_are_an_index() -> None:
    data = b"[recent]\n1\\path=/a\n1\\name=A\n2\\path=/b\n10\\path=/c\nsize=3\n"
    form = FORMS["qt_ini"]
    assert form.entries is not None and form.spots is not None and form.entry_at is not None
    assert form.entries(data, "recent") == [
        {"path": "/a", "name": "A"},
        {"path": "/b"},
        {"path": "/c"},
    ]
    found = form.spots(data, form.entry_at("recent", "path"))
    assert [spot.text for spot in found] == ["/a", "/b", "/c"]


@pytest.mark.parametrize(
    ("raw", "reason"),
    [
        (r"@Variant(\0\0\0\x7f\0)", "that only its program reads"),
        (r"@Variant(\0\0\0\n\0\0\0\x10\0a)", "that is cut off"),
        (r"@Variant(\0\0\0\t\xff\xff\xff\xf0)", "that is cut off"),
        (r"@Variant(\0\0\0\x2\0\0\0\x3\0)", "that is longer than it says"),
        (r"@Variant(\x6f22)", "has bytes there that are none"),
    ],
)
def test_a_variant_that_is_none_is_unreadable(raw: str, reason: str) -> None:
    form = FORMS["qt_ini"]
    assert form.read is not None and form.spots is not None
    data = f"[General]\nv={raw}\n".encode()
    with pytest.raises(Unreadable) as refused:
        form.read(data, "v")
    assert reason in str(refused.value)
    assert form.spots(data, "*") == []
