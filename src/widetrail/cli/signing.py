"""What commands tell of signatures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from widetrail.cli.output import Page
from widetrail.formats.quantities import show_count
from widetrail.library.signed_moves import SignedMove


def show_signers(page: Page, signers: Mapping[str, Sequence[str]]) -> None:
    """Show who signed which recipes."""
    by: dict[tuple[str, ...], list[str]] = {}
    for recipe, names in signers.items():
        by.setdefault(tuple(names), []).append(recipe)
    for signed, recipes in by.items():
        what = show_count(len(recipes), "recipe")
        page.line(f"{what} signed by {' and '.join(signed)}: {', '.join(recipes)}", indent=2)


def show_signed_move(page: Page, signed: SignedMove) -> None:
    """Show who signed a parcel and its recipes, or plainly that nobody did or was looked at."""
    page.title("Who signed it")
    if signed.verified:
        show_signers(page, signed.recipes)
        told = " and ".join(signed.parcel)
        page.line(f"The parcel was handed over by {told}" if told else _NO_PARCEL, indent=2)
        return
    unsigned = [recipe for recipe, names in signed.recipes.items() if not names]
    if unsigned:
        page.line(f"Nobody signed these recipes: {', '.join(unsigned)}.", "yellow", indent=2)
    said = dict.fromkeys(name for names in signed.recipes.values() for name in names)
    said |= dict.fromkeys(signed.parcel)
    if said:
        names = ", ".join(said)
        words = f"It says that {names} signed it. Nobody verified that: name a --keyring."
        page.line(words, "yellow", indent=2)


_NO_PARCEL = "Nobody signed the parcel itself: what is packed in it is as the medium has it."
