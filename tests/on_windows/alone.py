"""Hold a name that one process holds at a time; print who could have it, and when."""

import json
import subprocess
import sys

assert sys.platform == "win32"
from widetrail.machine.windows_processes import held_name

ASKS = """
import os, sys
from widetrail.machine.windows_processes import held_name
with held_name("fern") as held:
    sys.stdout.write(str(held))
    sys.stdout.flush()
    os._exit(1)  # as a process that is killed
"""


def other() -> str:
    done = subprocess.run([sys.executable, "-c", ASKS], capture_output=True, check=False)
    return done.stdout.decode()


told = {}
with held_name("fern") as held:
    told["first"] = str(held)
    told["other meanwhile"] = other()
told["other afterwards"] = other()
with held_name("fern") as held:
    told["after one that was killed"] = str(held)
sys.stdout.buffer.write(json.dumps(told).encode())
