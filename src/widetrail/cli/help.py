"""``widetrail help``: what a command, a word of ours, a code or an exit status means."""

from __future__ import annotations

import re
from importlib.resources import files

import click

from widetrail.cli.output import Page
from widetrail.errors import InputUnusable
from widetrail.findings import did_you_mean
from widetrail.reporting.explained import Explained, explained

_ENTRY = re.compile(r"^- \*\*(.+?)\*\*: (.+)$", re.MULTILINE)


def glossary() -> dict[str, str]:
    """Return what each word of the glossary means, in its order."""
    text = (files("widetrail") / "glossary.md").read_text(encoding="utf-8")
    found: dict[str, str] = {}
    for word, told in _ENTRY.findall(text):  # one that is a word and a code has both
        found[word] = f"{found[word]} As a code: {told}" if word in found else told
    return {word: told.replace("`", "") for word, told in found.items()}


@click.command("help")
@click.argument("word", default="")
@click.pass_context
def command(ctx: click.Context, word: str) -> None:
    """Explain WORD: a command, a word of Wide Trail, the code of a finding or an exit status.

    Without WORD, list the words and the codes.
    """
    root = ctx.find_root()
    assert isinstance(root.command, click.Group)
    page, words, codes = Page(), glossary(), explained()
    if not word:
        click.echo(root.get_help())
        page.title("Words")
        page.line(", ".join(words), indent=2)
        page.title("Codes of findings")
        page.line(", ".join(sorted(codes)), indent=2)
        return
    known = word in words or word in codes
    if word in words:
        page.line(f"{word}: {words[word]}")
    elif (found := root.command.get_command(ctx, word)) is not None:
        known = True
        click.echo(found.get_help(click.Context(found, info_name=word, parent=root)))
    if word in codes:
        _show_code(page, word, codes[word])
    if not known:
        near = did_you_mean(word, [*words, *codes, *root.command.list_commands(ctx)])
        raise InputUnusable(
            f'"{word}" is not in the glossary', todo=near or "List all words: widetrail help"
        )


def _show_code(page: Page, code: str, told: Explained) -> None:
    page.line(f"{code} (a finding of lint): {told.meaning}")
    for title, example in (("Bad", told.bad), ("Good", told.good)):
        if example:
            page.title(title)
            for line in example.splitlines():
                page.line(line, indent=2)
