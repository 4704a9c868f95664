"""What fuzzing found once, and a little of it anew each time; ``benchmarks/fuzz.py`` goes on."""

from __future__ import annotations

import copy
import json
import random
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from conftest import swept
from fuzzing import BYTES, DOCUMENTS, OURS, TEXTS_ONLY, mutated
from widetrail_demo.world import build_world

CASES = Path(__file__).parent / "cases" / "fuzz"
FOUND: dict[str, list[str]] = json.loads((CASES / "bytes.json").read_text(encoding="utf-8"))
"""Inputs that once ended in an exception of no kind of ours, by target, with bytes as Latin-1."""

CHANGES: list[list[Any]] = json.loads((CASES / "documents.json").read_text(encoding="utf-8"))
"""Changes of documents that once did: the document, where in it, and the value put there."""


def within_ours(attempt: Any, what: Any) -> None:
    with suppress(*OURS):
        attempt(what)


@pytest.mark.parametrize("target", BYTES)
def test_no_bytes_end_in_anything_but_an_error_of_ours(target: str) -> None:
    attempt, seeds = BYTES[target]
    for text in FOUND.get(target, []):
        within_ours(attempt, text.encode("latin-1"))
    luck = random.Random(target)
    for _ in range(60):
        data = bytearray(luck.choice(seeds))
        for _ in range(luck.choice((1, 2, 8))):
            data[luck.randrange(len(data))] = luck.randrange(256)
        within_ours(attempt, bytes(data))


@pytest.fixture(scope="module")
def small_world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("fuzz") / "world"
    build_world(folder, small=True)
    return folder


LONG = ("answers", "index", "journal", "logbook")
"""Documents that take longest to be tried."""


@pytest.mark.parametrize(
    "document", swept(DOCUMENTS, [one for one in DOCUMENTS if one not in LONG])
)
def test_no_document_ends_in_anything_but_an_error_of_ours(
    tmp_path: Path, small_world: Path, document: str
) -> None:
    (own := tmp_path / "own").mkdir()
    seeds, attempt = DOCUMENTS[document](own, small_world)
    for name, where, value in CHANGES:
        if name != document:
            continue
        for seed in seeds:
            tree = copy.deepcopy(seed)
            holder = tree
            try:
                for key in where[:-1]:
                    holder = holder[key]
                if value == "gone":
                    del holder[where[-1]]
                else:
                    holder[where[-1]] = value
            except (LookupError, TypeError):
                continue
            within_ours(attempt, tree)
    luck = random.Random(document)
    for _ in range(10):
        tree = mutated(luck.choice(seeds), luck, texts_only=document in TEXTS_ONLY)
        within_ours(attempt, tree)
