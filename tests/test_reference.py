"""The reference of the recipe language: complete against the models, each example accepted."""

import copy
import pkgutil
import re
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
import yaml

import widetrail.recipe
import widetrail.rehearsing
import widetrail.steps
from widetrail.findings import errors_of
from widetrail.formats.documents import Model, check
from widetrail.machine.machine_file import MachineFile
from widetrail.recipe import examine
from widetrail.rehearsing.rehearsal_file import RehearsalFile
from widetrail.steps import KINDS

PAGE = Path(__file__).parent.parent / "docs/reference.md"
SECTION = re.compile(r"^<!-- (\w+) at (\S+) -->$", re.MULTILINE)
KEY = re.compile(r"^#{3,4} (`[^\n]*`)\n(.*?)^```yaml\n(.*?)^```$", re.MULTILINE | re.DOTALL)

RECIPE = """
recipe: 1
revision: 1
application:
  id: ledge
  name: Ledge
  programs: {ledge: "{programs}/Ledge/ledge.exe"}
recognise: [{sign: {file: "{programs}/Ledge/ledge.exe"}}]
places:
  kept: {folder: "{documents}/Ledge"}
  settings: {file: "{config}/Ledge/ledge.ini"}
readings:
  pages: {files: "{kept}/*.page"}
asks: {phrase: {secret: The passphrase}}
items:
  kept:
    title: Sheets
    from: kept
    leave: licence.json
    parts: {sort: [drawings, notes]}
    checks: {pages: {compare: same}}
    losses: [{what: the order, remedy: Drag them.}]
    routes:
      - {name: whole folder, legs: [{new: [copy]}]}
      - {name: copy, legs: [{new: [copy]}]}
  licence:
    kind: licence
    serial: {json: "{kept}/licence.json", at: /serial}
    active: {output: [ledge, seat], at: '^(.*)$', is: active, not: released}
    exchange:
      request: {json: "{request}", at: /request}
      answer: {json: "{answer}", at: /request}
    routes:
      - name: online
        free: [{old: [{run: [ledge, release], repeat: safe}]}]
        claim: [{new: [{run: [ledge, claim], repeat: safe}]}]
"""
REHEARSAL = """
rehearsal: all of it
recipe: ledge
old: {machine: shed}
new: {machine: office}
expect: {kept: {}}
"""
MACHINE = "{machine: shed, platform: windows, system: '10.0', user: alma, disks: {C: {folder: C}}}"
ITEM = {
    "title": "T",
    "from": "kept",
    "routes": [{"name": "w", "legs": [{"new": ["copy"]}]}],
}
ALONE = {"Place": {}, "Reading": {}, "Condition": {}, "Item": ITEM}
"""What stands where an example of these is put; of others the example is merged with the base."""

STEPS = re.compile(r"\w+Settings")


def models() -> dict[str, type[Model]]:
    """Return every model of what people write, by name."""
    for package in (widetrail.recipe, widetrail.rehearsing, widetrail.steps):
        for module in pkgutil.iter_modules(package.__path__, f"{package.__name__}."):
            if not module.name.endswith("plugin"):
                import_module(module.name)
    found, left = {}, [Model]
    while left:
        left += (one := left.pop()).__subclasses__()
        if one.__module__.startswith("widetrail."):
            found[one.__name__] = one
    return found


def sections() -> list[tuple[str, str, str]]:
    """Return the model, the place and the text of each section."""
    text = PAGE.read_text(encoding="utf-8")
    marks = list(SECTION.finditer(text))
    ends = [mark.start() for mark in marks[1:]] + [len(text)]
    return [(m[1], m[2], text[m.end() : end]) for m, end in zip(marks, ends, strict=True)]


def keys(text: str) -> list[tuple[list[str], str]]:
    """Return the keys of a section, with their example."""
    return [(re.findall(r"`(\w+)`", names), block) for names, _, block in KEY.findall(text)]


