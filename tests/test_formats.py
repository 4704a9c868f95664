"""Readings of every form, in real encodings, and of files that mean harm."""

import json
import plistlib
import shutil
import sqlite3
import struct
import subprocess
import sys
import time
from pathlib import Path
from typing import get_args

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import build
from widetrail.finding import Known, Unknown
from widetrail.finding.readings import take_reading
from widetrail.formats.dconf import parse_gvariant, read_dconf
from widetrail.formats.form import Role
from widetrail.formats.forms import FORMS, forms_for
from widetrail.formats.hive import hive_key
from widetrail.formats.interface import NotThere, Unreadable
from widetrail.formats.parser_process import ask
from widetrail.formats.registry import RegistryText, RegistryValue, full_key, registry_key
from widetrail.formats.texts import decode, for_people
from widetrail.recipe import Reading

FILE = "/home/ada/f"


def read(tmp_path: Path, data: str | bytes, **reading: str) -> Known | Unknown:
    form = next(iter(reading))
    here = build.machine(tmp_path, files={FILE: data})
    rule = Reading.model_validate({**reading, form: "{home}/f"} | {"at": reading[form]})
    return take_reading(here, rule, FILE)


INI = '[Archive]\r\n; moved\r\nFolder = "Übersicht"\r\nEmpty=\r\n'


@pytest.mark.parametrize("codec", ["utf-8", "utf-8-sig", "utf-16", "latin-1", "cp1252"])
def test_ini_in_every_encoding_people_have(tmp_path: Path, codec: str) -> None:
    found = read(tmp_path, INI.encode(codec), ini="archive/folder")
    assert found == Known("Übersicht", FILE, 3)


def test_an_empty_value_is_not_an_absent_one(tmp_path: Path) -> None:
    assert read(tmp_path, INI, ini="archive/empty") == Known("", FILE, 4)
    missing = read(tmp_path, INI, ini="archive/nothing")
    assert isinstance(missing, Unknown)
    assert missing.absent
    assert "has no key" in missing.reason


@pytest.mark.parametrize(
    ("form", "data", "at", "line"),
    [
        ("json", '{"a": {"b/c":\n [1, "x"]}}', "/a/b~1c/1", 2),
        ("yaml", "a:\n  b/c: [1, x]\n", "/a/b~1c/1", 2),
        ("toml", '# top\n[a]\nb = "x"\n', "/a/b", 3),
        ("plist", plistlib.dumps({"a": {"b": "x"}}), "a/b", 0),
        ("plist", plistlib.dumps({"a": {"b": "x"}}, fmt=plistlib.FMT_BINARY), "a/b", 0),
        ("xml", '<a>\n<b c="x"/></a>', "/a/b/@c", 2),
        ("xml", "<a>\n<b>x</b></a>", "//b", 2),
        ("text", "one\nname=x\n", "name=(.*)", 2),
    ],
)
def test_forms_with_their_lines(
    tmp_path: Path, form: str, data: str | bytes, at: str, line: int
) -> None:
    assert read(tmp_path, data, **{form: at}) == Known("x", FILE, line)


@pytest.mark.parametrize(
    ("data", "as_", "value"),
    [
        ('{"v": "12"}', "number", 12),
        ('{"v": 1.5}', "number", 1.5),
        ('{"v": [3, 1, 3]}', "set", ("1", "3")),
        ('{"v": [3, 1, 3]}', "list", ("3", "1", "3")),
        ('{"v": {"a": 1, "b": 2}}', "count", 2),
        ('{"v": true}', "yes-no", True),
        ('{"v": "off"}', "yes-no", False),
        ('{"v": 1.10}', "text", "1.1"),
    ],
)
def test_a_value_is_taken_as_the_recipe_says(
    tmp_path: Path, data: str, as_: str, value: object
) -> None:
    found = read(tmp_path, data, json="/v", **{"as": as_})
    assert isinstance(found, Known)
    assert found.value == value


@pytest.mark.parametrize(
    ("data", "as_"),
    [("null", "number"), ('"many"', "number"), ('"maybe"', "yes-no"), ("[]", "text")],
)
def test_what_cannot_be_taken_is_unknown_and_never_zero(
    tmp_path: Path, data: str, as_: str
) -> None:
    found = read(tmp_path, f'{{"v": {data}}}', json="/v", **{"as": as_})
    assert isinstance(found, Unknown)
    assert not found.absent


