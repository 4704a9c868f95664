"""What is fuzzed: readers and rewriters of bytes, and documents that commands are given.

``BYTES`` are functions of bytes with seeds to begin from. ``DOCUMENTS`` are what a stranger may
write anew with every checksum right: a function makes a small world once, and what it returns is
told a mutated tree. Either raises whatever it raises; ``OURS`` is what it may.
"""

from __future__ import annotations

import copy
import json
import plistlib
import random
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import yaml
from pydantic_core import PydanticCustomError

from build import trail
from conftest import widetrail
from test_doing import new
from widetrail.errors import WideTrailError
from widetrail.finding import stores
from widetrail.formats import dconf, hive, ini, registry, registry_writing, texts, xml
from widetrail.formats.canonical import canonical, digest
from widetrail.formats.form import changed_alone
from widetrail.formats.forms import FORMS, forms_for
from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.masking import Masker
from widetrail.formats.yaml_positions import read_marked
from widetrail.machine import roots
from widetrail.recipe import releases, templates
from widetrail.recipe.loader import examine
from widetrail.rehearsing import load_rehearsals
from widetrail.steps import KINDS

OURS = (Unreadable, Unwritable, WideTrailError, PydanticCustomError, MemoryError)

# Bytes


def _split(data: bytes) -> tuple[str, bytes]:
    """Return where in a text something stands, and the text."""
    at, _, rest = data.partition(b"\0")
    return at.decode("utf-8", "replace")[:200], rest


def _edited(data: bytes) -> None:
    at, text = _split(data)
    key = "HKEY_CURRENT_USER\\Software\\A"
    edit = registry_writing.Edit(key, at, registry.registry_text(at, at))
    after = registry.registry_key(registry_writing.edit_registry(text, [edit]), key)
    assert edit.value is not None and after.values[at.casefold()].data == edit.value.data


def _written(form: str) -> Callable[[bytes], None]:
    def write(data: bytes) -> None:
        at, text = _split(data)
        known = FORMS[form]
        assert known.add is not None and known.value is not None
        assert known.value(known.add(text, at, "néw"), at) == "néw"

    return write


def _moved(form: str) -> Callable[[bytes], None]:
    def move(data: bytes) -> None:
        at, text = _split(data)
        known = FORMS[form]
        assert known.spots is not None and known.put is not None
        found = known.spots(text, at)
        if found:
            known.put(text, at, {found[0].where: "newé"})

    return move


def _values(form: str) -> Callable[[bytes], None]:
    def change(data: bytes) -> None:
        named = FORMS[form].named
        assert named is not None
        _, text = _split(data)
        held = list(named.read(text).items())
        changes = {name: None if n % 2 else held[0][1] for n, (name, _) in enumerate(held)}
        written = changed_alone(text, changes, named.read, named.change)
        changed_alone(b"", named.read(written), named.read, named.change)

    return change


def _tree(form: str) -> Callable[[bytes], None]:
    def read(data: bytes) -> None:
        at, text = _split(data)
        read_form = FORMS[form].read
        assert read_form is not None
        read_form(text, at)

    return read


def _registry(data: bytes) -> None:
    registry.registry_tree(data, "HKEY_CURRENT_USER")
    registry.registry_key(data, "HKEY_CURRENT_USER\\Software\\A")


def _hive(data: bytes) -> None:
    hive._root.cache_clear()
    hive.hive_key(data, "Software\\A")
    hive.hive_tree(data, "")


def _ini(data: bytes) -> None:
    at, text = _split(data)
    ini.ini_sections(text, at)
    ini.read_ini(text, at)


def _dconf(data: bytes) -> None:
    at, text = _split(data)
    dconf.dconf_below(text, "/org/example")
    dconf.read_dconf(text, "/org/example", at)


def _dconf_written(data: bytes) -> None:
    at, text = _split(data)
    dconf.edit_dconf(text, {at: "'x'", "/a/b": None})


def _gvariant(data: bytes) -> None:
    text = data.decode("utf-8", "replace")
    dconf.parse_gvariant(text)
    dconf.gvariant_with(text, dconf.gvariant_texts(text))


