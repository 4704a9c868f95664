"""The numbers of the formats in which the tool writes down what it keeps, and older ones.

Each file says its number. One that is newer than this release knows is refused; one that is older
is brought up by the steps in ``OLDER``, or refused where there is none.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

Document = Literal["plan", "index", "journal", "logbook", "bundle"]

CURRENT: dict[Document, int] = {"plan": 1, "index": 1, "journal": 1, "logbook": 1, "bundle": 1}
"""The formats that this release writes."""

OLDER: dict[tuple[Document, int], Callable[[dict[str, Any]], dict[str, Any]]] = {}
"""By document and number, what brings a document of that format to the next one."""


class AnotherFormat(ValueError):
    """A document is of a format that this release does not read."""


def brought_up(document: Document, told: Any) -> dict[str, Any]:
    """Return what a document tells, as this release has it; ``format`` in it is its number.

    Raises:
        AnotherFormat: It is of a format that is not read.
        ValueError: It is not a mapping.
    """
    if not isinstance(told, dict):
        raise ValueError("it is not a mapping")
    whole: dict[str, Any] = told
    number, wanted = whole.get("format"), CURRENT[document]
    if isinstance(number, bool) or not isinstance(number, int):
        raise AnotherFormat(f"the {document} does not say of which format it is")
    while number < wanted and (step := OLDER.get((document, number))) is not None:
        number += 1
        whole = {**step(whole), "format": number}
    if number != wanted:
        age, release = ("newer", "a newer") if number > wanted else ("older", "an older")
        raise AnotherFormat(
            f"the {document} is of format {number}, {age} than the format {wanted} that this "
            f"release of Wide Trail reads; {release} release reads it"
        )
    return whole
