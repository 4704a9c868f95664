"""What an entry of the logbook can be of."""

from __future__ import annotations

SET_OUT = "set out"


LEG_DONE = "leg done"


LEG_HALTED = "leg halted"


LEG_MENDED = "leg mended"


TOPPING_UP = "topping up"


TOPPED_UP = "topped up"


PACKED = "packed so far"


SERIAL_KEPT = "serial kept"


SEAT_TOLD = "seat told"


SETTLED = "settled"


UNDONE = "undone"


PLANNED_ANEW = "planned anew"
