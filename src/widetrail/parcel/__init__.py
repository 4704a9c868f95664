"""The parcel: a BagIt bag with the plan, the cargo and a logbook that governs the hand-over."""

from widetrail.parcel.logbook import Generation
from widetrail.parcel.parcel import Parcel, set_out
from widetrail.parcel.seal import Seal, make_seal

__all__ = ["Generation", "Parcel", "Seal", "make_seal", "set_out"]
