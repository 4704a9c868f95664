"""A pytest plugin that collects rehearsals as tests, where it was switched on twice.

It is loaded only by ``-p widetrail.rehearsing.plugin`` (or ``pytest_plugins``), and collects only
below the folders that the ini option ``rehearsals`` names, since rehearsals start programs::

    [pytest]
    addopts = -p widetrail.rehearsing.plugin
    rehearsals = recipes

A rehearsal fails with the same differences as under ``widetrail rehearse``.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from widetrail.errors import WideTrailError
from widetrail.rehearsing.rehearsal import SUFFIX, Rehearsal, load_rehearsals
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.runner import rehearse


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the ini options ``rehearsals`` and ``rehearsal_machines``."""
    parser.addini("rehearsals", "folders whose rehearsals are tests", type="paths", default=[])
    parser.addini("rehearsal_machines", "the folder of their machines", type="paths", default=[])


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """Collect a rehearsal file below one of the folders that were named."""
    named: list[Path] = parent.config.getini("rehearsals")
    if not file_path.name.endswith(SUFFIX):
        return None
    if not any(file_path.is_relative_to(folder) for folder in named):
        return None
    return RehearsalsFile.from_parent(parent, path=file_path)


class Differs(Exception):
    """A rehearsal came out otherwise than expected."""

    def __init__(self, result: Rehearsed) -> None:
        super().__init__(result.told)


class RehearsalsFile(pytest.File):
    """A rehearsal file: a test for each case of its table."""

    def collect(self) -> Iterable[pytest.Item]:
        """Give its tests; what is wrong with the file is a failure to collect it."""
        try:
            rehearsals = load_rehearsals(self.path)
        except WideTrailError as error:
            findings = getattr(error, "findings", ())
            told = "\n".join(map(str, [*findings, error]))
            raise self.CollectError(told) from error
        for rehearsal in rehearsals:
            name = rehearsal.case or "rehearsal"
            yield RehearsalItem.from_parent(self, name=name, rehearsal=rehearsal)


class RehearsalItem(pytest.Item):
    """One rehearsal."""

    def __init__(self, *, rehearsal: Rehearsal, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]
        self.rehearsal = rehearsal

    def runtest(self) -> None:
        """Run it.

        Raises:
            Differs: It came out otherwise than expected.
        """
        folders: list[Path] = self.config.getini("rehearsal_machines")
        machines = folders[0] if folders else None
        result = rehearse(self.rehearsal, datetime.now(UTC), machines)
        if not result.passed:
            raise Differs(result)

    def repr_failure(  # type: ignore[override]
        self, excinfo: pytest.ExceptionInfo[BaseException]
    ) -> str | object:
        """Return the differences, or what could not be used."""
        if isinstance(excinfo.value, Differs | WideTrailError):
            return str(excinfo.value)
        return super().repr_failure(excinfo)

    def reportinfo(self) -> tuple[Path, int, str]:
        """Return where it lies and what it tries."""
        return self.path, 0, self.rehearsal.title
