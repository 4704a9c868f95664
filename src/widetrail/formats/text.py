"""Plain text, addressed by a regular expression with one group."""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.formats.expressions import check_one_group, read_text_value
from widetrail.formats.form import Form, insist_held, spliced
from widetrail.formats.interface import Located, Spot, Unreadable
from widetrail.formats.texts import decode, encode


def read(data: bytes, at: str) -> list[Located]:
    """Return every match of the expression's group."""
    return read_text_value(decode(data)[0], at)


def spots(data: bytes, at: str) -> list[Spot]:
    """Return what the expression's group matches, without a line's own end."""
    text = decode(data)[0]
    spans = _spans(text, at)
    return [
        Spot(str(number), text[begin:end], text.count("\n", 0, begin) + 1)
        for number, (begin, end) in enumerate(spans)
    ]


def _spans(text: str, at: str) -> list[tuple[int, int]]:
    """Return where the group of each match begins and ends, without a line's own end."""
    found = (match.span(1) for match in _expression(at).finditer(text))
    return [(b, e - text[b:e].endswith("\r")) for b, e in found if b >= 0]


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the text with others at the places of ``changes``."""
    return insist_held(_written(data, at, changes), spots, at, changes)


def _written(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    text, codec = decode(data)
    spans = _spans(text, at)
    told = [(*spans[int(where)], new) for where, new in changes.items()]
    return encode(spliced(text, told), codec, data)


def _expression(at: str) -> re.Pattern[str]:
    try:
        expression = re.compile(at, re.MULTILINE)
    except (re.error, OverflowError, RecursionError) as error:
        raise Unreadable(f"cannot be searched for {at}: {error}") from error
    if expression.groups < 1:
        raise Unreadable(f"cannot be searched for {at}: it has no group")
    return expression


TEXT = Form(
    "text",
    "expression",
    tells=True,
    several=True,
    by_recipe=True,
    read=read,
    spots=spots,
    put=put,
    check_paths_at=check_one_group,
)

OUTPUT = Form("output", "expression", holder="command", several=True, by_recipe=True)
"""What a command of the program prints."""
