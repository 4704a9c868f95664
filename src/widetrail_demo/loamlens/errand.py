"""The command ``loamlens-errand REQUEST ANSWER``: takes a request to the maker from any computer.

It needs no licence and keeps nothing. Exit status: 0 there is an answer, be it a refusal; 5 the
maker gives none.
"""

from __future__ import annotations

import json
import sys

from widetrail_demo import here
from widetrail_demo.licences import Trouble, ask_maker


def main() -> None:
    """Run ``loamlens-errand`` with the arguments of the command line."""
    if len(sys.argv) != 3:
        sys.exit("usage: loamlens-errand REQUEST ANSWER")
    request = json.loads(here.real(sys.argv[1]).read_text(encoding="utf-8"))
    try:
        answer = ask_maker(request)
    except Trouble as trouble:
        print(f"loamlens-errand: {trouble}", file=sys.stderr)
        sys.exit(trouble.status)
    told = {"request": request["request"], "answer": answer}
    here.real(sys.argv[2]).write_text(json.dumps(told, indent=1) + "\n", encoding="utf-8")
    print(f"answered: {request['purpose']} of {request['machine']}")
