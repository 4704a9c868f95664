"""What a walk will do on a computer, grouped by its effect, as consent is asked for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from widetrail.cli.output import Page
from widetrail.formats.quantities import show_count
from widetrail.steps import Step, act_of
from widetrail.steps.kind import Effect

_TITLES: Mapping[Effect, str] = {
    "starts": "Programs that will be started",
    "changes": "Folders and values that will be changed",
    "asks": "What you will be asked to do",
    "waits": "What it waits for",
    "copies": "What is read and copied into the parcel",
}
"""The effects by which steps are grouped, in the order in which a person judges them."""


def step_line(step: Step, words: str) -> str:
    """Return the line that a list of steps has for one, which says where a person does it."""
    return f"- You: {words}" if act_of(step).effect == "asks" else f"- {words}"


def show_steps(page: Page, steps: Sequence[tuple[Step, str]], *, details: bool) -> None:
    """Show ``steps`` with their words: by effect, or one by one in order for ``details``."""
    if details:
        for step, words in steps:
            page.line(step_line(step, words), indent=2)
        return
    for effect, title in _TITLES.items():
        mine = [words for step, words in steps if act_of(step).effect == effect]
        if mine:
            page.line(f"{title}:", "bold", indent=2)
        for words in dict.fromkeys(mine):
            page.line(f"- {words}", indent=4)
    if looks := sum(act_of(step).effect == "looks" for step, _ in steps):
        what = show_count(looks, "step")
        verb = "only records or checks" if looks == 1 else "only record or check"
        page.line(f"{what} {verb} what is there (--details lists all in order)", "dim", indent=2)