def test_several_matches_need_a_pick_or_a_list(tmp_path: Path) -> None:
    text = "n=1\nn=2\nn=3\n"
    at = "n=(.)"
    found = read(tmp_path / "a", text, text=at)
    assert isinstance(found, Unknown)
    assert "3 matches" in found.reason
    assert read(tmp_path / "b", text, text=at, pick="last") == Known("3", FILE, 3)
    assert read(tmp_path / "c", text, text=at, **{"as": "count"}) == Known(3, FILE, 1)
    assert read(tmp_path / "d", "none", text=at, **{"as": "count"}) == Known(0, FILE, 0)


def test_a_database_in_wal_mode_is_read_while_another_process_writes(tmp_path: Path) -> None:
    here = build.machine(tmp_path)
    path = here.host(FILE)
    script = (
        "import sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None);"
        "c.execute('pragma journal_mode=wal'); c.execute('create table t (x)');"
        "c.execute('insert into t values (41)'); c.execute('begin immediate');"
        "c.execute('insert into t values (42)'); print('open', flush=True); sys.stdin.read()"
    )
    command = [sys.executable, "-c", script, str(path)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None
        assert writer.stdout.readline() == b"open\n"
        before = sorted(p.name for p in path.parent.iterdir())
        rule = Reading.model_validate({"sqlite": "{home}/f", "at": "select x from t"})
        assert take_reading(here, rule, FILE) == Known(41, FILE, 0)
        assert sorted(p.name for p in path.parent.iterdir()) == before
        assert "f-wal" in before


@pytest.mark.parametrize(
    "query",
    [
        "delete from t",
        "attach 'x' as y",
        "pragma journal_mode = wal",
        "select load_extension('x')",
        "select writefile('x', 'y')",
    ],
)
def test_a_query_that_does_more_than_read_is_refused(tmp_path: Path, query: str) -> None:
    here = build.machine(tmp_path)
    with sqlite3.connect(here.host(FILE)) as connection:
        connection.execute("create table t (x)")
    connection.close()
    rule = Reading.model_validate({"sqlite": "{home}/f", "at": query})
    assert isinstance(take_reading(here, rule, FILE), Unknown)


ENTITIES = (f'<!ENTITY e{n} "{f"&e{n - 1};" * 10 if n else "x" * 10}">' for n in range(10))
BOMB = f"<!DOCTYPE a [{''.join(ENTITIES)}]><a>&e9;</a>"
DEEP_PLIST = b'<plist version="1.0">' + b"<array>" * 100_000


def bplist_with_a_huge_count() -> bytes:
    body = b"bplist00" + b"\xaf\x13" + struct.pack(">Q", 2**60)
    return body + b"\x08" + b"\0" * 6 + bytes([1, 1]) + struct.pack(">QQQ", 1, 0, len(body))


HOSTILE = {
    "xml entities": ("xml", BOMB, "//a"),
    "xml file": ("xml", '<!DOCTYPE a [<!ENTITY f SYSTEM "file:///etc/passwd">]><a>&f;</a>', "//a"),
    "xml cut": ("xml", "<a><b>", "//a"),
    "xml path": ("xml", "<a/>", "//a[["),
    "plist entities": ("plist", BOMB, "a"),
    "plist deep": ("plist", DEEP_PLIST, "a"),
    "plist cut": ("plist", plistlib.dumps({"a": 1}, fmt=plistlib.FMT_BINARY)[:-9], "a"),
    "plist count": ("plist", bplist_with_a_huge_count(), "a"),
    "json deep": ("json", "[" * 200_000, "/0"),
    "json cut": ("json", '{"a": ', "/a"),
    "yaml bomb": (
        "yaml",
        "a: &a [x, x]\n"
        + "".join(f"b{n}: &b{n} [{'*a, ' * 9}*a]\n" for n in range(3))
        + "q: {<<: 1",
        "/a",
    ),
    "yaml deep": ("yaml", "[" * 20_000, "/0"),
    "toml": ("toml", "a = [" * 50_000, "/a"),
    "expression": ("text", "a" * 64 + "!", "(a+)+$"),
    "sqlite": ("sqlite", b"SQLite format 3\0" + b"\xff" * 900, "select 1 from sqlite_master"),
    "sqlite endless": (
        "sqlite",
        b"",
        "with recursive n(x) as (select 1 union all select x + 1 from n) select max(x) from n",
    ),
    "sqlite large": ("sqlite", b"", "select hex(zeroblob(900000000))"),
}


@pytest.mark.parametrize(("form", "data", "at"), HOSTILE.values(), ids=HOSTILE)
def test_hostile_files_are_unknown_within_bounds(
    tmp_path: Path, form: str, data: str | bytes, at: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.formats.parser_process.SECONDS", 3.0)
    begun = time.monotonic()
    found = read(tmp_path, data, **{form: at})
    assert isinstance(found, Unknown), found
    assert found.reason.startswith(FILE)
    assert not found.absent
    assert time.monotonic() - begun < 30
    assert read(tmp_path / "next", "[a]\nb=1\n", ini="a/b") == Known("1", FILE, 2)


@given(st.binary(max_size=300), st.sampled_from(["json", "yaml", "toml", "plist"]))
def test_any_bytes_are_a_document_or_unreadable(data: bytes, form: str) -> None:
    try:
        parse = FORMS[form].value
        assert parse is not None
        parse(data, "")
    except Unreadable:
        return


REG5 = (
    "Windows Registry Editor Version 5.00\r\n\r\n"
    "[HKEY_CURRENT_USER\\Software\\Fernbook]\r\n"
    '@="itself"\r\n"Text"="C:\\\\Fern \\"book\\""\r\n"Übung"="ä"\r\n"Number"=dword:0000002a\r\n'
    '"Long"=hex(b):2a,00,00,00,00,00,00,00\r\n"Raw"=hex:de,ad,be,ef\r\n"Big"=hex(5):00,00,00,2a\r\n'
    '"Path"=hex(2):25,00,48,00,25,00,00,00\r\n"List"=hex(7):61,00,00,00,62,00,\\\r\n'
    '  00,00,00,00\r\n"None"=hex(0):\r\n"Odd"=hex(1234):01\r\n\r\n'
    "[-HKEY_CURRENT_USER\\Software\\Gone]\r\n"
    "[HKEY_LOCAL_MACHINE\\Software\\Wow6432Node\\Fernbook]\r\n"
    '"Seen"="by 32 bits"\r\n; the end\r\n'
)
VALUES = {
    "": ("REG_SZ", "itself"),
    "text": ("REG_SZ", 'C:\\Fern "book"'),
    "übung": ("REG_SZ", "ä"),
    "number": ("REG_DWORD", 42),
    "long": ("REG_QWORD", 42),
    "raw": ("REG_BINARY", "deadbeef"),
    "big": ("REG_DWORD_BIG_ENDIAN", 42),
    "path": ("REG_EXPAND_SZ", "%H%"),
    "list": ("REG_MULTI_SZ", ["a", "b"]),
    "none": ("REG_NONE", ""),
    "odd": ("REG_TYPE_1234", "01"),
}


def test_registry_text_of_version_5_has_every_type() -> None:
    key = RegistryText(REG5.encode("utf-16")).find("HKEY_CURRENT_USER\\SOFTWARE\\fernbook")
    assert key is not None
    assert {name: (v.type, v.plain) for name, v in key.values.items()} == VALUES
    assert key.values["text"].line == 5


def test_registry_text_of_version_4_is_narrow() -> None:
    text = 'REGEDIT4\n\n[HKEY_CURRENT_USER\\A]\n"P"=hex(2):25,48,25,00\n"Ü"="ö"\n'
    key = registry_key(text.encode("cp1252"), "HKEY_CURRENT_USER\\A")
    assert (key.values["p"].plain, key.values["ü"].plain) == ("%H%", "ö")


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[HKEY_CURRENT_USER\\A]\n",
        'REGEDIT4\n"a"="b"\n',
        'REGEDIT4\n[HKEY_CURRENT_USER\\A]\n"a"=hex(zz):01\n',
        'REGEDIT4\n[HKEY_CURRENT_USER\\A]\n"a"="unended\n',
        "REGEDIT4\n[HKEY_CURRENT_USER\\A\n",
    ],
)
def test_broken_registry_text_is_unreadable_with_its_line(text: str) -> None:
    with pytest.raises(Unreadable, match=r"is not a registry text|before any key"):
        RegistryText(text.encode())


