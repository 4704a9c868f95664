"""The pages of sheets: one for each recipe, and one that lists them."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.lazily import dataclass
from widetrail.publishing import Sheet
from widetrail.rehearsing.inputs import INPUT_WORDS
from widetrail.reporting.html import make_page

_COMPUTERS = {"old": "old computer", "new": "new computer", "between": "computer between"}
_EFFECTS = {
    "starts": "starts a program",
    "changes": "changes files",
    "asks": "a person does it",
    "waits": "waits",
    "copies": "copies into the parcel",
    "looks": "only looks",
}


def render_sheet(sheet: Sheet) -> str:
    """Return the page of one recipe's sheet."""
    return make_page(
        "sheet.html",
        sheet.name,
        sheet=sheet,
        computers=_COMPUTERS,
        effects=_EFFECTS,
        since=INPUT_WORDS,
    )


@dataclass(frozen=True)
class Listed:
    """A sheet of a list: where its page is, and how many warnings lint has of its recipe."""

    sheet: Sheet
    page: str
    warnings: int


def render_sheets(listed: Sequence[Listed]) -> str:
    """Return the page that lists sheets."""
    return make_page("sheets.html", "Recipes", listed=listed)
