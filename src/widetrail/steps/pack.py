"""``pack``: an item's files into the parcel; nothing on old is changed."""

from __future__ import annotations

from widetrail.finding import Selection
from widetrail.machine.paths import join
from widetrail.steps.interface import Doing, Done, Outcome, Step


class Pack:
    """Packs what an item stands for, links as links."""

    def words(self, step: Step) -> str:
        return f"pack {step.item} from {step.text('from')} into the parcel"

    def do(self, step: Step, doing: Doing) -> Outcome:
        doing.insist_closed(step.item)
        place = doing.pinned(step.item)
        carved = doing.carved(step.item)
        selection = Selection(doing.item(step.item), doing.machine.platform, carved)
        entries = list(selection.walk(doing.machine, place))
        left = [e.path for e in entries if e.kind == "other"]
        files, size = doing.packing.add(
            step.item,
            (e for e in entries if e.kind != "other"),
            lambda path: doing.machine.open(join(place, path)),
        )
        doing.insist_closed(step.item)
        return Done({"files": files, "size": size, "no files": list(left)})
