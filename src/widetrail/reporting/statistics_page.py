"""The page of a history: flaky and slow rehearsals, weak recipes, and week by week."""

from __future__ import annotations

from markupsafe import Markup

from widetrail.catalogue.statistics import Slow, Statistics, Weak, Week
from widetrail.reporting.figures import BLUE, GREEN, RED, SOFT, as_svg, figure, plain, without_frame
from widetrail.reporting.html import make_page

ROWS = 15
"""Rows of a list or figure, at most."""

_FEW = 8
"""Weeks that a figure has room for, at least: a bar is no wall."""


def render_statistics(told: Statistics) -> str:
    """Return the page of what a history tells. Needs Matplotlib
    (``pip install "widetrail[trace]"``).

    Raises:
        ImportError: Matplotlib is not installed.
    """
    return make_page(
        "statistics.html",
        "Rehearsals",
        told=told,
        rows=ROWS,
        weeks=_weeks(told.weeks),
        slow=_slow(told.slow[:ROWS]),
        weak=_weak(told.weak[:ROWS]),
    )


def _weeks(weeks: tuple[Week, ...]) -> Markup:
    """Draw for each week how many runs passed and failed, and how long one took."""
    drawn, axes = figure(10.0, 3.2)
    names, across = [week.monday for week in weeks], list(range(len(weeks)))
    passed = [week.runs - week.failed for week in weeks]
    axes.bar(across, passed, color=GREEN, width=0.6, label="passed")
    failed = [week.failed for week in weeks]
    axes.bar(across, failed, bottom=passed, color=RED, width=0.6, label="failed")
    axes.set_xticks(across, names, rotation=35 if len(names) > 6 else 0, ha="center")
    axes.set_ylabel("runs")
    axes.set_xlim(-0.6, max(len(weeks), _FEW) - 0.4)
    other = axes.twinx()
    median = [week.median for week in weeks]
    other.plot(
        across, median, color=BLUE, marker="o", markeredgecolor="white", label="median of one run"
    )
    other.set_ylabel("seconds")
    other.set_ylim(bottom=0)
    for one in (axes, other):
        without_frame(one, "top")
    handles, labels = axes.get_legend_handles_labels()
    more, names_of = other.get_legend_handles_labels()
    axes.legend(
        handles + more,
        labels + names_of,
        frameon=False,
        ncols=3,
        loc="lower left",
        bbox_to_anchor=(0, 1.0),
    )
    return as_svg(drawn)


def _slow(slow: tuple[Slow, ...]) -> Markup:
    drawn, axes = figure(10.0, 0.8 + 0.28 * max(1, len(slow)))
    names = [_short(one) for one in slow]
    down = list(range(len(slow)))
    axes.barh(down, [one.seconds for one in slow], color=BLUE, height=0.6)
    before = [one.before for one in slow]
    axes.plot(before, down, "|", color=SOFT, markersize=11, markeredgewidth=2, label="before")
    axes.set_yticks(down, names)
    axes.invert_yaxis()
    axes.set_xlabel("seconds, median of the newest ten runs; the mark is the median before them")
    without_frame(axes, "top", "right")
    return as_svg(drawn)


def _short(one: Slow) -> str:
    _, rehearsal, case = one.whose
    name = rehearsal.partition(".")[0]
    told = f"{name}: {case}" if case else name
    return plain(told if len(told) <= _LONGEST else f"{told[: _LONGEST - 1]}…", _LONGEST)


_LONGEST = 52
"""Characters of a rehearsal's name in a figure, at most."""


def _weak(weak: tuple[Weak, ...]) -> Markup:
    drawn, axes = figure(10.0, 0.9 + 0.34 * max(1, len(weak)))
    down = list(range(len(weak)))
    for shift, values, colour, word in (
        (-0.17, [one.coverage for one in weak], BLUE, "branches reached"),
        (0.17, [one.detected for one in weak], GREEN, "mutations detected or explained"),
    ):
        known = [(at + shift, value) for at, value in zip(down, values, strict=True) if value]
        if known:
            ys, xs = zip(*known, strict=True)
            axes.barh(ys, xs, color=colour, height=0.3, label=word)
    axes.set_yticks(down, [plain(one.recipe, 40) for one in weak])
    axes.set_ylim(len(weak) - 0.4, -0.6)
    axes.set_xlim(0, 100)
    axes.set_xlabel("per cent")
    if axes.get_legend_handles_labels()[1]:
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2, frameon=False)
    without_frame(axes, "top", "right")
    return as_svg(drawn)
