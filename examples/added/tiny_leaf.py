"""A form that a distribution of somebody else's adds: lines such as ``name -> value``."""

from collections.abc import Mapping

from widetrail.formats.form import Entry, Form, insist_held, name_matches
from widetrail.formats.interface import Located, NotThere, Raw, Scalar, Spot


def _lines(data: bytes) -> list[tuple[str, str, str]]:
    parted = (line.partition(" -> ") for line in data.decode().splitlines())
    return [(name, arrow, value) for name, arrow, value in parted]


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the values of the names that ``at`` says."""
    lines = enumerate(_lines(data), start=1)
    return [Spot(n, v, line) for line, (n, arrow, v) in lines if arrow and name_matches(n, at)]


def read(data: bytes, at: str) -> list[Located]:
    """Return the value of a name."""
    found = [Located(spot.text, spot.line) for spot in spots(data, at)]
    if not found:
        raise NotThere(f"has no leaf {at}")
    return found


def value(data: bytes, at: str) -> Raw:
    """Return the value of a name."""
    return read(data, at)[0].value


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the lines with other values."""
    told = (f"{n}{arrow}{changes.get(n, v)}\n" for n, arrow, v in _lines(data))
    return insist_held("".join(told).encode(), spots, at, changes)


def add(data: bytes, at: str, scalar: Scalar) -> bytes:
    """Return the lines with a value, which is added where it is not there."""
    if spots(data, at):
        return put(data, at, {at: str(scalar)})
    return data + f"{at} -> {scalar}\n".encode()


def entries(data: bytes, at: str) -> list[Entry]:
    """Return each line whose name ``at`` says."""
    return [{"name": spot.where, "path": spot.text} for spot in spots(data, at)]


LEAF = Form(
    "leaf",
    "name",
    tells=True,
    read=read,
    value=value,
    spots=spots,
    put=put,
    add=add,
    entries=entries,
    entry_at=lambda at, name: at,
)
