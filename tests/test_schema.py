"""JSON Schemas: an independent validator agrees with us on what it can know."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

import widetrail as product
from conftest import widetrail, with_parts
from widetrail.library.schemas import SCHEMAS, schema, write_schemas
from widetrail.reporting.explained import explained

HOME = Path(__file__).parent.parent
CASES = HOME / "tests/cases/recipe"
VALIDATORS = {name: jsonschema.Draft202012Validator(schema(name)) for name in SCHEMAS}
SUFFIXES = {
    "recipe": "*.trail.yaml",
    "rehearsal": "*.rehearsal.yaml",
    "machine": "machine.yaml",
    "catalogue": "catalogue.yaml",
    "policy": "policy.yaml",
    "keyring": "keyring.yaml",
    "trace": "*.trace.yaml",
    "answers": "answers.yaml",
}
KNOWN = {
    "backslash",
    "braces",
    "climbs",
    "drive",
    "missing-key",
    "no-mapping",
    "no-root",
    "paths-form",
    "revision",
    "several-at-once",
    "split",
    "step-kind",
    "two-forms",
    "two-stations",
    "unknown-key",
    "version",
    "word",
}
"""The bad cases that a schema can know; the rest needs a path, a name or the whole document."""


def errors(name: str, text: str) -> list[str]:
    document = yaml.load(text, yaml.CSafeLoader)
    return [error.message for error in VALIDATORS[name].iter_errors(document)]


@pytest.mark.parametrize("name", SCHEMAS)
def test_a_schema_is_one(name: str) -> None:
    made = schema(name)
    jsonschema.Draft202012Validator.check_schema(made)
    assert all(part.get("description", "-") for part in made.get("$defs", {}).values())
    ran = widetrail("schema", name)
    assert json.loads(ran.out) == made


@pytest.mark.parametrize("name", SCHEMAS)
def test_each_file_of_the_demo_is_valid(name: str, first_world: Path) -> None:
    files = [*first_world.rglob(SUFFIXES[name]), *(HOME / "examples").rglob(SUFFIXES[name])]
    assert len(files) > (0 if name in ("answers", "catalogue", "policy", "keyring") else 5)
    wrong = {path.name: found for path in files if (found := errors(name, path.read_text()))}
    assert wrong == {}


def test_what_a_schema_can_know_it_refuses() -> None:
    base = (CASES / "base.trail.yaml").read_text()
    assert errors("recipe", base) == []
    refused = set()
    for case in CASES.glob("bad/*.case"):
        text, by, _ = case.read_text().split("\n----\n")
        try:
            if errors("recipe", base.replace(text, by, 1)):
                refused.add(case.stem)
        except yaml.YAMLError:
            continue  # no reader of YAML takes it
    assert refused == KNOWN


SEEN = {
    "id",
    "list",
    "mapping",
    "missing-key",
    "name",
    "path-climbs",
    "path-drive",
    "path-root",
    "path-separator",
    "registry-key",
    "text",
    "unknown-key",
    "word",
    "yes-no",
}
"""Codes of findings that a schema can know; the rest needs a path, a name or the whole recipe."""


def test_what_a_schema_can_know_of_the_examples_of_codes_it_refuses() -> None:
    refused = set()
    for code, told in explained().items():
        if not told.bad or code.startswith("yaml") or code == "duplicate-key":
            continue
        assert errors("recipe", with_parts(told.good)) == [], code
        if errors("recipe", with_parts(told.bad)):
            refused.add(code)
    assert refused >= SEEN, SEEN - refused


def test_answers_that_are_none_are_refused() -> None:
    assert errors("answers", "phrase: [[moss, sign-in], []]") != []
    assert errors("answers", "phrase: {a: b}") != [] and errors("answers", "[a]") != []
    assert errors("answers", "phrase: done\nother: [[moss, sign-in, 1]]") == []


def test_each_key_of_the_reference_is_described() -> None:
    listing = HOME / "docs/list-keys"
    ran = subprocess.run([sys.executable, listing, "--check"], capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    told = json.loads((Path(product.__file__).parent / "key_texts.json").read_text())
    described = 0
    for name in ("recipe", "rehearsal", "machine"):
        whole = schema(name)
        for model, made in {whole["title"]: whole, **whole["$defs"]}.items():
            for key in told.get(model, {}).keys() & made.get("properties", {}).keys():
                assert made["properties"][key]["description"] == told[model][key]
                described += 1
    assert described > 150


def test_what_new_writes_names_its_schema(tmp_path: Path) -> None:
    ran = widetrail(
        *("new", tmp_path / "moss", "--name", "Moss", "--maker", "Fern", "--id", "moss"),
        *("--platform", "linux", "--keeps", "{documents}/Moss", "--sign", "{programs}/moss/moss"),
    )
    assert ran.status == 0, ran.out
    for name in ("recipe", "rehearsal"):
        [path] = (tmp_path / "moss").glob(SUFFIXES[name])
        first = path.read_text().splitlines()[0]
        beside: Any = json.loads((path.parent / first.partition("$schema=")[2]).read_text())
        assert beside == schema(name)
        assert errors(name, path.read_text()) == []


def test_the_schemas_of_the_docs_are_current(tmp_path: Path) -> None:
    for path in write_schemas(tmp_path):
        kept = HOME / "docs/schemas" / path.name
        assert kept.read_text() == path.read_text(), "run widetrail schema NAME > docs/schemas/…"