@pytest.mark.parametrize(("name", "at", "text"), sections(), ids=lambda v: v[:40].split("\n")[0])
def test_a_section_has_each_key_of_its_model_and_no_other(name: str, at: str, text: str) -> None:
    told = [key for names, _ in keys(text) for key in names]
    known = models()[name].known_keys()
    if name == "SideNeeds":
        known -= {"readings"}
    if name == "Expect":
        known -= {"items"}
    assert sorted(told) == sorted(known)


def test_every_kind_of_step_has_a_section() -> None:
    told = {name for name, _, _ in sections() if STEPS.fullmatch(name)}
    assert told == {settings.__name__ for settings in KINDS.values()}


def merged(base: Any, more: Any) -> Any:
    if isinstance(base, dict) and isinstance(more, dict):
        return {**base, **{key: merged(base.get(key), value) for key, value in more.items()}}
    return more


def put(document: Any, path: list[str], value: Any, *, alone: bool) -> Any:
    """Return a document with ``value`` at a path, which is made where it is missing."""
    if not path:
        return value if alone else merged(document, value)
    step, rest = path[0], path[1:]
    if step.isdigit():
        items = list(document or [{}])
        items[int(step)] = put(items[int(step)], rest, value, alone=alone)
        return items
    inner = document.get(step) if isinstance(document, dict) else None
    return {**(document or {}), step: put(inner, rest, value, alone=alone)}


def examples() -> list[Any]:
    found = []
    for name, at, text in sections():
        for names, block in keys(text):
            found.append(pytest.param(name, at, block, id=f"{name}-{'-'.join(names)}"))
    return found


class AsText(yaml.SafeLoader):
    """Reads every scalar as the text that it is."""


AsText.yaml_implicit_resolvers = {}


@pytest.mark.parametrize(("name", "at", "block"), examples())
def test_an_example_is_accepted(name: str, at: str, block: str) -> None:
    value = yaml.load(block, AsText)
    path = [] if at == "." else at.split(".")
    whole = {"MachineFile": MACHINE, "RehearsalFile": REHEARSAL, "Side": REHEARSAL}
    whole |= {"Incident": REHEARSAL, "Expect": REHEARSAL, "ExpectedItem": REHEARSAL}
    whole |= {"ComesOut": f"{REHEARSAL}stops: [{{before: kept/check}}]"}
    base = copy.deepcopy(yaml.load(whole.get(name, RECIPE), AsText))
    if name in ALONE:
        value = {**ALONE[name], **value}
    of_licence = "{answer}" in block or "refused" in block
    if of_licence and STEPS.fullmatch(name):
        path = ["items", "licence", "routes", "0", "free", "0", "old", "0"]
    if path[:2] != ["items", "licence"]:
        base.get("items", {}).pop("licence", None)
    document = put(base, path, value, alone=name in ALONE or bool(STEPS.fullmatch(name)))
    text = yaml.safe_dump(document, allow_unicode=True, sort_keys=False)
    if name in whole:
        model: type[Model] = MachineFile if name == "MachineFile" else RehearsalFile
        found, _, findings = check(model, text, "example.yaml")
        assert found is not None and errors_of(findings) == (), [str(f) for f in findings]
    else:
        loaded, told = examine(text, "example.trail.yaml", KINDS)
        assert loaded is not None, [str(finding) for finding in told]


EXAMPLES = PAGE.with_name("worked-examples.md").read_text(encoding="utf-8")
WHOLE = re.findall(r"^```yaml\n(recipe: 1\n.*?)^```$", EXAMPLES, re.MULTILINE | re.DOTALL)


@pytest.mark.parametrize("number", range(len(WHOLE)))
def test_a_worked_example_is_a_sound_recipe(number: int) -> None:
    loaded, findings = examine(WHOLE[number], "example", KINDS)
    assert loaded is not None, findings
    assert [f for f in findings if f.rule != "asked"] == []


def test_there_is_an_example_of_each_sort() -> None:
    assert EXAMPLES.count("\n## ") == len(WHOLE) == 4