def _template(data: bytes) -> None:
    text = data.decode("utf-8", "replace")
    templates.plain(text)
    templates.check_path(text)


def _release(data: bytes) -> None:
    text = data.decode("utf-8", "replace")
    releases.parse_release(text)
    releases.parse_releases(text)


def _masked(data: bytes) -> None:
    at, text = _split(data)
    masker = Masker()
    if len(at) < 4 or "\ufffd" in at:
        return
    masker.add("secret", at)
    assert at not in masker.mask(text.decode("utf-8", "replace")).replace("‹secret›", "")


def _xml(data: bytes) -> None:
    at, text = _split(data)
    xml.read(text, at)


_TEXTS = {
    "reg": (
        'Windows Registry Editor Version 5.00\r\n\r\n[HKEY_CURRENT_USER\\Software\\A]\r\n@="x"\r\n'
        '"a"="b\\\\c"\r\n"d"=dword:0000000a\r\n"e"=hex(2):41,00,\\\r\n  00,00\r\n"f"=-\r\n'
        "[-HKEY_CURRENT_USER\\B]\r\n"
    ),
    "ini": '[s]\r\nk = v\r\n; c\r\nq="z"\r\n',
    "json": '{"a": {"b": [1, "x", null, true], "c": {}}, "d": 1e5}',
    "yaml": "a:\n  b: 'x'\n  c: |\n    t\nd: [1, {e: f}]\n",
    "toml": '# c\n[a]\nb = "x"\nc = [1, 2]\n[[d]]\ne = {f = 1979-05-27}\n',
    "plist": plistlib.dumps({"a": {"b": "x", "c": [1, 2.5, True, b"x"]}}).decode(),
    "xml": '<?xml version="1.0"?>\n<a><b c="d">x</b><!-- c --></a>',
    "qt_ini": '[s]\nk=v, "w"\n[General]\nm=@Variant(\\0\\0\\0\\n\\0\\0\\0\\x2\\0\\x61)\n',
    "text": "abc axc\nabc",
}
_AT = {
    "ini": "s/k",
    "qt_ini": "s/k",
    "xml": "//b/@c",
    "text": "a(.)c",
    "reg": "HKCU\\Software\\A\\*",
}


def _seed(form: str, at: str = "") -> list[bytes]:
    where = at or _AT.get(form, "/a/b")
    return [where.encode() + b"\0" + _TEXTS[form].encode()]


_DCONF = b"[org/example]\nk='v'\nn=uint32 3\nl=['a', 'b']\nd={'a': <1>, 'b': <'x'>}\n"
_GVARIANT = b"{'a': <1>, 'b': <@as []>, 'c': (1, 2.5, true, \"x\\u00e9\", nothing, just 3, b'x')}"

BYTES: dict[str, tuple[Callable[[bytes], Any], list[bytes]]] = {
    "registry": (_registry, [_TEXTS["reg"].encode(), _TEXTS["reg"].encode("utf-16")]),
    "registry written": (_edited, _seed("reg", "a")),
    "hive": (_hive, [b"regf" + bytes(4092) + b"hbin" + bytes(4092)]),
    "ini": (_ini, _seed("ini")),
    **{form: (_tree(form), _seed(form)) for form in ("json", "yaml", "toml", "plist")},
    "xml": (_xml, _seed("xml")),
    "dconf": (_dconf, [b"k\0" + _DCONF]),
    "dconf written": (_dconf_written, [b"k\0" + _DCONF]),
    "gvariant": (_gvariant, [_GVARIANT]),
    **{
        f"{form} written": (_written(form), _seed(form))
        for form in ("ini", "json", "toml", "qt_ini")
    },
    **{
        f"{form} moved": (_moved(form), _seed(form))
        for form in ("ini", "qt_ini", "json", "toml", "yaml", "plist", "xml", "reg", "text")
    },
    **{f"{form} values": (_values(form), _seed(form)) for form in forms_for("values")},
    "values": (lambda d: stores.decode_values("registry", d, "HKCU\\Software\\A"), [b"{}"]),
    "recipe text": (
        lambda d: read_marked(d.decode("utf-8", "replace"), "f"),
        [b"a: {b: [c, 'd']}\n? x\n: *y\n"],
    ),
    "user folders": (
        lambda d: roots.redirected_by_user_dirs(texts.decode(d)[0], "/home/a"),
        [b'XDG_DOCUMENTS_DIR="$HOME/Doc"\nXDG_MUSIC_DIR="/m"\n'],
    ),
    "template": (_template, [b"{home}/x/{a.b}/{{y}}"]),
    "release": (_release, [b">=5.2, <6 || 7.*"]),
    "masking": (_masked, [b"reed bunting\0a reed%20bunting, cmVlZCBidW50aW5n and more"]),
}

