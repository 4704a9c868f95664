"""Pages in headless Chromium: nothing overlaps or is cut, colours can be told, links lead on."""

import html
import json
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

import widetrail
from conftest import World, swept
from widetrail.library.recipes import load_recipe
from widetrail.recipe.comparing import compare
from widetrail.reporting.compare_page import render_comparison
from widetrail.reporting.coverage_page import render_coverage
from widetrail.trust import more_than_before

LOOK = """
<body style="margin:0"><iframe id="page" width="WIDTH" height="800" srcdoc="PAGE"></iframe>
<script>
const rgb = text => (text.match(/[\\d.]+/g) || []).map(Number);
const light = color => { const [r, g, b] = rgb(color).map(v => (v /= 255) <= 0.03928 ? v / 12.92
  : ((v + 0.055) / 1.055) ** 2.4); return 0.2126 * r + 0.7152 * g + 0.0722 * b; };
function behind(element, view) {
  for (let e = element; e; e = e.parentElement) {
    const color = view.getComputedStyle(e).backgroundColor;
    if (rgb(color)[3] !== 0 && color !== "transparent") return color;
  }
  return "rgb(255, 255, 255)";
}
function look() {
  const frame = document.getElementById("page"), doc = frame.contentDocument;
  const view = frame.contentWindow, words = [], faint = new Set();
  const walker = doc.createTreeWalker(doc.body, NodeFilter.SHOW_TEXT);
  for (let node; (node = walker.nextNode());) {
    const text = node.textContent.trim(), e = node.parentElement;
    if (!text || e.closest("svg, .skip, details:not([open]) > :not(summary)")) continue;
    const range = doc.createRange();
    range.selectNodeContents(node);
    const [a, b] = [light(view.getComputedStyle(e).color), light(behind(e, view))];
    if ((Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05) < 4.5) faint.add(text.slice(0, 40));
    for (const r of range.getClientRects()) words.push([text.slice(0, 40), r]);
  }
  const overlaps = [];
  words.forEach(([text, r], k) => words.slice(k + 1).forEach(([other, s]) => {
    const wide = Math.min(r.right, s.right) - Math.max(r.left, s.left);
    const tall = Math.min(r.bottom, s.bottom) - Math.max(r.top, s.top);
    if (wide > 2 && tall > 6) overlaps.push(text + " / " + other);
  }));
  const ids = [...doc.querySelectorAll("[id]")].map(e => e.id);
  const links = [...doc.querySelectorAll("a")].map(e => e.getAttribute("href"));
  const stops = [...doc.querySelectorAll("a, input, summary, [tabindex]")];
  const all = [...doc.querySelectorAll("*")];
  const headings = [...doc.querySelectorAll("h1, h2, h3")].map(e => +e.tagName[1]);
  return { words: words.length, overlaps, faint: [...faint],
    cut: doc.scrollingElement.scrollWidth - doc.scrollingElement.clientWidth,
    dead: links.filter(l => !/^[a-z-]+\\.html$/.test(l))
      .filter(l => !l.startsWith("#") || !ids.includes(l.slice(1))),
    twice: ids.filter((id, k) => ids.indexOf(id) !== k), links: links.length,
    first: stops[0] && stops[0].className,
    unreachable: all.filter(e => view.getComputedStyle(e).overflowX === "auto"
      && e.scrollWidth > e.clientWidth && e.tabIndex < 0).length,
    unnamed: [...doc.querySelectorAll("input, svg[role=img], [role=region]")].filter(e =>
      !e.closest("label") && !e.getAttribute("aria-label")).length,
    leaps: headings.filter((h, k) => k && h > headings[k - 1] + 1).length,
    paper: behind(doc.body, view) };
}
window.onload = () => {
  const told = document.createElement("pre");
  told.id = "told"; told.textContent = JSON.stringify(look());
  document.body.append(told);
};
</script>
"""
"""A page that holds another, and tells what is to be seen in it."""