def test_the_32_bit_view_sees_its_own_node() -> None:
    assert full_key(r"HKLM\Software\A", "32") == r"HKEY_LOCAL_MACHINE\Software\Wow6432Node\A"
    assert full_key(r"HKCU\Software\A", "32") == r"HKEY_CURRENT_USER\Software\A"
    assert full_key(r"HKLM\System\A", "32") == r"HKEY_LOCAL_MACHINE\System\A"
    data = REG5.encode("utf-16")
    seen = registry_key(data, full_key(r"HKLM\Software\Fernbook", "32"))
    assert seen.values["seen"].plain == "by 32 bits"
    with pytest.raises(NotThere):
        registry_key(data, full_key(r"HKLM\Software\Fernbook", "64"))


HIVEX = """
cd \\
add Software
cd Software
add Fernbook
cd Fernbook
setval 6
@
string:itself
Text
string:C:\\Fern
Number
dword:42
Path
expandstring:%H%
Raw
hex:3:de,ad,be,ef
Long
hex:11:2a,00,00,00,00,00,00,00
add Ordner
cd Ordner
add tief
commit
"""


def minimal_hive() -> bytes:
    """An empty hive (regf 1.3): a header, one bin, a root key and nothing in it."""
    root = bytearray(0x50 + 4)
    struct.pack_into("<i", root, 0, -len(root) - 4)
    nk = struct.pack(
        "<2sHQIIIIIIIIIIIIIIHH",
        b"nk",
        0x2C,
        0,
        0,
        0xFFFFFFFF,
        0,
        0,
        0xFFFFFFFF,
        0xFFFFFFFF,
        0,
        0xFFFFFFFF,
        0x78,
        0xFFFFFFFF,
        0,
        0,
        0,
        0,
        4,
        0,
    )
    root[4 : 4 + len(nk)] = nk
    root[0x50:0x54] = b"root"
    cell = bytes(root) + b"\0" * 4
    sk = struct.pack("<i2sHIIII", -0x38, b"sk", 0, 0x78, 0x78, 1, 0x14)
    sk += bytes.fromhex("0100008014000000000000000000000000000000")
    sk = sk.ljust(0x38, b"\0")
    used = 0x20 + len(cell) + len(sk)
    free = struct.pack("<i", 0x1000 - used)
    body = struct.pack("<4sIIQQI", b"hbin", 0, 0x1000, 0, 0, 0) + cell + sk + free
    body = body.ljust(0x1000, b"\0")
    head = struct.pack("<4sIIQIIIIIII", b"regf", 1, 1, 0, 1, 3, 0, 1, 0x20, 0x1000, 1)
    head = head.ljust(508, b"\0")
    check = 0
    for (word,) in struct.iter_unpack("<I", head):
        check ^= word
    return (head + struct.pack("<I", check)).ljust(0x1000, b"\0") + body


