"""Walk a parcel on this machine to its end, take it back and settle it; print what was there then.

Arguments: the parcel, and an empty file of what state.py makes.
"""

import json
import runpy
import sys
from contextlib import redirect_stdout
from datetime import UTC, datetime
from io import BytesIO, TextIOWrapper
from pathlib import Path
from typing import Any

from widetrail.machine import this_machine
from widetrail.parcel import Parcel
from widetrail.walking import Answers, Company, Patience, Run, Visit
from widetrail.walking.overlaps import runs_on

HERE = Path(__file__).parent
parcel, empty = sys.argv[1:]
NOW = datetime.now(UTC)


def state() -> Any:
    """Return all files and values of Fernbook."""
    sys.argv = ["state.py", empty]
    with redirect_stdout(TextIOWrapper(BytesIO())) as told:
        runpy.run_path(str(HERE / "state.py"))
    return json.loads(told.buffer.getvalue())


machine = this_machine()
company = Company(Answers({}), patience=Patience(waits=False))
Visit(Parcel(Path(parcel), machine.effects), machine, company=company).walk(NOW)
told = {"walked": state()}
for run in runs_on(machine):
    going = Run(machine, run, company)
    going.undo(NOW)
    told["undone"] = state()
    going.settle()
told["settled"] = state()
sys.stdout.buffer.write(json.dumps(told).encode())
