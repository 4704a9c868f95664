"""Figures of pages: drawn by Matplotlib, as SVG that a page holds itself."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any

from markupsafe import Markup

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BLUE, GREEN, RED, SOFT = "#3b6ea8", "#1b7f4d", "#a11d33", "#8a8f98"


def figure(width: float, height: float) -> tuple[Any, Axes]:
    """Return an empty figure of a size (inches), and its axes.

    Raises:
        ImportError: Matplotlib is not installed.
    """
    from matplotlib.figure import Figure

    drawn = Figure(figsize=(width, height), layout="constrained")
    return drawn, drawn.subplots()


def as_svg(drawn: Any) -> Markup:
    """Return a figure as SVG: the same figure gives the same text."""
    import matplotlib as mpl

    told = io.StringIO()
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "widetrail"}):
        drawn.savefig(told, format="svg", transparent=True, metadata={"Date": None})
    text = told.getvalue()
    return Markup(text[text.index("<svg") :])


def without_frame(axes: Axes, *sides: str) -> None:
    """Take away sides of the frame around axes."""
    for side in sides:
        axes.spines[side].set_visible(False)


def plain(text: str, most: int) -> str:
    """Return a text as a figure shows it: its end, where it is longer than ``most`` characters."""
    told = text if len(text) <= most else f"…{text[1 - most :]}"
    return told.replace("$", r"\$")
