"""What Windows does with names, as programs use it; the first argument is a file that lists some.

Prints for each name whether a file of that name can be made and is listed so.
"""

import json
import os
import sys

top = os.path.join(os.path.expanduser("~"), "names")
with open(sys.argv[1], encoding="utf-8") as told:
    names = json.load(told)
made = {}
for number, name in enumerate(names):
    folder = f"{top}\\{number}"
    os.makedirs(folder)
    try:
        with open(f"{folder}\\{name}", "x") as file:
            file.write("x")
    except (OSError, ValueError) as error:  # Python's own word for a console
        made[name] = f"refused: {error}"
        continue
    made[name] = "made" if os.listdir(folder) == [name] else f"becomes {os.listdir(folder)}"
sys.stdout.buffer.write(json.dumps(made).encode())