def seen(page: str, tmp_path: Path, width: int, *, dark: bool = False) -> dict[str, Any]:
    """Open a page in a browser at a width; return what is to be seen, with the console's lines."""
    browser = shutil.which("chromium")
    if browser is None:
        pytest.skip("chromium is not installed")
    holder = tmp_path / "holder.html"
    told = LOOK.replace("WIDTH", str(width)).replace("PAGE", html.escape(page))
    holder.write_text(told, encoding="utf-8")
    options = ["--headless", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr"]
    options += ["--disable-background-networking", "--disable-component-update"]
    options += ["--window-size=1400,900", f"--user-data-dir={tmp_path / 'profile'}"]
    options += ["--blink-settings=preferredColorScheme=0"] if dark else []
    out, err = tmp_path / "out.txt", tmp_path / "err.txt"
    # what the browser leaves running holds its pipes open, so it writes to files
    with out.open("w") as dom, err.open("w") as log:
        call = [browser, *options, "--dump-dom", str(holder)]
        subprocess.run(call, stdout=dom, stderr=log, timeout=120, check=True)
    found = re.search(r'<pre id="told">(.*?)</pre>', out.read_text(), re.DOTALL)
    assert found is not None, err.read_text()[-2000:]
    console = [line for line in err.read_text().splitlines() if "CONSOLE" in line]
    result: dict[str, Any] = json.loads(html.unescape(found[1]))
    return {**result, "console": console}


def report_page(world: World) -> str:
    recipes = widetrail.load_recipes([world.folder / "recipes/sporelog.trail.yaml"])
    old, new = (widetrail.open_machine(world.folder / m) for m in (world.old, world.new))
    parcel = world.folder / "media/usb-stick/page"
    widetrail.plan(recipes, old, new, parcel)
    for machine in (old, new):
        widetrail.walk(parcel, machine, lambda due: True)
    return widetrail.render_page(widetrail.report(parcel))


def coverage_page(world: World) -> str:
    rehearsals = widetrail.rehearse([world.folder / "recipes/huemoss.rehearsal.yaml"])
    covered = rehearsals.coverage()
    assert any(one.missing for one in covered)  # so that both marks are shown
    return render_coverage(covered)


def compare_page(world: World) -> str:
    told, more = {}, {}
    for name in ("sporelog", "quillbox", "dewcast"):
        path = world.folder / f"recipes/{name}.trail.yaml"
        old, text = load_recipe(path), path.read_text()
        text = text.replace("compare: same", "compare: at_least")
        path.write_text(text.replace('"{config}/quillbox"', '"{config}/autostart/quillbox"'))
        told[path] = compare(old.tree, load_recipe(path).tree)
        more[path] = more_than_before(old, load_recipe(path))
    return render_comparison(told, more)


def sheet_page(world: World) -> str:
    recipe = world.folder / "recipes/quillbox.trail.yaml"
    history = world.folder / "history.sqlite"
    widetrail.rehearse([world.folder / "recipes/quillbox.rehearsal.yaml"], history=history)
    return widetrail.sheet_pages([recipe], history=history)["quillbox.html"]


def list_page(world: World) -> str:
    return widetrail.sheet_pages([world.folder / "recipes"])["index.html"]


@pytest.mark.parametrize(
    "make",
    swept([report_page, coverage_page, compare_page, sheet_page, list_page], [report_page]),
)
def test_a_page_can_be_read_at_both_widths_and_in_both_schemes(
    make: Any, world: World, tmp_path: Path
) -> None:
    page = make(world)
    assert not re.search(r'(src|href)="(?!#|data:|[a-z-]+\.html")', page)
    assert "http://" not in page and "https://" not in page
    for width, dark in ((1280, False), (375, True), (375, False)):
        there = seen(page, tmp_path, width, dark=dark)
        assert there["words"] > 25 and there["links"] > 2
        assert there["first"] == "skip"
        assert dark == (sum(map(int, re.findall(r"\d+", there["paper"])[:3])) < 200)
        faults = ("console", "overlaps", "faint", "dead", "twice")
        counts = ("cut", "unreachable", "unnamed", "leaps")
        assert {name: there[name] for name in (*faults, *counts) if there[name]} == {}


def test_a_page_that_cannot_be_read_is_noticed(tmp_path: Path) -> None:
    page = (
        "<h1>One</h1><h3>Three</h3><a href='#gone'>gone</a><p id=a>One line</p><p id=a "
        "style='margin-top:-2.2em; color:#aaa; background:#fff'>Another line</p><input>"
        "<div style='width:900px'>wide</div><div style='overflow-x:auto; width:50px'>"
        "<div style='width:90px'>x</div></div><script>console.error('amiss')</script>"
    )
    there = seen(page, tmp_path, 375)
    assert there["overlaps"] == ["One line / Another line"]
    assert there["faint"] == ["Another line"]
    assert (there["dead"], there["twice"]) == (["#gone"], ["a"])
    assert there["cut"] > 0 and there["leaps"] == there["unnamed"] == 1
    assert len(there["console"]) == 1
