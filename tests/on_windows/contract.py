"""Try the contract of machines on this machine; print what came of each check."""

import json
import sys
from pathlib import Path

from widetrail.machine import this_machine
from widetrail.machine.paths import join
from widetrail.testing.contract import outcomes

here = this_machine()
folder = join(here.root("home"), "contract")
told = outcomes(here, folder, Path(sys.executable).as_posix())
sys.stdout.buffer.write(json.dumps(told).encode())
