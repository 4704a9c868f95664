"""What each code of a finding means: the page of codes as data."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache
from importlib.resources import files

from widetrail.lazily import dataclass

_SECTION = re.compile(r"^### `([a-z-]+)`\n\n(.*?)(?=^##|\Z)", re.MULTILINE | re.DOTALL)
_EXAMPLE = re.compile(r"^(Bad|Good):\n\n```yaml\n(.*?)```\n*", re.MULTILINE | re.DOTALL)


@dataclass(frozen=True)
class Explained:
    """What a code means, and parts of a recipe that has the finding and of one that has not; both
    are empty where an example would be too long."""

    meaning: str
    bad: str
    good: str


@cache
def explained() -> Mapping[str, Explained]:
    """Return what each code means, in the order of the page."""
    text = (files("widetrail") / "findings.md").read_text(encoding="utf-8")
    found = {}
    for code, told in _SECTION.findall(text):
        examples = dict(_EXAMPLE.findall(told))
        meaning = " ".join(_EXAMPLE.sub("", told).replace("`", "").split())
        found[code] = Explained(meaning, examples.get("Bad", ""), examples.get("Good", ""))
    return found