def hive(tmp_path: Path) -> bytes:
    if shutil.which("hivexsh") is None:
        pytest.skip("hivexsh (Debian: libhivex-bin) is not installed")
    path = tmp_path / "hive"
    path.write_bytes(minimal_hive())
    done = subprocess.run(
        ["hivexsh", "-w", str(path)], input=HIVEX.encode(), capture_output=True, check=False
    )
    assert done.returncode == 0, done.stderr
    return path.read_bytes()


def test_a_hive_file_is_read_with_its_types(tmp_path: Path) -> None:
    data = hive(tmp_path)
    key = ask(hive_key, data, r"software\FERNBOOK")
    found = {name: (v.type, v.plain) for name, v in key.values.items()}
    for name in ("", "text", "number", "path", "raw", "long"):
        assert found[name] == VALUES[name] if name != "text" else found[name][1] == "C:\\Fern"
    with pytest.raises(NotThere):
        ask(hive_key, data, r"Software\Nothing")


def test_a_hive_of_a_disk_taken_out_is_a_registry(tmp_path: Path) -> None:
    data = hive(tmp_path)
    here = build.machine(tmp_path / "m", "windows", {"C:/Users/ada/ntuser.dat": data})
    key = here.registry.key(r"HKCU\Software\Fernbook")
    assert key is not None
    assert key.values["number"].plain == 42
    assert here.registry.key(r"HKCU\Software\Nothing") is None


def test_a_damaged_hive_is_unreadable(tmp_path: Path) -> None:
    data = hive(tmp_path)
    for broken in (b"", b"regf", data[:4200], data.replace(b"vk", b"xx"), b"\xff" * 9000):
        with pytest.raises(Unreadable):
            ask(hive_key, broken, r"Software\Fernbook")


@settings(max_examples=60)
@given(st.integers(0x1000, 0x1FFF), st.integers(0, 255))
def test_any_byte_changed_in_a_hive_ends_in_an_answer(at: int, value: int) -> None:
    if not _HIVE:
        pytest.skip("hivexsh (Debian: libhivex-bin) is not installed")
    changed = bytearray(_HIVE[0])
    changed[at] = value
    try:
        key = ask(hive_key, bytes(changed), r"Software\Fernbook")
    except Unreadable:
        return
    assert all(isinstance(v, RegistryValue) for v in key.values.values())


_HIVE: list[bytes] = []


