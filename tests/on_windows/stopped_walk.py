"""Walk a parcel on this machine, and end this process at one of its effects as a kill does.

Arguments: the parcel and the number of the effect; where that is 0 the walk goes to its end, and
the kinds of all effects are printed.
"""

import json
import os
import sys
from datetime import UTC, datetime
from pathlib import Path

from widetrail.machine import Effect, Effects, this_machine
from widetrail.parcel import Parcel
from widetrail.walking import Answers, Company, Patience, Visit

KILLED = 9
at = int(sys.argv[2])
kinds: list[str] = []


def gate(effect: Effect) -> None:
    kinds.append(effect.kind)
    if effect.number == at:
        os._exit(KILLED)


machine = this_machine("", Effects(gate))
company = Company(Answers({}), patience=Patience(waits=False))
Visit(Parcel(Path(sys.argv[1]), machine.effects), machine, company=company).walk(datetime.now(UTC))
sys.stdout.buffer.write(json.dumps(kinds).encode())
