"""Where what lies in a parcel, and how much of it is read at a time."""

from __future__ import annotations

from widetrail.parcel.made_files import MADE

READERS = 2
"""Files of a medium that are read at a time."""


CARD = "new.card.json"


SECRETS = "secrets"


SERIAL = "serial"
"""The name of the secret that the serial of a licence is."""


GROWS = ("cargo/", "index/", f"{MADE}/", f"{SECRETS}/")
"""Where a leg puts files; what a leg that was cut off left there is taken away."""


def plan_name(generation: int) -> str:
    return "plan.json" if generation == 1 else f"plan-{generation:06d}.json"