# Documents

ODD: list[Any] = [
    "",
    " ",
    "..",
    "../../x",
    "/etc/passwd",
    "C:/x",
    "C:",
    "//s/x",
    "a\0b",
    "\ud800",
    "\u202e",
    "a" * 5000,
    "{",
    "}",
    "{{",
    "{x}",
    "{home}",
    "{home}/a",
    "{documents}/../x",
    "*",
    "**",
    "[",
    "(a",
    "a{99999999}",
    "yes",
    "no",
    "1",
    "-1",
    "1e999",
    "nan",
    "9" * 5000,
    "new",
    "old",
    "between",
    "put aside",
    "copy",
    "run",
    "publish",
    "wait",
    "person",
    "write",
    "enter",
    "seat",
    "999999 years",
    "0 s",
    ">=5",
    "<",
    "same",
    "x\ny",
    "con",
    "x.",
    "é",
    "notes",
    "test.notes",
    "select 1",
    "HKCU\\X",
    "1.2.3",
    "9999-12-31T23:59:59+14:00",
    "leg done",
    "topped up",
    "{parcel}/x",
    None,
    True,
    False,
    0,
    1,
    -1,
    2**31,
    2**63,
    2**70,
    -(2**70),
    1.5,
    1e308,
    float("nan"),
    float("inf"),
    [],
    {},
    [None],
    [[]],
    [{}],
    {"a": None},
    {"": ""},
    ["a", 1],
]


