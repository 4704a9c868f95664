"""The kinds of steps that a recipe may use, with the models of what it says of each.

A recipe is loaded and linted with these alone: what a step does is imported where it is planned.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from widetrail.lazily import Imported
from widetrail.recipe.settings import Settings

_OWN: Imported[type[Settings]] = Imported(
    "widetrail.steps",
    {
        "copy": ("copy_settings", "CopySettings"),
        "run": ("run_settings", "RunSettings"),
        "person": ("person_settings", "PersonSettings"),
        "wait": ("wait_settings", "WaitSettings"),
        "open": ("program_settings", "OpenSettings"),
        "close": ("program_settings", "CloseSettings"),
        "first_start": ("program_settings", "FirstStartSettings"),
        "remove": ("remove_settings", "RemoveSettings"),
        "detach": ("detach_settings", "DetachSettings"),
        "write": ("write_settings", "WriteSettings"),
        "records": ("records_settings", "RecordsSettings"),
    },
)
"""The model of each of our own kinds."""


class _Kinds(Mapping[str, type[Settings]]):
    def __getitem__(self, name: str) -> type[Settings]:
        if name in _OWN:
            return _OWN[name]
        from widetrail.steps.table import RULES  # kinds that others add are whole

        return RULES[name].settings

    def __contains__(self, name: object) -> bool:
        if name in _OWN:
            return True
        from widetrail.steps.table import RULES

        return name in RULES

    def __iter__(self) -> Iterator[str]:
        from widetrail.steps.table import RULES

        return iter(RULES)

    def __len__(self) -> int:
        return sum(1 for _ in self)


KINDS: Mapping[str, type[Settings]] = _Kinds()
"""The kinds that a recipe may use with the models of their settings, as the loader takes them."""
