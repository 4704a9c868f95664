"""A survey as one document of plain values, and as rows for a spreadsheet."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime

from widetrail.finding import (
    Absent,
    Answer,
    ByPart,
    Found,
    Known,
    Surveyed,
    SurveyedItem,
    Tally,
    Unknown,
    installation_facts,
    where_facts,
)
from widetrail.survey import Survey


def day_of(nanoseconds: int) -> str:
    """Return the day (UTC) of a moment in nanoseconds since 1970."""
    return datetime.fromtimestamp(nanoseconds / 1e9, UTC).date().isoformat()


def survey_facts(found: Survey, names: Mapping[str, str], *, walked: bool) -> dict[str, object]:
    """Return a survey as plain JSON values; ``names`` are the applications' by their ids, and
    ``walked`` tells that the disks were walked."""
    not_here = [Surveyed(id, names[id], None) for id in found.not_here]
    told: dict[str, object] = {
        "applications": [
            _application(a) | ({"missing": found.missing[a.id]} if a.id in found.missing else {})
            for a in (*found.here, *not_here)
        ]
    }
    if not walked:
        return told
    stock = found.stock
    return {
        **told,
        "remains": [
            {"id": one.recipe, "item": one.item, "path": one.path, **_counts(one.tally)}
            for one in found.remains
        ],
        "covered by several": [
            {"claims": shared.claims, "path": shared.path, **_counts(shared.tally)}
            for shared in stock.shared
        ],
        "not covered": [
            {
                "path": group.path,
                "whole": group.whole,
                **_counts(group.tally),
                "looks like": group.likeness.kind,
                "why": group.likeness.why,
                "known to": group.known,
            }
            for group in stock.groups
        ],
        "not scanned": [{"path": path, "why": why} for path, why in stock.passed],
        "names": stock.names,
        "links": stock.links,
    }


def _counts(tally: Tally) -> dict[str, object]:
    newest = day_of(tally.newest) if tally.newest else None
    return {"files": tally.files, "size": tally.size, "newest": newest}


_COLUMNS = (
    "what",
    "application",
    "item",
    "path",
    "files",
    "bytes",
    "newest",
    "looks like",
    "why",
)


def survey_rows(found: Survey, names: Mapping[str, str]) -> Iterator[list[object]]:
    """Give a survey as rows: the names of the columns, each item, what remains of what is not here,
    what several claim and what nobody does."""
    yield list(_COLUMNS)
    for row in _rows(found, names):
        yield [_cell(cell) for cell in row]


def _cell(cell: object) -> object:
    """Return a cell that a spreadsheet takes for what it is: no formula, no half of a character."""
    if not isinstance(cell, str):
        return cell
    text = cell.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return f"'{text}" if text.startswith(("=", "+", "-", "@", "\t", "\r")) else text


def _rows(found: Survey, names: Mapping[str, str]) -> Iterator[tuple[object, ...]]:
    for application in found.here:
        for item in application.items:
            path = item.where.path if isinstance(item.where, Found | Absent) else ""
            title = item.title if item.instance is None else f"{item.title}: {item.instance.name}"
            yield "item", application.name, title, path, *_cells(item.tally), "", item.trouble
    for one in found.remains:
        yield "remains", one.name, one.item, one.path, *_cells(one.tally), "", ""
    for shared in found.stock.shared:
        told = " and ".join(shared.claims)
        yield "covered by several", told, "", shared.path, *_cells(shared.tally), "", ""
    for group in found.stock.groups:
        known = ", ".join(names[id] for id in group.known)
        looks = group.likeness
        yield "not covered", known, "", group.path, *_cells(group.tally), looks.kind, looks.why


def _cells(tally: Tally) -> tuple[object, ...]:
    return tally.files, tally.size, day_of(tally.newest) if tally.newest else ""


def _application(application: Surveyed) -> dict[str, object]:
    here = application.installation
    return {
        "id": application.id,
        "name": application.name,
        "here": here is not None,
        "installation": installation_facts(here) if here is not None else None,
        "installations": [installation_facts(i) for i in application.installations],
        "places": {name: where_facts(where) for name, where in application.places},
        "items": [_item(item) for item in application.items],
    }


def _item(item: SurveyedItem) -> dict[str, object]:
    return {
        "item": item.name,
        "title": item.title,
        "instance": item.instance.name if item.instance is not None else None,
        "in use": item.instance.in_use if item.instance is not None else None,
        "place": where_facts(item.where),
        "files": item.tally.files,
        "values": item.tally.values,
        "size": item.tally.size,
        "newest": day_of(item.tally.newest) if item.tally.newest else None,
        "left": item.left.files if item.left is not None else None,
        "trouble": item.trouble or None,
        "checks": {name: _answer(answer) for name, answer in item.checks},
    }


def _answer(answer: Answer) -> dict[str, object]:
    match answer:
        case Known():
            return {"value": answer.value, "source": answer.source, "line": answer.line or None}
        case ByPart():
            return {"by": answer.part, "answers": {n: _answer(a) for n, a in answer.answers}}
        case Unknown():
            return {"unknown": answer.reason}