def _nodes(tree: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    if path:
        yield path
    if not isinstance(tree, dict | list):
        return
    for key, inner in tree.items() if isinstance(tree, dict) else enumerate(tree):
        yield from _nodes(inner, (*path, key))


def mutated(tree: Any, luck: random.Random, *, texts_only: bool = False) -> Any:
    """Return a tree in which up to three values are others, gone, doubled or elsewhere."""
    tree = copy.deepcopy(tree)
    pool = [odd for odd in ODD if isinstance(odd, str)] if texts_only else ODD
    for _ in range(luck.choice((1, 1, 1, 2, 3))):
        paths = list(_nodes(tree))
        if not paths:
            return tree
        path = luck.choice(paths)
        holder = tree
        for key in path[:-1]:
            holder = holder[key]
        key = path[-1]
        match luck.randrange(7):
            case 0:
                del holder[key]
            case 1 | 2 | 3:
                holder[key] = luck.choice(pool)
            case 4 if isinstance(holder, dict):
                holder[str(luck.choice(pool))] = holder.pop(key)
            case 4:
                holder.insert(luck.randrange(len(holder) + 1), copy.deepcopy(luck.choice(holder)))
            case 5:
                holder[key] = {str(luck.choice(pool)): holder[key]}
            case 6 if isinstance(holder[key], int):
                holder[key] += luck.choice((-1, 1, 2**32, -(2**40)))
            case 6:
                holder[key] = [holder[key]]
    return tree


def _as_yaml(tree: Any) -> str:
    class Plain(yaml.SafeDumper):
        def ignore_aliases(self, data: Any) -> bool:
            return True

    try:
        return str(yaml.dump(tree, Dumper=Plain, allow_unicode=True))
    except (yaml.YAMLError, UnicodeError):
        return json.dumps(tree)


def _encoded(tree: Any) -> bytes:
    return json.dumps(tree, sort_keys=True, separators=(",", ":")).encode()


Try = Callable[[Any], None]
"""Told a mutated tree of a document."""

Made = tuple[list[Any], Try]
"""Trees to begin from, and what tries one."""


def _plain(path: Path) -> Any:
    return yaml.load(path.read_bytes(), yaml.BaseLoader)


def _recipes(_: Path, world: Path) -> Made:
    seeds = [_plain(path) for path in sorted((world / "recipes").glob("*.trail.yaml"))]

    def attempt(tree: Any) -> None:
        examine(_as_yaml(tree), "f", KINDS)

    return seeds, attempt


def _rehearsals(_: Path, world: Path) -> Made:
    file = world / "recipes" / "zz.rehearsal.yaml"

    def attempt(tree: Any) -> None:
        file.write_text(_as_yaml(tree), encoding="utf-8", errors="replace")
        list(load_rehearsals(file))

    listed = sorted((world / "recipes").glob("*.rehearsal.yaml"))
    return [_plain(path) for path in listed], attempt


def _machines(folder: Path, world: Path) -> Made:
    one = trail(folder, new("copy"))
    file = folder / "old" / "machine.yaml"
    seed = _plain(file) | {
        "redirected": {"documents": "/home/ada/D"},
        "environment": {"XDG_CONFIG_HOME": "/home/ada/.config"},
        "synced": [{"folder": "/home/ada/S", "service": "x"}],
        "shares": [{"folder": "/mnt", "share": "//a/b"}],
        "running": ["/x"],
        "administrator": "no",
        "network": "yes",
    }
    recipe = folder / "test.trail.yaml"
    recipe.write_bytes(next((one.at / "data/recipes").iterdir()).read_bytes())

    def attempt(tree: Any) -> None:
        file.write_text(_as_yaml(tree), encoding="utf-8", errors="replace")
        widetrail("survey", recipe, "--machine", folder / "old")

    return [seed], attempt


def _cards(folder: Path, world: Path) -> Made:
    recipes, card = world / "recipes", folder / "new.card.json"
    machines = world / "machines"
    widetrail("card", recipes, "--machine", machines / "glass-office", "--to", card)
    seed = json.loads(card.read_bytes())["facts"]
    wanted = recipes / "sporelog.trail.yaml"

    def attempt(tree: Any) -> None:
        try:
            facts = canonical(tree)
        except (ValueError, UnicodeError):
            return
        card.write_bytes(canonical({"card": 1, "facts": tree, "sha256": digest(facts)}))
        shutil.rmtree(folder / "p", ignore_errors=True)
        sides = ("--old", machines / "potting-shed", "--new", card, "--parcel", folder / "p")
        widetrail("plan", wanted, *sides)

    return [seed], attempt


class _Trail:
    """A move that was walked to its end, and its state before and after each leg."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.one = trail(folder / "now", new("copy"))
        self.keep("planned")
        self.one.walk("old")
        self.keep("packed")
        self.one.walk("new")
        self.keep("done")

    def keep(self, name: str) -> None:
        shutil.copytree(self.folder / "now", self.folder / name, symlinks=True)

    def back(self, name: str) -> Path:
        """Have everything be as it was then; return the folder of it."""
        shutil.rmtree(self.folder / "now")
        shutil.copytree(self.folder / name, self.folder / "now", symlinks=True)
        return self.folder / "now"

    def log(self, name: str) -> list[Any]:
        files = sorted((self.folder / name / "parcel" / "logbook").iterdir())
        return [json.loads(file.read_bytes().split(b"\n")[0]) for file in files]

    def try_parcel(self, name: str) -> None:
        now = self.folder / "now"
        station = "old" if name == "planned" else "new"
        for command in ("report", "seat"):
            widetrail(command, now / "parcel")
        widetrail("walk", now / "parcel", "--machine", now / station, "--yes", "--no-wait")


def rewritten_log(parcel: Path, bodies: list[Any]) -> None:
    """Write a logbook anew of which every checksum fits."""
    shutil.rmtree(parcel / "logbook")
    (parcel / "logbook").mkdir()
    before = ""
    for number, body in enumerate(bodies, 1):
        if isinstance(body, dict):
            body = {**body, "number": number, "before": before}
        line = _encoded(body)
        data = line + b"\n" + digest(line).encode() + b"\n"
        (parcel / "logbook" / f"{number:06d}.json").write_bytes(data)
        before = digest(data)


def _plans(folder: Path, _: Path) -> Made:
    made = _Trail(folder)
    seeds = [
        [name, json.loads((folder / name / "parcel/data/plan.json").read_bytes())]
        for name in ("planned", "packed", "done")
    ]

    def attempt(tree: Any) -> None:
        name, plan = tree if isinstance(tree, list) and len(tree) == 2 else ("packed", tree)
        name = name if name in ("planned", "packed", "done") else "packed"
        parcel, log = made.back(name) / "parcel", made.log(name)
        (parcel / "data/plan.json").write_bytes(_encoded(plan))
        log[0]["plan"] = digest(_encoded(plan))
        rewritten_log(parcel, log)
        made.try_parcel(name)

    return seeds, attempt


def _logbooks(folder: Path, _: Path) -> Made:
    made = _Trail(folder)

    def attempt(tree: Any) -> None:
        parcel = made.back("packed") / "parcel"
        rewritten_log(parcel, tree if isinstance(tree, list) else [tree])
        made.try_parcel("packed")

    return [made.log("packed"), made.log("done")], attempt


def _indexes(folder: Path, _: Path) -> Made:
    made = _Trail(folder)
    name = next(body["index"] for body in made.log("packed") if "index" in body)
    seed = json.loads((folder / "packed" / "parcel" / "data" / name).read_bytes())

    def attempt(tree: Any) -> None:
        parcel, log = made.back("packed") / "parcel", made.log("packed")
        (parcel / "data" / name).write_bytes(_encoded(tree))
        for body in log:
            if name in body.get("files", {}):
                body["files"][name] = digest(_encoded(tree))
        rewritten_log(parcel, log)
        made.try_parcel("packed")

    return [seed], attempt


def _journals(folder: Path, _: Path) -> Made:
    made = _Trail(folder)
    path = "new/root/home/ada/.local/state/widetrail/run/journal"
    lines = (folder / "done" / path).read_bytes().split(b"\n")[:-1]
    seed = [json.loads(line.split(b" ", 2)[2]) for line in lines]

    def attempt(tree: Any) -> None:
        now, last, out = made.back("done"), "", b""
        for record in tree if isinstance(tree, list) else [tree]:
            body = _encoded(record)
            last = digest(last.encode() + body)
            out += b"%d %s %s\n" % (len(body), last.encode(), body)
        (now / path).write_bytes(out)
        here = ("--machine", now / "new", "--yes")
        widetrail("walk", now / "parcel", *here, "--no-wait")
        widetrail("undo", *here, "--no-wait")
        widetrail("settle", *here)
        widetrail("seat", "--machine", now / "new")

    return [seed], attempt


def _answers(folder: Path, _: Path) -> Made:
    made = _Trail(folder)
    file = folder / "answers.yaml"

    def attempt(tree: Any) -> None:
        file.write_text(_as_yaml(tree), encoding="utf-8", errors="replace")
        now = made.back("packed")
        here = ("walk", now / "parcel", "--machine", now / "new", "--yes")
        widetrail(*here, "--answers", file)

    return [{"parcel.seal": "x", "sign_in": [["fernbook", "in"]], "a": "done"}], attempt


DOCUMENTS: dict[str, Callable[[Path, Path], Made]] = {
    "recipe": _recipes,
    "rehearsal": _rehearsals,
    "machine": _machines,
    "card": _cards,
    "plan": _plans,
    "logbook": _logbooks,
    "index": _indexes,
    "journal": _journals,
    "answers": _answers,
}
"""Told a folder of its own and the demo world; returns what to begin from, and what tries one."""

TEXTS_ONLY = {"recipe", "rehearsal", "machine", "answers"}
"""Documents of which every value is a text, as YAML is read here."""
