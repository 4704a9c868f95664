"""``widetrail completion``: what a shell reads to complete commands, options and paths."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@click.pass_context
def command(ctx: click.Context, shell: str) -> None:
    """Print the completion script of a shell.

    \b
    bash: widetrail completion bash > ~/.local/share/bash-completion/completions/widetrail
    zsh:  widetrail completion zsh > "${fpath[1]}/_widetrail"
    fish: widetrail completion fish > ~/.config/fish/completions/widetrail.fish
    """
    kind = get_completion_class(shell)
    assert kind is not None
    root = ctx.find_root().command
    click.echo(kind(root, {}, "widetrail", "_WIDETRAIL_COMPLETE").source())
