"""Texts made to fit columns of a terminal: padded, cut at the end, paths cut in the middle."""

from __future__ import annotations

from rich.cells import cell_len, set_cell_size

CUT = "…"
"""What stands where something was cut out."""


def padded(text: str, width: int, *, right: bool = False) -> str:
    """Return ``text`` in exactly ``width`` columns, or as it is where it is wider."""
    space = " " * max(0, width - cell_len(text))
    return f"{space}{text}" if right else f"{text}{space}"


def cut(text: str, width: int) -> str:
    """Return ``text`` in at most ``width`` columns; its end goes where it does not fit."""
    if cell_len(text) <= width:
        return text
    return f"{set_cell_size(text, max(0, width - 1)).rstrip()}{CUT}"


def cut_title(text: str, tail: str, width: int) -> str:
    """Return ``text`` in at most ``width`` columns, where ``tail`` at its end stays as a whole."""
    if not tail or cell_len(text) <= width:
        return cut(text, width)
    return f"{cut(text[: len(text) - len(tail)], max(1, width - cell_len(tail)))}{tail}"


def cut_path(path: str, width: int) -> str:
    """Return ``path`` in at most ``width`` columns: folders in its middle go, never its name.

    Where the name alone is wider, it stands there as a whole all the same.
    """
    mark = "/" if "/" in path else "\\"
    if cell_len(path) <= width or mark not in path:
        return path
    folders, name = path.rsplit(mark, 1)
    parts = folders.split(mark)
    head, tail = [parts[0]], [name]
    for part in reversed(parts[1:]):
        longer = mark.join([*head, CUT, part, *tail])
        if cell_len(longer) > width:
            break
        tail.insert(0, part)
    shown = mark.join([*head, CUT, *tail])
    return shown if cell_len(shown) <= width else f"{CUT}{mark}{name}"
