"""Catalogues: checked as a whole, and what their histories tell."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.catalogue.catalogue_file import load_catalogue
from widetrail.catalogue.checking import Checked, check_all
from widetrail.catalogue.statistics import Flaky, Statistics, statistics_of
from widetrail.library.recipes import Where
from widetrail.rehearsing.history import (
    QUARANTINE,
    Quarantine,
    day_after,
    no_history,
    open_history,
)

if TYPE_CHECKING:
    import pandas


def check_catalogue(
    folder: Where, *, history: Where | None = None, cache: Where | None = None
) -> Checked:
    """Check the catalogue in a folder as a whole; nothing is rehearsed.

    Its proofs are judged by its ``history``: the one that is named, else that of its file. What
    rehearsals try is kept in the folder ``cache``.

    Raises:
        InputUnusable: There is no catalogue, or no such history.
        DocumentUnusable: The file of the catalogue has findings that are errors.

    Example:
        >>> check_catalogue("catalogue").findings  # doctest: +SKIP
        ()
    """
    catalogue = load_catalogue(Path(folder))
    named = Path(history) if history is not None else catalogue.history
    kept = None if cache is None else Path(cache)
    if named is None:
        return check_all(catalogue, None, kept)
    is_new = history is None and not named.exists()
    with no_history() if is_new else open_history(named) as known:
        return check_all(catalogue, known, kept)


def history_statistics(history: Where) -> Statistics:
    """Return what a history of rehearsals tells: flaky ones, slow ones, weak recipes, weeks.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    with open_history(Path(history)) as known:
        return statistics_of(known, day_after(0))


def quarantine_flaky(history: Where, days: int = QUARANTINE) -> list[Quarantine]:
    """Have the failing of flaky rehearsals not count for some days; return those that were put in
    quarantine now.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    told = history_statistics(history)
    there = {one.whose for one in told.quarantined}
    with open_history(Path(history), add=True) as known:
        return [
            known.quarantine(one.whose, day_after(days), _flaky(one), "flaky", "")
            for one in told.flaky
            if one.whose not in there
        ]


def merge_histories(history: Where, others: Iterable[Where]) -> int:
    """Take what other histories hold into one, which is made where it is not there; return how many
    runs were new.

    Raises:
        InputUnusable: One of them is not there, or is no history.
    """
    count = 0
    with open_history(Path(history), add=True) as known:
        for other in others:
            with open_history(Path(other)) as theirs:
                count += known.merge(theirs)
    return count


def history_frame(history: Where) -> pandas.DataFrame:
    """Return the runs of a history as a table: a row for each, the oldest first.

    The columns are ``id batch ended recipe rehearsal case_name passed seconds tried``; ``ended`` is
    a moment (UTC), ``tried`` one digest of all that was tried. Needs pandas
    (``pip install "widetrail[pandas]"``).

    Raises:
        ImportError: pandas is not installed.
        InputUnusable: It is not there, or is no history.

    Example:
        >>> history_frame("history").groupby("recipe")["seconds"].median()  # doctest: +SKIP
    """
    import pandas

    with open_history(Path(history)) as known:
        rows = [asdict(run) for run in known.runs()]
    names = "id batch ended recipe rehearsal case_name passed seconds tried".split()
    frame = pandas.DataFrame(rows, columns=names)
    frame["ended"] = pandas.to_datetime(frame["ended"], utc=True, format="ISO8601")
    return frame.astype({"passed": bool, "seconds": float})


def _flaky(one: Flaky) -> str:
    return f"{one.failed} of {one.runs} runs with the same inputs failed"
