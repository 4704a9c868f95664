"""The parcel: a BagIt bag with the plan, the cargo and a logbook that governs the hand-over."""

from widetrail.parcel.logbook import Generation
from widetrail.parcel.parcel import Parcel, set_out

__all__ = ["Generation", "Parcel", "set_out"]
