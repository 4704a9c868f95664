"""The shapes of what the tool writes down itself, and others may have changed since.

A document of the tool's own carries a checksum, but whoever changes it can reckon that anew. So
what it holds is judged before anything is done with it: every value that is used has its kind and
its bounds here, and other keys may stand beside them.
"""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Field,
    StrictBool,
    StrictInt,
    ValidationError,
)

LARGEST = 1 << 60
"""Bytes or files that a count may tell, at most."""

LATEST_NS = 1 << 63
"""Nanoseconds since 1970 that a time may tell, less than."""

NUMBER_MOST = 1e300
"""What a number of a program's may be, less than; readings are such."""

TEXT_MOST = 1 << 20
"""Characters of one text, at most."""


no_text = re.compile("[\0\ud800-\udc7f\udd00-\udfff]").search
"""Finds what no name, path or line can hold: a NUL, or half a character."""


def _plain(text: str) -> str:
    """Return a text of which a name, a path or a line can be made."""
    if no_text(text):
        raise ValueError("it holds a NUL, or half a character")
    return text


Text = Annotated[str, Field(max_length=TEXT_MOST), AfterValidator(_plain)]
"""A text; bytes of a name that are no text stand in it as Python has them (PEP 383)."""

Sha256 = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Count = Annotated[StrictInt, Field(ge=0, le=LARGEST)]
Moment = Annotated[StrictInt, Field(ge=-LATEST_NS, lt=LATEST_NS)]
"""Nanoseconds since 1970."""

Mode = Annotated[StrictInt, Field(ge=0, le=0o7777)]
Truth = StrictBool


class Told(BaseModel):
    """What a document may hold: other keys too, but these only in these shapes."""

    model_config = ConfigDict(extra="allow", defer_build=True)


def why_not(error: ValidationError | ValueError | RecursionError) -> str:
    """Return what is wrong with a document, in one line."""
    if not isinstance(error, ValidationError):
        return str(error) or type(error).__name__
    flaw = error.errors(include_url=False, include_input=False)[0]
    return ": ".join(str(part)[:80] for part in (*flaw["loc"], flaw["msg"]))


def plain_values(value: object, deepest: int = 40) -> object:
    """Return JSON values as they are, of which every text is one and nothing lies deeper than that.

    Raises:
        ValueError: A text or key is none, a number is none, or it is nested too deep.
    """
    if deepest == 0:
        raise ValueError("it is nested too deep")
    if isinstance(value, str):
        _plain(value)
    elif isinstance(value, dict):
        for key, inner in value.items():
            _plain(key)
            plain_values(inner, deepest - 1)
    elif isinstance(value, list):
        for inner in value:
            plain_values(inner, deepest - 1)
    elif isinstance(value, int | float) and not abs(value) < NUMBER_MOST:
        raise ValueError("it holds a number that is none, or too large")
    return value
