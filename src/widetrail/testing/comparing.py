"""What must be the same of two machines, or of two parcels, however they came to be so."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from widetrail.formats import digest
from widetrail.machine.platforms import PLAINEST
from widetrail.parcel import Parcel
from widetrail.steps import state_of
from widetrail.testing.power_loss import (
    Node,
)


def is_in(path: str, place: str) -> bool:
    return path == place or path.startswith(f"{place}/")


def is_beside(path: str, apart: Iterable[str]) -> bool:
    """Return whether a path belongs to something else, or only leads there."""
    return any(is_in(path, other) or is_in(other, path) for other in apart)


def is_own(path: str) -> bool:
    """Return whether a path below a machine's folder is the tool's own."""
    parts = path.split("/")
    return ".widetrail" in parts or "widetrail" in parts


class NodeFact(NamedTuple):
    """What must be the same of a node; ``mtime`` is 0 where that is not told."""

    kind: str
    mode: int
    sha256: str
    mtime: int


def fact_of(node: Node, begun: int) -> NodeFact:
    """Return what must be the same of a node: times only of files that nobody wrote just now."""
    exact = node.kind == "file" and node.mtime < begun
    return NodeFact(node.kind, node.mode, digest(node.data), node.mtime if exact else 0)


def names_of_new(seen: dict[str, NodeFact]) -> dict[str, object]:
    """Return what was seen, of files that were written just now only that they are there."""
    return {p: f if f.kind != "file" or f.mtime else "written" for p, f in seen.items()}


def differences(
    where: str, wanted: Mapping[str, object], found: Mapping[str, object]
) -> Iterator[str]:
    names = sorted(p for p in wanted.keys() | found.keys() if wanted.get(p) != found.get(p))
    if names:
        first = names[0]
        what = "lost" if first not in found else "new" if first not in wanted else "another"
        yield f"{where}: {len(names)} names differ; {first} is {what}"


def parcel_told(parcel: Parcel) -> tuple[object, ...]:
    """Return what a parcel tells that must be the same, however it came to be."""
    cargo = [
        (e.item, e.path, e.kind, e.size, e.mtime, e.mode, e.target, e.sha256)
        for e in parcel.reader(PLAINEST).entries
    ]
    told = parcel.outcomes.items()
    outcomes = {step: (state_of(outcome), outcome.facts.lasting()) for step, outcome in told}
    return sorted(cargo), sorted(p.name for p in parcel.folder.rglob("made/*/*/*")), outcomes


def first_difference(wanted: tuple[object, ...], found: tuple[object, ...]) -> str:
    for one, other in zip(wanted, found, strict=True):
        if one != other:
            return f"{str(one)[:300]} and {str(other)[:300]}"
    return ""
