"""What goes to the disk for a while: it comes back as it was, and a full disk is told in words."""

import subprocess
import sys

import pytest

from widetrail.machine import Entry
from widetrail.spill import Spilled


def test_rows_come_back_in_their_order_as_often_as_they_are_asked_for() -> None:
    rows = [Entry(f"{n}/\udcff é", "file", n, n, 0o644, changed=-n) for n in range(2500)]
    kept = Spilled(Entry._make, iter(rows))
    assert list(kept) == rows == list(kept) and len(kept) == 2500
    assert [one for one, _ in zip(kept, kept, strict=True)] == rows  # two at a time
    assert rows[7] in kept and rows[7]._replace(size=8) not in kept
    assert list(Spilled(Entry._make, [])) == []


LIMITED = """
import resource
from widetrail.errors import Halted
from widetrail.machine import Entry
from widetrail.parcel.cargo_runs import CargoRuns
from widetrail.spill import Spilled
from widetrail.steps import CargoEntry
resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, 1 << 20))
try:
    {act}
except Halted as halted:
    print(halted, halted.todo)
"""

RUN = (
    "CargoRuns().run('a.b', (CargoEntry('a.b', str(n), 'folder', 0, n, 7) for n in range(300_000)))"
)
LIST = "Spilled(Entry._make, (Entry(str(n), 'file', n, n, n) for n in range(300_000)))"


@pytest.mark.skipif(sys.platform == "win32", reason="no size of files can be limited there")
@pytest.mark.parametrize("act", [RUN, LIST])
def test_a_temporary_folder_without_room_is_told_in_words(act: str) -> None:
    code = LIMITED.format(act=act)
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert "there is no room for what is kept for a while" in ran.stdout, ran.stderr
    assert "Free some space" in ran.stdout
