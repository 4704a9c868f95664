"""Hold a file as programs do; print what comes of changing it meanwhile, and after."""

import ctypes
import json
import sys
import threading
import time
from pathlib import Path

assert sys.platform == "win32"
from widetrail.formats.registry_writing import KEY, Edit
from widetrail.machine import EffectFailed, this_machine

here = this_machine()
home = here.root("home")
path, other = here.host(f"{home}/held.txt"), here.host(f"{home}/other.txt")
path.write_text("x")
kernel = ctypes.windll.kernel32
kernel.CreateFileW.restype = ctypes.c_void_p


def hold() -> int:
    """Open it to be read, and let nobody share it."""
    return int(kernel.CreateFileW(str(path), 0x80000000, 0, None, 3, 0, None))


told = {}
handle = hold()
for name, change in {
    "rename": lambda: here.effects.rename(path, other),
    "remove": lambda: here.effects.remove_file(path),
    "write": lambda: here.effects.append(path).close(),
}.items():
    try:
        change()
        told[name] = ["done"]
    except EffectFailed as error:
        told[name] = [error.what, error.why, error.todo]
try:
    told["read"] = [here.read(f"{home}/held.txt").decode()]
except Exception as error:
    told["read"] = [type(error).__name__, str(error)]


def let_go() -> None:
    time.sleep(0.4)
    kernel.CloseHandle(ctypes.c_void_p(handle))


threading.Thread(target=let_go).start()
here.effects.rename(path, other)
told["after a while"] = [Path(other).read_text()]
try:
    here.registry.key("HKEY_CURRENT_USER\\" + "x" * 300)
    told["key"] = ["read"]
except Exception as error:
    told["key"] = [type(error).__name__, str(error)]
try:
    here.registry.edit([Edit("HKEY_CURRENT_USER\\" + "x" * 300, KEY)])
except EffectFailed as error:
    told["key made"] = [error.what, error.where, error.why, error.todo]
sys.stdout.buffer.write(json.dumps(told).encode())