@pytest.fixture(scope="module", autouse=True)
def _a_hive(tmp_path_factory: pytest.TempPathFactory) -> None:
    if shutil.which("hivexsh") is not None:
        _HIVE.append(hive(tmp_path_factory.mktemp("hive")))


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("'it\\'s'", "it's"),
        ("uint32 5", 5),
        ("-3.5e2", -350.0),
        ("true", True),
        ("@as []", []),
        ("['a', 'b']", ["a", "b"]),
        ("[('xkb', 'gb'), ('xkb', 'de')]", [["xkb", "gb"], ["xkb", "de"]]),
        ("{'k': <1>, 'l': <'x'>}", {"k": 1, "l": "x"}),
        ("@ms nothing", None),
    ],
)
def test_settings_of_the_desktop(text: str, value: object) -> None:
    assert parse_gvariant(text) == value


@pytest.mark.parametrize("text", ["", "[", "[1", "{'a'", "what", "'a' 'b'", "(" * 500])
def test_broken_settings_of_the_desktop(text: str) -> None:
    with pytest.raises(Unreadable):
        parse_gvariant(text)


def test_the_real_dconf_writes_what_is_read(tmp_path: Path) -> None:
    for tool in ("dconf", "dbus-run-session"):
        if shutil.which(tool) is None:
            pytest.skip(f"{tool} is not installed")
    script = "dconf write /org/fern/book \"{'a': <[1, 2]>}\" && dconf dump /"
    environment = {"HOME": str(tmp_path), "PATH": "/usr/bin:/bin", "XDG_RUNTIME_DIR": str(tmp_path)}
    done = subprocess.run(
        ["dbus-run-session", "sh", "-c", script], env=environment, capture_output=True, check=False
    )
    if done.returncode != 0:
        pytest.skip(f"dconf does not work here: {done.stderr.decode()[:200]}")
    assert ask(read_dconf, done.stdout, "/org/fern", "book").value == {"a": [1, 2]}


@given(st.text())
def test_what_is_shown_to_people_holds_no_control_or_direction_characters(text: str) -> None:
    shown = for_people(text + "\x1b[31m\u202e\r\n\udce9")
    assert shown.isprintable() or all(c == " " or c.isprintable() or ord(c) > 126 for c in shown)
    assert not set(shown) & set("\x1b\r\n\u202e\u2028")


@given(st.binary(max_size=200))
def test_any_bytes_are_some_text(data: bytes) -> None:
    try:
        assert isinstance(decode(data)[0], str)
    except Unreadable:
        assert data[:2] in (b"\xff\xfe", b"\xfe\xff") or data[:3] == b"\xef\xbb\xbf"


def test_what_a_form_is_said_to_be_used_for_is_what_it_can() -> None:
    roles = get_args(Role)
    for name, form in FORMS.own.items():
        assert form.name == name
        assert [r for r in roles if name in forms_for(r)] == [r for r in roles if form.can(r)]


ROOTS = {
    "roots": {
        "bar": {"children": [{"name": "a", "children": [{"name": "b"}]}, {"name": "c"}]},
        "other": {"children": [{"name": "d"}], "*": {"name": "star"}},
    },
    "empty": [],
}
WILD = [
    ("/roots/*/children/*/name", ["a", "c", "d"]),
    ("/roots/**/name", ["a", "b", "c", "d", "star"]),
    ("/roots/**/**/name", ["a", "b", "c", "d", "star"]),
    ("/roots/*/*/name", ["star"]),
    ("/roots/bar/children/*/children/*/name", ["b"]),
    ("/empty/*", []),
    ("/roots/*/nothing", []),
]


def values_at(form: str, data: bytes, at: str) -> list[object]:
    """Return what a form reads at a place."""
    read = FORMS[form].read
    assert read is not None
    return [found.value for found in read(data, at)]


@pytest.mark.parametrize(("at", "names"), WILD)
@pytest.mark.parametrize("form", ["json", "yaml"])
def test_all_values_below_are_read(form: str, at: str, names: list[str]) -> None:
    """``*`` stands for a member, ``**`` for any number of them; each value comes once."""
    data = json.dumps(ROOTS).encode()
    assert values_at(form, data, at) == [names]


def test_what_leads_to_the_members_must_be_there() -> None:
    """Nothing below is an empty list; a way that is not there is unknown, never empty."""
    with pytest.raises(NotThere):
        values_at("json", json.dumps(ROOTS).encode(), "/shelves/*/name")


def test_members_of_other_trees_are_read() -> None:
    listed = plistlib.dumps({"Look": {"a": {"c": 1}, "b": {"c": 2}}})
    assert values_at("plist", listed, "Look/*/c") == [[1, 2]]
    assert values_at("toml", b"[a]\nx = 1\n[b]\nx = 2\n", "/*/x") == [[1, 2]]
