"""The errors of Wide Trail.

::

    WideTrailError            what, where, why, what to do next; a status
    ├── InputUnusable         2: the call or its input could not be used
    │   ├── DocumentUnusable    a recipe, rehearsal or machine file, with its findings
    │   ├── MachineUnusable     a machine folder or a path on a machine
    │   └── ParcelUnusable      a parcel that is damaged, touched, unknown or of another plan
    ├── Halted                3: nothing can go on without a person, a machine or consent
    │   ├── Obstructed          several reasons at once
    │   ├── Waiting             something must come to be first, and nobody waits for it
    │   └── EffectFailed        the system refused a change (in machine.effects)
    └── WentWrong             1: it ran and something is wrong
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from widetrail.findings import Finding


class WideTrailError(Exception):
    """Anything Wide Trail refuses to do, in words a person can act on.

    ``what`` failed, ``where`` (a file with line and column, or a machine's own path), ``why``,
    and ``todo``: what to do next. ``codes`` are the words by which a rehearsal expects it, where it
    has some (``docs/rehearsals.md``). ``status`` is the exit status of the command line.
    """

    status: ClassVar[int] = 1

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        why: str = "",
        todo: str = "",
        codes: Sequence[str] = (),
    ) -> None:
        super().__init__(what, where, why, todo)
        self.codes = tuple(codes)
        self.what = what
        self.where = where
        self.why = why
        self.todo = todo

    def __reduce__(self) -> tuple[object, ...]:  # an error crosses to another process whole
        return _made_again, (type(self), self.args, self.__dict__)

    def __str__(self) -> str:
        return ": ".join(part for part in (self.where, self.what, self.why) if part)

    def as_json(self) -> dict[str, object]:
        """Return the facts of the error as plain JSON values."""
        return {
            "status": self.status,
            "what": self.what,
            "where": self.where,
            "why": self.why,
            "next": self.todo,
        }


def _made_again(
    kind: type[WideTrailError], args: tuple[object, ...], facts: dict[str, object]
) -> WideTrailError:
    error = kind.__new__(kind, *args)
    error.__dict__.update(facts)
    return error


class InputUnusable(WideTrailError):
    """The call or what it was given could not be used; nothing was changed."""

    status = 2


def not_written(path: object, error: OSError, todo: str = "") -> InputUnusable:
    """Return what the system's refusal to write a file that the call names is told as."""
    why = error.strerror or str(error)
    return InputUnusable("cannot be written", where=str(path), why=why, todo=todo)


class DocumentUnusable(InputUnusable):
    """A document has findings that make it unusable; ``findings`` holds all of them."""

    def __init__(self, file: str, findings: Sequence[Finding]) -> None:
        count = len(findings)
        super().__init__(
            "cannot be used",
            where=file,
            why=f"{count} {'finding' if count == 1 else 'findings'}",
            todo="Fix the findings above.",
        )
        self.findings = tuple(findings)

    def as_json(self) -> dict[str, object]:
        return {**super().as_json(), "findings": [f.as_json() for f in self.findings]}


class MachineUnusable(InputUnusable):
    """A machine, or a path on it, cannot be used."""


class ParcelUnusable(InputUnusable):
    """A parcel is damaged, was touched, or is not the one that was expected."""


class Halted(WideTrailError):
    """Nothing can go on here without a person, another machine or consent."""

    status = 3


class Obstructed(Halted):
    """Several things stand in the way at once; ``obstacles`` names each."""

    def __init__(self, what: str, obstacles: Sequence[Halted]) -> None:
        first = obstacles[0]
        codes = tuple(dict.fromkeys(code for one in obstacles for code in one.codes))
        super().__init__(what, where=first.where, why=first.what, todo=first.todo, codes=codes)
        self.obstacles = tuple(obstacles)

    def as_json(self) -> dict[str, object]:
        return {**super().as_json(), "obstacles": [o.as_json() for o in self.obstacles]}


class WentWrong(WideTrailError):
    """The work ran and something came out wrong."""


class Waiting(Halted):
    """Something must come to be before a step can be done, and the walk was not to wait for it."""
