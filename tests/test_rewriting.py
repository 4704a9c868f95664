"""Writing one value into a settings file: that value is another one, and every other byte stays."""

from __future__ import annotations

import codecs
import json
import string
import tomllib
from typing import Any

import pytest
import tomlkit
from hypothesis import assume, example, given
from hypothesis import strategies as st

from widetrail.formats.forms import FORMS
from widetrail.formats.ini import read_ini
from widetrail.formats.interface import NotThere, Scalar, Unreadable, Unwritable


def write_value(form: str, data: bytes, at: str, value: Scalar) -> bytes:
    add = FORMS[form].add
    assert add is not None
    return add(data, at, value)


NAMES = st.text(string.ascii_letters + "äß 0._-", min_size=1, max_size=8).map(str.strip)
NAMES = NAMES.filter(bool)
TEXTS = st.text(st.characters(exclude_categories=["Cs", "Cc", "Zl", "Zp"]), max_size=12)
SCALARS = st.none() | st.booleans() | st.integers(-(2**60), 2**60) | TEXTS


def kept(before: bytes, after: bytes, old: int) -> bool:
    """Return whether all but ``old`` bytes of ``before``, in one place, stand in ``after`` too."""
    head = next((n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), None)
    if head is None:
        return min(len(before), len(after)) >= len(before) - old
    room = min(len(before), len(after)) - head
    tail = next((n for n in range(room) if before[-1 - n] != after[-1 - n]), room)
    return head + tail >= len(before) - old


INI = """\
; written by Frondsign\r
top = 1\r
\r
[Places]   # where signs lie\r
  Folder = C:\\Users\\ines\\Signs  \r
Quoted="a; b"\r
empty =\r
\r
[places.more]\r
folder=other\r
"""


@pytest.mark.parametrize(
    ("at", "value", "old", "new"),
    [
        ("Places/folder", "D:/Signs", "C:\\Users\\ines\\Signs", "D:/Signs"),
        ("places/quoted", "ü", '"a; b"', '"ü"'),
        ("Places/empty", "x", "empty =\r", "empty =x\r"),
        ("top", " a ", "top = 1", 'top = " a "'),
        ("Places/new", "1", "empty =\r\n", "empty =\r\nnew = 1\r\n"),
        ("places.more/new", "1", "folder=other\r\n", "folder=other\r\nnew=1\r\n"),
        ("Third/key", "v", "folder=other\r\n", "folder=other\r\n[Third]\r\nkey = v\r\n"),
    ],
)
@pytest.mark.parametrize("codec", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_ini_keeps_every_other_byte(at: str, value: str, old: str, new: str, codec: str) -> None:
    told = INI.replace("written", "gewürzt") if codec == "cp1252" else INI
    written = write_value("ini", told.encode(codec), at, value)
    assert written == told.replace(old, new, 1).encode(codec)


def test_a_value_that_the_encoding_or_the_form_lacks_is_refused() -> None:
    with pytest.raises(Unwritable, match="Windows-1252"):
        write_value("ini", "a=\xe9".encode("cp1252"), "a", "☘")
    with pytest.raises(Unwritable, match="one line"):
        write_value("ini", b"a=1", "a", "1\n[b]")
    with pytest.raises(Unwritable, match="no null"):
        write_value("toml", b"a=1", "/a", None)
    big = codecs.BOM_UTF16_BE + "a=1".encode("utf-16-be")
    assert write_value("ini", big, "a", "2") == codecs.BOM_UTF16_BE + "a=2".encode("utf-16-be")


LINES = st.one_of(
    st.tuples(NAMES, st.sampled_from(["=", " = ", " =", "= "]), TEXTS).map("".join),
    NAMES.map("[{}]".format),
    TEXTS.map("; {}".format),
    st.just(""),
)


@given(st.lists(LINES), st.sampled_from(["\n", "\r\n"]), NAMES, NAMES, TEXTS)
@example([], "\n", "a", "b", "")
@example(["[a]"], "\n", "a", "b", '"')
def test_any_ini_file_takes_any_value(
    lines: list[str], ends: str, section: str, key: str, value: str
) -> None:
    assume("/" not in key)
    data = ends.join(lines).encode()
    written = write_value("ini", data, f"{section}/{key}", value)
    assert read_ini(written, f"{section}/{key}").value == value
    try:
        before = read_ini(data, f"{section}/{key}").value
    except NotThere:
        assert kept(data, written, 0)
    else:
        assert kept(data, written, len(str(before).encode()) + 2)


DOCUMENTS = st.recursive(
    SCALARS,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=4),
    max_leaves=12,
)


