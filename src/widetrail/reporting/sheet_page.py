"""The pages of sheets: one for each recipe, and one that lists them."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS
from widetrail.publishing import Sheet
from widetrail.rehearsing.inputs import INPUT_WORDS
from widetrail.reporting.html import make_page
from widetrail.trust import COMPUTERS, MAY_DO, Permission

_EFFECTS = {
    "starts": "starts a program",
    "changes": "changes files",
    "asks": "a person does it",
    "waits": "waits",
    "copies": "copies into the parcel",
    "looks": "only looks",
}


def on_which(permission: Permission) -> str:
    """Return the platforms that a permission is for, for people; empty for all of the recipe."""
    return ", ".join(PLATFORMS[one].title for one in permission.platforms)


def may_do(permissions: Sequence[Permission]) -> list[tuple[str, list[Permission]]]:
    """Return permissions by what they are, each group with its title."""
    groups = ((MAY_DO[k], [one for one in permissions if one.kind == k]) for k in MAY_DO)
    return [(title, mine) for title, mine in groups if mine]


def render_sheet(sheet: Sheet) -> str:
    """Return the page of one recipe's sheet."""
    return make_page(
        "sheet.html",
        sheet.name,
        sheet=sheet,
        computers=COMPUTERS,
        effects=_EFFECTS,
        since=INPUT_WORDS,
        may_do=may_do(sheet.permissions),
        on_which=on_which,
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
