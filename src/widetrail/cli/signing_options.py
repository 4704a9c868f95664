"""The options of commands that verify signatures."""

from __future__ import annotations

from pathlib import Path

import click

PATH = click.Path(path_type=Path)
keyring_option = click.option(
    "--keyring", type=PATH, help="The keys of those whose signatures count, and how many must sign."
)
older_option = click.option(
    "--older", is_flag=True, help="Take a revision that is older than one that was accepted."
)