def _paths(document: Any, at: str = "") -> list[str]:
    inner: list[tuple[str, Any]] = []
    if isinstance(document, dict):
        inner = [(k.replace("~", "~0").replace("/", "~1"), v) for k, v in document.items()]
    elif isinstance(document, list):
        inner = [(str(n), v) for n, v in enumerate(document)]
    return [path for k, v in inner for path in (f"{at}/{k}", *_paths(v, f"{at}/{k}"))]


def _put(document: Any, tokens: list[str], value: Any) -> Any:
    for token in tokens[:-1]:
        document = document[int(token) if isinstance(document, list) else token]
    last: Any = int(tokens[-1]) if isinstance(document, list) else tokens[-1]
    old = document.get(last, value) if isinstance(document, dict) else document[last]
    document[last] = value
    return old


@given(
    st.dictionaries(NAMES, DOCUMENTS, min_size=1, max_size=4),
    st.data(),
    SCALARS,
    st.sampled_from([None, 2, "\t"]),
    st.booleans(),
    st.sampled_from(["\n", "\r\n"]),
)
def test_any_json_document_takes_any_value_at_any_place(
    document: dict[str, Any], data: st.DataObject, value: Any, indent: Any, ascii_: bool, ends: str
) -> None:
    text = json.dumps(document, indent=indent, ensure_ascii=ascii_).replace("\n", ends)
    new = data.draw(st.booleans(), label="a new key")
    at = "/a new one" if new else data.draw(st.sampled_from(_paths(document)), label="at")
    written = write_value("json", text.encode(), at, value)
    old = _put(document, at.split("/")[1:], value)
    assert json.loads(written) == document
    spelled = json.dumps(old, indent=indent, ensure_ascii=ascii_).replace("\n", ends)
    room = 0 if new else len(spelled.encode()) + spelled.count("\n") * 80
    assert kept(text.encode(), written, room)


@pytest.mark.parametrize(
    ("text", "at", "value", "new"),
    [
        ("", "/a", 1, '{"a": 1}\n'),
        ("{}", "/a", None, '{"a": null}'),
        ('{\n "a" : 1,\n "b" : []\n}', "/c", "x", '{\n "a" : 1,\n "b" : [],\n "c" : "x"\n}'),
        ('{"a": 1, "a": 2}', "/a", 3, '{"a": 1, "a": 3}'),
        ('{"ü": "☘"}', "/ü", "ä", '{"ü": "ä"}'),
        ('{"u": "x"}', "/u", "ä", '{"u": "\\u00e4"}'),
    ],
)
def test_json_is_set_as_the_file_is(text: str, at: str, value: Any, new: str) -> None:
    assert write_value("json", text.encode(), at, value).decode() == new


TABLES = st.recursive(
    st.booleans() | st.integers(-(2**60), 2**60) | TEXTS,
    lambda inner: st.dictionaries(NAMES, inner, max_size=3),
    max_leaves=8,
)


@given(st.dictionaries(NAMES, TABLES, min_size=1, max_size=4), st.data(), st.booleans() | TEXTS)
def test_any_toml_document_takes_any_value(
    document: dict[str, Any], data: st.DataObject, value: Any
) -> None:
    text = "# kept\n" + tomlkit.dumps(document)
    at = data.draw(st.sampled_from(_paths(document)), label="at")
    tokens = at.split("/")[1:]
    written = write_value("toml", text.encode(), at, value)
    _put(document, tokens, value)
    assert tomllib.loads(written.decode()) == document
    assert written.startswith(b"# kept\n")


def test_toml_keeps_comments_order_and_line_ends() -> None:
    text = '# top\r\n[a]\r\nk = "v"   # keep\r\nl=[1,\r\n 2]\r\n"d.e"=\'lit\\n\'\r\n'
    assert write_value("toml", text.encode(), "/a/k", 'x "y"').decode() == text.replace(
        '"v"', '"x \\"y\\""'
    )
    assert write_value("toml", text.encode(), "/a/l/1", 9).decode() == text.replace(" 2]", " 9]")


@pytest.mark.parametrize(
    ("form", "data", "at", "error"),
    [
        ("json", b'{"a": [1}', "/a", Unreadable),
        ("json", b'{"a": 1}', "a", Unreadable),
        ("json", b'{"a": 1}', "/a/b", NotThere),
        ("json", b"[1]", "/5", NotThere),
        ("json", b'{"a": {}}', "/b/c", NotThere),
        ("toml", b"a = [", "/a", Unreadable),
        ("toml", b"a = 1", "/b/c", NotThere),
        ("toml", b"a = [1]", "/a/7", NotThere),
    ],
)
def test_what_cannot_be_read_or_reached_is_refused(
    form: str, data: bytes, at: str, error: type[Exception]
) -> None:
    with pytest.raises(error):
        write_value(form, data, at, "x")
