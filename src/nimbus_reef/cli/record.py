"""Commands on the record: load files, list and undo batches, check and rebuild what is held."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from nimbus_reef import config
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.values import DateOrder
from nimbus_reef.jobs import intake
from nimbus_reef.store import accounts, loads, snapshots, trails, undo, verify
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.engine import Store
from nimbus_reef.store.ingest import Loaded
from nimbus_reef.store.ingest import Progress as Report
from nimbus_reef.store.models import FACTS, SCOPES

err = Console(stderr=True)


@contextmanager
def progress_bar(name: str) -> Iterator[Report]:
    """A bar on stderr for as long as the work takes."""
    with Progress(TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=err) as bar:
        task = bar.add_task(name, total=1.0)

        def report(part: float, message: str) -> None:
            bar.update(task, completed=part, description=f"{name}: {message}")

        yield report
        bar.update(task, completed=1.0, description=name)


def _columns(pairs: tuple[str, ...]) -> dict[str, str]:
    chosen = {}
    for pair in pairs:
        name, _, header = pair.partition("=")
        if not header:
            raise BadInput(f"“{pair}” is no column choice.", remedy="Write --column spend='Cost (EUR)'.")
        chosen[name.strip()] = header
    return chosen


@click.command("import")
@click.argument(
    "files", nargs=-1, required=True, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option("--kind", type=click.Choice(list(KINDS)), help="Kind of report; recognised when not given.")
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="OURS=THEIRS",
    help="Which header feeds a column; on top of the suggestion.",
)
@click.option("--dates", type=click.Choice(["day_first", "month_first"]), help="How 03/04/2026 is read.")
@click.option(
    "--scope", type=click.Choice(SCOPES), help="Ad format the file holds; as last time, else product."
)
@click.option("--yes", is_flag=True, help="Go ahead where the file would remove held days or looks unusual.")
@click.pass_obj
def import_(
    conf: config.Config, files: tuple[Path, ...], key: str, kind: str | None,
    columns: tuple[str, ...], dates: str | None, scope: str | None, yes: bool,
) -> None:  # fmt: skip
    """
    Load report files (CSV, XLSX, Parquet) into an account.

    Days a file covers are replaced, never doubled; a file that cannot be read changes
    nothing.
    """
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        for path in files:
            looked = intake.look(store, account, path, path.name)
            suggested = intake.suggestion_for(looked, kind)
            chosen = ColumnMap(
                suggested.mapping.kind,
                {**suggested.mapping.columns, **_columns(columns)},
                DateOrder(dates) if dates else suggested.mapping.date_order,
            )
            done = _import_one(store, account, path, chosen, scope=scope or looked.scope, confirmed=yes)
            for loaded in done:
                detail = {"batch": loaded.batch_id, "file": path.name}
                trails.note(store, "loaded", person_id=None, account_id=loaded.account_id, detail=detail)
                click.echo(f"{path.name}: {_told(loaded)}")
                for warning in loaded.warnings:
                    click.echo(f"  {warning}")


def _told(loaded: Loaded) -> str:
    days = f" on {loaded.days} days, {loaded.first_day} to {loaded.last_day}" if loaded.first_day else ""
    return (
        f"{KINDS[loaded.kind].title}, {loaded.rows:,} rows{days}; "
        f"{loaded.rejected} rejected, {loaded.removed:,} replaced."
    )


def _import_one(
    store: Store, account: Account, path: Path, chosen: ColumnMap, *, scope: str, confirmed: bool
) -> tuple[Loaded, ...]:
    with progress_bar(path.name) as report:
        return intake.load(
            store, account, path, path.name, chosen, scope=scope,
            others=accounts.all_accounts(store), confirmed=confirmed, progress=report,
        )  # fmt: skip


@click.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@FORMAT
@click.pass_obj
def batches(conf: config.Config, key: str, form: str) -> None:  # fmt: skip
    """List what was loaded into an account, newest first."""
    with wiring.running_store(conf) as store:
        found = loads.batches(store, wiring.account(store, key).id, limit=1_000)
    rows = [
        {"batch": b.id, "kind": b.kind, "scope": b.scope, "file": b.file_name, "from": b.first_day,
         "to": b.last_day, "rows": b.rows, "rejected": b.rejected, "replaced": b.removed,
         "loaded_at": b.loaded_at, "undone_at": b.undone_at}
        for b in found
    ]  # fmt: skip
    output.show(rows, form)


@click.command("undo")
@click.argument("batch", type=int)
@click.option("--account", "key", required=True, help="Key of the account.")
@click.pass_obj
def undo_(conf: config.Config, batch: int, key: str) -> None:
    """
    Put the days of a batch back as they were before it; `reef batches` lists them.

    Days that a newer batch has replaced since stay as they are and are named.
    """
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        with progress_bar(f"batch {batch}") as report:
            undone = undo.undo(store, account.id, batch, report)
        trails.note(store, "undone", person_id=None, account_id=account.id, detail={"batch": batch})
    first, last = undone.restored[0], undone.restored[-1]
    click.echo(
        f"{KINDS[undone.kind].title}: {len(undone.restored)} days, {first} to {last}, are as they were."
    )
    if undone.left:
        click.echo(f"  Left, as newer batches stand on them: {', '.join(map(str, undone.left))}.")


@click.command("verify")
@click.option("--account", "key", help="Key of one account; all of them when left out.")
@FORMAT
@click.pass_obj
def verify_(conf: config.Config, key: str | None, form: str) -> None:
    """
    Check the record against itself: day files, day versions and batches with MariaDB's rows.

    Ends with 1 and a list when anything disagrees. Day files are mended by
    `reef rebuild-snapshots`.
    """
    with wiring.running_store(conf) as store:
        accounts_checked = _chosen(store, key)
        found = [
            {"account": account.key, **asdict(each)}
            for account in accounts_checked
            for each in verify.verify(store, account.id)
        ]
    if found:
        output.show([{n: v for n, v in row.items() if n != "account_id"} for row in found], form)
        raise click.exceptions.Exit(1)
    err.print(f"All is well in {', '.join(account.key for account in accounts_checked) or 'no account'}.")


@click.command("rebuild-snapshots")
@click.option("--account", "key", help="Key of one account; all of them when left out.")
@click.pass_obj
def rebuild_snapshots(conf: config.Config, key: str | None) -> None:
    """Make the columnar day files anew from MariaDB; they can always be deleted."""
    with wiring.running_store(conf) as store:
        for account in _chosen(store, key):
            with progress_bar(account.key) as report:
                for number, kind in enumerate(FACTS):
                    report(number / len(FACTS), KINDS[kind].title.lower())
                    days = snapshots.rebuild(store, account.id, kind)
                    click.echo(f"{account.key}: {KINDS[kind].title}, {days} days.")


def _chosen(store: Store, key: str | None) -> list[Account]:
    return [wiring.account(store, key)] if key else list(accounts.all_accounts(store))


COMMANDS = (import_, batches, undo_, verify_, rebuild_snapshots)
