"""The words in which a seat and what is done with it are told: stages, acts, who holds it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

Stage = Literal[
    "known",
    "noted",
    "verified",
    "released",
    "claimed",
    "renounced",
    "returned",
    "settled",
]


Purpose = Literal["release", "claim", "return"]


Phase = Literal["intent", "requested", "answered", "unknown"]


Word = Literal["active", "other", "not", "unknown"]
"""What a program says of its own licence: ``other`` is that it is active by another seat."""


Holder = Literal["old", "new", "nobody"]
"""Who holds the seat, as the maker says."""


At = Literal["old", "new", "between"]


BEGINS: Mapping[Purpose, Stage] = {
    "release": "verified",
    "claim": "released",
    "return": "renounced",
}
"""The stage at which an act may begin."""


ENDS: Mapping[Purpose, Stage] = {"release": "released", "claim": "claimed", "return": "returned"}
"""The stage that an act leads to."""


AT: Mapping[Purpose, At] = {"release": "old", "claim": "new", "return": "old"}
"""The station whose program an act is about."""
