"""Make files and values of Fernbook as the first argument says; print all there are."""

import json
import os
import sys

assert sys.platform == "win32"
import winreg

KEY = r"Software\Fernbook"
top = os.path.join(os.environ["APPDATA"], "Fernbook")
with open(sys.argv[1], encoding="utf-8") as told:
    made = json.load(told)
for name, text in made.get("files", {}).items():
    os.makedirs(os.path.dirname(os.path.join(top, name)), exist_ok=True)
    with open(os.path.join(top, name), "w", encoding="utf-8") as file:
        file.write(text)
for name in made.get("read only", []):
    os.chmod(os.path.join(top, name), 0o444)
for name, (kind, value) in made.get("values", {}).items():
    with winreg.CreateKey(winreg.HKEY_CURRENT_USER, KEY) as key:
        winreg.SetValueEx(key, name, 0, kind, value)
files, values = {}, {}
for folder, _, names in os.walk(top):
    for name in names:
        path = os.path.join(folder, name)
        with open(path, encoding="utf-8") as file:
            files[os.path.relpath(path, top)] = file.read(), os.access(path, os.W_OK)
try:
    with winreg.OpenKey(winreg.HKEY_CURRENT_USER, KEY) as key:
        for number in range(winreg.QueryInfoKey(key)[1]):
            name, value, kind = winreg.EnumValue(key, number)
            values[name] = kind, value
except OSError:
    pass
sys.stdout.buffer.write(json.dumps({"files": files, "values": values}).encode())
