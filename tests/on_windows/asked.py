"""Run a program with a window, and one without, longer than they may; print how they ended.

The one with a window writes a file when it is asked to close. Without a display it is told so.
"""

import json
import os
import sys
import tempfile
from pathlib import Path

assert sys.platform == "win32"
from widetrail.machine.process_start import Start
from widetrail.machine.processes import Stopped, run_to_end

WINDOW = """
import ctypes, sys
from ctypes import wintypes
user = ctypes.WinDLL("user32")
user.CreateWindowExW.restype = wintypes.HWND
window = user.CreateWindowExW(0, "Edit", "Fernbook", 0, 0, 0, 9, 9, None, None, None, None)
open(sys.argv[1] + ".shown", "w").write(str(bool(window)))
message = wintypes.MSG()
while window and user.GetMessageW(ctypes.byref(message), None, 0, 0) > 0:
    if message.message == 0x10:
        open(sys.argv[1], "w").write("closed by asking")
        sys.exit()
    user.DispatchMessageW(ctypes.byref(message))
"""
SLEEPS = "import time; time.sleep(60)"

with tempfile.TemporaryDirectory() as folder:
    written = Path(folder) / "closed"
    told = {}
    for name, script in (("with a window", WINDOW), ("without one", SLEEPS)):
        command = (sys.executable, "-X", "utf8", "-c", script, str(written))
        try:
            run_to_end(Start(command, dict(os.environ), Path(folder), name), 3)
            told[name] = "it ended"
        except Stopped as stopped:
            told[name] = str(stopped)
    told["its window"] = Path(f"{written}.shown").read_text()
    told["the file it wrote"] = written.read_text() if written.exists() else ""
sys.stdout.buffer.write(json.dumps(told).encode())
