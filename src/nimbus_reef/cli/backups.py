"""Commands that write a backup and put one back."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click
from rich.console import Console

from nimbus_reef import config
from nimbus_reef.cli import output, wiring
from nimbus_reef.errors import NeedsYes
from nimbus_reef.jobs import upkeep
from nimbus_reef.store.loading import verify
from nimbus_reef.store.people import accounts
from nimbus_reef.store.record import backup

err = Console(stderr=True)


@click.command("backup")
@click.argument("target", type=click.Path(dir_okay=False, path_type=Path))
@click.pass_obj
def write(conf: config.Config, target: Path) -> None:
    """Write a backup of the installation into one file while it runs."""
    with wiring.running_store(conf) as store:
        upkeep.back_up(conf, store, target.absolute())
    err.print(f"{target} holds all of it, {target.stat().st_size / 1e6:,.1f} MB.")


@click.command("restore")
@click.argument("source", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--yes", is_flag=True, help="Replace the data of the installation.")
@click.pass_obj
def put_back(conf: config.Config, source: Path, yes: bool) -> None:
    """Restore a backup and check it. Stop the web server and the worker first."""
    manifest = backup.manifest(source)
    with wiring.running_store(conf) as store:
        entries = accounts.all_accounts(store, resting=True)
        if entries and not yes:
            raise NeedsYes((f"The backup of {manifest.made_at} replaces all {len(entries)} accounts here.",))
        store.engine.dispose()
        wiring.restore(conf, source)
        found = [
            each for account in accounts.all_accounts(store, resting=True) for each in verify.verify(store, account.id)
        ]
    if found:
        output.show([asdict(each) for each in found], "table")
        raise click.exceptions.Exit(1)
    err.print(f"The backup of {manifest.made_at} is restored, and agrees with itself.")
