"""JSON Schemas of what people write: for editors, and for whoever checks documents without us."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from importlib.resources import files
from pathlib import Path
from typing import Any

from widetrail.catalogue.catalogue_file import CatalogueFile
from widetrail.formats.document_schema import DIALECT, SchemaMaker
from widetrail.formats.documents import Model
from widetrail.machine.machine_file import MachineFile
from widetrail.recipe import Recipe
from widetrail.recipe.conditions import one_or_many
from widetrail.recipe.routes import StepRule
from widetrail.recipe.text_types import PATTERNS
from widetrail.rehearsing.rehearsal_file import RehearsalFile
from widetrail.steps import KINDS
from widetrail.tracing import TraceFile
from widetrail.trust import KeyringFile, PolicyFile
from widetrail.walking.answers import answers_schema

_ANSWERS = "Answers to what a move asks for, by names (--answers)"

_DOCUMENTS: Mapping[str, tuple[type[Model], str]] = {
    "recipe": (Recipe, "A recipe of Wide Trail (NAME.trail.yaml)"),
    "rehearsal": (RehearsalFile, "A rehearsal of Wide Trail (NAME.rehearsal.yaml)"),
    "machine": (MachineFile, "A folder machine of Wide Trail (machine.yaml)"),
    "catalogue": (CatalogueFile, "A catalogue of Wide Trail (catalogue.yaml)"),
    "policy": (PolicyFile, "A policy of Wide Trail (policy.yaml)"),
    "keyring": (KeyringFile, "A keyring of Wide Trail (keyring.yaml)"),
    "trace": (TraceFile, "A script of a trace of Wide Trail (NAME.trace.yaml)"),
}

SCHEMAS = (*_DOCUMENTS, "answers")
"""The names of the documents that have a schema."""


def schema(name: str) -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of a document: ``recipe``, ``rehearsal``, ``machine``,
    ``catalogue``, ``policy``, ``keyring``, ``trace`` or ``answers``.

    Raises:
        KeyError: There is none of that name.

    Example:
        >>> schema("recipe")["title"]
        'A recipe of Wide Trail (NAME.trail.yaml)'
    """
    if name == "answers":
        return {"$schema": DIALECT, "title": _ANSWERS, **answers_schema()}
    model, title = _DOCUMENTS[name]
    added: Mapping[type[Model], Mapping[str, Any]] = {StepRule: dict(KINDS)}
    texts = json.loads((files("widetrail") / "key_texts.json").read_text(encoding="utf-8"))
    return SchemaMaker(one_or_many, added, texts, PATTERNS).document(model, title)


def schema_text(name: str) -> str:
    """Return the JSON Schema of a document as a file has it.

    Raises:
        KeyError: There is none of that name.
    """
    return f"{json.dumps(schema(name), indent=2, ensure_ascii=False)}\n"


def write_schemas(folder: Path, names: Iterable[str] = SCHEMAS) -> list[Path]:
    """Write schemas into a folder, ``NAME.json`` each; return the files. What is there is replaced.

    Example:
        >>> [path.name for path in write_schemas(Path("schemas"), ["trace"])]
        ['trace.json']
    """
    folder.mkdir(parents=True, exist_ok=True)
    found = []
    for name in names:
        path = folder / f"{name}.json"
        path.write_text(schema_text(name), encoding="utf-8")
        found.append(path)
    return found
