"""A trace as one HTML page: what is to be taken and why, with figures of runs, times and sizes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from markupsafe import Markup

from widetrail.reporting.figures import BLUE, as_svg, figure, plain, without_frame
from widetrail.reporting.html import make_page
from widetrail.tracing import Trace
from widetrail.tracing.classes import TAKEN, Classes, Group
from widetrail.tracing.parts import shown
from widetrail.tracing.record import Part, Run, Touch, Way

if TYPE_CHECKING:
    from matplotlib.axes import Axes

ROWS_MOST = 40
"""Rows of a figure, at most."""

_COLUMN, _ROW = 0.42, 0.26
"""Inches of a column and a row of the matrix."""

_MARKS: tuple[tuple[frozenset[Way], str, str, str], ...] = (
    (frozenset({"created"}), "^", "#1b7f4d", "made"),
    (frozenset({"written", "appended"}), "s", "#b3541e", "written"),
    (frozenset({"renamed"}), "D", "#6b4fa0", "renamed"),
    (frozenset({"removed", "fleeting"}), "x", "#a11d33", "removed"),
    (frozenset({"read", "looked", "listed"}), "o", BLUE, "read"),
)
"""What was done, with the marker and colour it has in figures; the first that holds is shown."""


def render_trace(trace: Trace, classes: Classes) -> str:
    """Return the page of a trace. Needs Matplotlib (``pip install "widetrail[trace]"``).

    Raises:
        ImportError: Matplotlib is not installed.
    """
    groups = classes.groups
    rows = groups[:ROWS_MOST]
    return make_page(
        "trace.html",
        trace.title,
        trace=trace,
        taken=[group for group in groups if group.kind in TAKEN],
        left=[group for group in groups if group.kind not in TAKEN],
        places=[told for told in trace.tells if told.proved != "no"],
        values=[one for one in trace.shows if one.needed and not one.part.is_file],
        acted=[one for one in trace.acted if one.renamed or one.changed],
        named=lambda path, value: shown(Part(path, value.form, value.at)),
        acts=list(dict.fromkeys(run.did for run in trace.runs if run.kind == "act")),
        cut=max(0, len(groups) - len(rows)),
        matrix=_matrix(trace.runs, rows),
        times=_times(trace.runs, rows),
        sizes=_sizes(groups),
    )


def _matrix(runs: Sequence[Run], groups: Sequence[Group]) -> Markup:
    drawn, axes = figure(6.0 + _COLUMN * len(runs), 2.6 + _ROW * len(groups))
    for ways, mark, colour, word in _MARKS:
        found = [
            (x, y)
            for x, run in enumerate(runs)
            for y, group in enumerate(groups)
            if _mark(run, group) == word and ways
        ]
        if found:
            across, down = zip(*found, strict=True)
            axes.scatter(across, down, marker=mark, color=colour, s=26, label=word)
    _name_rows(axes, groups)
    axes.set_xticks(range(len(runs)), [_run_name(run) for run in runs], rotation=55, ha="left")
    axes.xaxis.tick_top()
    axes.set_xlim(-0.6, len(runs) - 0.4)
    _with_legend(axes)
    return as_svg(drawn)


def _mark(run: Run, group: Group) -> str:
    done = {way for touch in _touches(run, group) for way in touch.ways}
    return next((word for ways, _, _, word in _MARKS if done & ways), "")


def _touches(run: Run, group: Group) -> Iterator[Touch]:
    paths = set(group.paths)
    return (touch for touch in run.touched if touch.path in paths)


def _times(runs: Sequence[Run], groups: Sequence[Group]) -> Markup:
    drawn, axes = figure(8.4, 1.2 + _ROW * len(groups))
    for ways, mark, colour, word in _MARKS:
        found = [
            (touch.at, y)
            for run in runs
            for y, group in enumerate(groups)
            for touch in _touches(run, group)
            if touch.at is not None and ways & set(touch.ways) and _mark_of(touch) == word
        ]
        if found:
            across, down = zip(*found, strict=True)
            axes.scatter(across, down, marker=mark, color=colour, s=18, label=word)
    _name_rows(axes, groups)
    axes.set_xlabel("seconds after the run began")
    axes.set_xlim(left=0)
    _with_legend(axes)
    return as_svg(drawn)


def _mark_of(touch: Touch) -> str:
    return next((word for ways, _, _, word in _MARKS if ways & set(touch.ways)), "")


def _sizes(groups: Sequence[Group]) -> Markup:
    totals: dict[str, int] = {}
    for group in groups:
        totals[group.kind] = totals.get(group.kind, 0) + group.size
    drawn, axes = figure(8.4, 1.2 + _ROW * max(len(totals), 1))
    bars = axes.barh(list(totals), [size / 1024 for size in totals.values()], color=BLUE)
    axes.bar_label(bars, [f"{size / 1024:,.1f} KiB" for size in totals.values()], padding=4)
    axes.invert_yaxis()
    axes.set_xscale("symlog")
    axes.set_xlabel("KiB (the scale grows tenfold from mark to mark)")
    axes.margins(x=0.25)
    without_frame(axes, "top", "right")
    return as_svg(drawn)


def _name_rows(axes: Axes, groups: Sequence[Group]) -> None:
    axes.set_yticks(range(len(groups)), [plain(group.pattern, 46) for group in groups])
    axes.set_ylim(len(groups) - 0.4, -0.6)
    axes.grid(alpha=0.3)
    axes.set_axisbelow(True)
    without_frame(axes, "top", "right", "bottom", "left")


def _with_legend(axes: Axes) -> None:
    if axes.get_legend_handles_labels()[1]:
        axes.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False)


def _run_name(run: Run) -> str:
    told = run.did if run.kind == "act" else run.kind
    return f"{told[:28]} {run.number + 1}".replace("$", r"\$")
