"""What the tool writes down says of which format it is; another one is refused, or brought up."""

import json
from io import BytesIO
from pathlib import Path
from typing import Any

import pytest

from build import Trail, trail
from conftest import contents
from test_strangers import COPY, rewrite
from widetrail.errors import WideTrailError
from widetrail.formats import versions
from widetrail.formats.canonical import canonical, digest
from widetrail.formats.versions import AnotherFormat, Document, brought_up
from widetrail.parcel.index import read_index, write_index
from widetrail.planning import Plan

FORMATS = {"older": 0, "newer": 2, "none": None}


def another_plan(one: Trail, number: int | None) -> None:
    rewrite(one.at, lambda plan: plan.update(format=number), "plan")


def another_logbook(one: Trail, number: int | None) -> None:
    rewrite(one.at, lambda body: body.update(format=number))


def another_journal(one: Trail, number: int | None) -> None:
    (journal,) = one.folder.glob("old/**/journal")
    first, _, rest = journal.read_bytes().partition(b"\n")
    body = canonical({**json.loads(first.split(b" ", 2)[2]), "format": number})
    assert rest
    line = b"%d %s %s\n" % (len(body), digest(body).encode(), body)
    journal.write_bytes(line)


CHANGES = {"plan": another_plan, "logbook": another_logbook, "journal": another_journal}


@pytest.mark.parametrize("age", FORMATS)
@pytest.mark.parametrize("document", CHANGES)
def test_a_document_of_another_format_is_refused_with_its_number(
    tmp_path: Path, document: str, age: str
) -> None:
    one = trail(tmp_path, COPY)
    one.walk("old")
    CHANGES[document](one, FORMATS[age])
    before = contents(tmp_path / "old")
    wanted = "does not say of which format" if age == "none" else f"format {FORMATS[age]}, {age}"
    with pytest.raises(WideTrailError, match=wanted):
        one.walk("old")
    assert contents(tmp_path / "old") == before


@pytest.mark.parametrize(("age", "number"), FORMATS.items())
def test_an_index_of_another_format_is_refused(age: str, number: int | None) -> None:
    told: dict[str, Any] = json.loads(b"".join(write_index(())))
    wanted = "does not say of which format" if age == "none" else f"format {number}, {age}"
    with pytest.raises(WideTrailError, match=wanted):
        read_index([BytesIO(canonical({**told, "format": number}))], "x", {}, {}, "linux")


def test_an_older_document_is_brought_up_where_a_step_is_known(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = trail(tmp_path, COPY)
    older = {**one.parcel.plan.model_dump(mode="json"), "format": 0, "measure": 3}
    del older["parcel_size"]

    def named_otherwise(told: dict[str, Any]) -> dict[str, Any]:
        size = told["measure"]
        return {**{n: v for n, v in told.items() if n != "measure"}, "parcel_size": size}

    monkeypatch.setitem(versions.OLDER, ("plan", 0), named_otherwise)
    plan = Plan.read(canonical(older))
    assert (plan.format, plan.parcel_size) == (1, 3)
    with pytest.raises(AnotherFormat, match="older than the format 1"):
        brought_up("index", {"format": 0})


@pytest.mark.parametrize("document", ["plan", "index", "journal", "logbook"])
@pytest.mark.parametrize("number", [True, "1", 1.0, None])
def test_what_is_no_number_is_no_format(document: Document, number: object) -> None:
    with pytest.raises(AnotherFormat):
        brought_up(document, {"format": number})
