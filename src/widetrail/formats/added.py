"""Tables that other distributions add to, by entry points.

Entry points are looked for only where a name is none of our own, or all of a table is wanted.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache
from typing import Generic, TypeVar, cast

from widetrail.errors import InputUnusable

T = TypeVar("T")


@cache
def _added(group: str, what: str) -> Mapping[str, object]:
    """Return what other distributions add to a group, by name; ``what`` is told in errors.

    Raises:
        InputUnusable: Something of it cannot be loaded.
    """
    from importlib.metadata import entry_points  # slow to import, and rarely needed

    found: dict[str, object] = {}
    for point in entry_points(group=group):
        try:
            found[point.name] = point.load()
        except Exception as error:  # whatever a stranger's module does as it is loaded
            raise InputUnusable(
                f"a {what} cannot be loaded",
                where=f"{point.name} ({point.value})",
                why=f"{type(error).__name__}: {error}",
                todo="Fix or uninstall the distribution that adds it.",
            ) from error
    return found


class Added(Mapping[str, T], Generic[T]):
    """A table: our own values by name, then those of a kind that are added."""

    def __init__(self, of: type, own: Mapping[str, T], group: str, what: str) -> None:
        self._of, self._own, self._group, self._what = of, own, group, what

    @property
    def own(self) -> Mapping[str, T]:
        """Our own values; nothing is looked for."""
        return self._own

    def __getitem__(self, name: str) -> T:
        if name in self._own:
            return self._own[name]
        added = _added(self._group, self._what)[name]
        if not isinstance(added, self._of):
            raise KeyError(name)
        return cast(T, added)

    def __iter__(self) -> Iterator[str]:
        yield from self._own
        added = _added(self._group, self._what).items()
        yield from (n for n, one in added if isinstance(one, self._of) and n not in self._own)

    def __len__(self) -> int:
        return sum(1 for _ in self)
