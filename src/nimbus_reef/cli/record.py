"""Commands on the record: load files, list and undo batches, check and rebuild what is held."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Final

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from nimbus_reef import config
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.core.model import SCOPES
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.kinds import KINDS, READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import AS_FOUND, SEPARATORS, Layout
from nimbus_reef.formats.tables import csv_lines
from nimbus_reef.formats.values import DateOrder, Style
from nimbus_reef.jobs import intake
from nimbus_reef.store.loading import undo, verify
from nimbus_reef.store.loading.ingest import Loaded
from nimbus_reef.store.loading.ingest import Progress as Report
from nimbus_reef.store.people import accounts, trail
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import row_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads, snapshots
from nimbus_reef.store.record.engine import Store

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
            raise BadInput(f"“{pair}” does not choose a column.", remedy="Write --column spend='Cost (EUR)'.")
        chosen[name.strip()] = header
    return chosen


def _meanings(given: tuple[str, ...]) -> dict[str, dict[str, str]]:
    """column:WORD=ours, several times, by column."""
    by_key: dict[str, dict[str, str]] = {}
    for each in given:
        column, colon, pair = each.partition(":")
        word, equals, meaning = pair.rpartition("=")
        if not colon or not equals or not word or not meaning:
            raise BadInput(f"“{each}” explains no word.", remedy="Write --value match_type:WORD=phrase.")
        by_key.setdefault(column.strip(), {})[word] = meaning.strip()
    return by_key


def _span(first: datetime | None, last: datetime | None, day: datetime | None) -> Window | None:
    """The days that a file without dates is said to cover."""
    if day is not None:
        return Window(day.date(), day.date())
    if (first is None) != (last is None):
        raise BadInput("Only one end of the days was given.", remedy="Give both --from and --to.")
    return Window(first.date(), last.date()) if first and last else None


@dataclass(frozen=True, slots=True)
class _Said:
    """What the command line says of how files are read."""

    kind: str | None
    sheets: tuple[str, ...]
    columns: dict[str, str]
    dates: DateOrder | None
    decimal: Style | None
    days: Window | None
    meanings: dict[str, dict[str, str]]
    rate: float | None
    layout: Layout

    def layouts(self) -> dict[str, Layout] | None:
        """The layout given on the command line, by sheet; None when none was given."""
        return dict.fromkeys(self.sheets or ("",), self.layout) if self.layout != AS_FOUND else None

    def maps(self, looked: intake.Looked) -> list[ColumnMap]:
        """The suggested mappings with all of that over them."""
        column_maps = [self._over(each) for each in intake.usual_maps(looked, self.kind, self.sheets)]
        if not looked.remembered:
            for each in column_maps:
                intake.must_be_told(looked, each, said=self.columns, kind_said=self.kind is not None)
        return [*column_maps, *intake.with_settings(looked, column_maps)]

    def _over(self, suggested: ColumnMap) -> ColumnMap:
        known = {column.name for column in READ_KINDS[suggested.kind].columns}
        own = {name: header for name, header in self.columns.items() if name in known}
        columns = {**suggested.columns, **own}
        if {"from", "to"} <= set(own) or "period" in own:
            columns.pop("date", None)
        column_map = replace(
            suggested,
            columns=columns,
            date_order=self.dates or suggested.date_order,
            decimal=self.decimal or suggested.decimal,
            rate=self.rate,
            values={
                **suggested.values,
                **{name: {**suggested.values.get(name, {}), **words} for name, words in self.meanings.items()},
            },
        )
        # The days in a title are suggested for a sum, never applied: wrong days would be counted twice.
        given = None if READ_KINDS[column_map.kind].takes_blocks else column_map.days
        return replace(column_map, days=None if column_map.dated else self.days or given)


_DAY = click.DateTime(["%Y-%m-%d"])


@click.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option("--kind", type=click.Choice(list(KINDS)), help="Kind of report; recognised when not given.")
@click.option("--sheet", "sheets", multiple=True, help="Sheet of a workbook; all that fit a kind when not given.")
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="OURS=THEIRS",
    help="Which header feeds a column; on top of the suggestion.",
)
@click.option("--from", "first", type=_DAY, help="First day of the sums in a file without dates.")
@click.option("--to", "last", type=_DAY, help="Last day of the sums in a file without dates.")
@click.option("--day", type=_DAY, help="The day that settings without a date are of.")
@click.option(
    "--dates",
    type=click.Choice(["day-first", "month-first", "day_first", "month_first"]),
    help="How 03/04/2026 is read.",
    metavar="day-first|month-first",
)
@click.option("--decimal", type=click.Choice([",", "."]), help="The decimal sign, where no cell says which it is.")
@click.option(
    "--separator",
    type=click.Choice([*("tab" if sign == "\t" else sign for sign in SEPARATORS)]),
    help="The separator of a CSV; detected when not given.",
)
@click.option("--header-line", type=click.IntRange(1), help="The line number of the header; detected when not given.")
@click.option(
    "--value",
    "values_",
    multiple=True,
    metavar="COLUMN:WORD=OURS",
    help="What a word of a closed list means, such as match_type:WORD=phrase; - turns its rows away.",
)
@click.option(
    "--rate",
    type=click.FloatRange(min=0, min_open=True),
    help="What one unit of the file's currency is in the account's, where they differ.",
)
@click.option(
    "--scope",
    type=click.Choice([str(label) for label in SCOPES]),
    help="Ad format the file holds; as its campaigns say, else as last time, when not given.",
)
@click.option("--again", is_flag=True, help="Load a file once more whose very same bytes were loaded already.")
@click.option("--yes", is_flag=True, help="Go ahead where the file would remove held days or looks unusual.")
@click.pass_obj
def import_(
    conf: config.Config,
    files: tuple[Path, ...],
    key: str,
    kind: str | None,
    sheets: tuple[str, ...],
    columns: tuple[str, ...],
    first: datetime | None,
    last: datetime | None,
    day: datetime | None,
    dates: str | None,
    decimal: str | None,
    separator: str | None,
    header_line: int | None,
    values_: tuple[str, ...],
    rate: float | None,
    scope: str | None,
    again: bool,
    yes: bool,
) -> None:
    """
    Load report files (CSV, XLSX, Parquet) into an account.

    Days a file covers are replaced, never doubled; a file that cannot be read changes
    nothing. A file with one sum for several days, or without dates (--from, --to), is
    kept as that sum.
    """
    text = _Said(
        kind,
        sheets,
        _columns(columns),
        DateOrder(dates.replace("-", "_")) if dates else None,
        {",": Style.COMMA, ".": Style.DOT}[decimal] if decimal else None,
        _span(first, last, day),
        _meanings(values_),
        rate,
        Layout("\t" if separator == "tab" else separator or "", header_line or 0),
    )
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        for path in files:
            looked = intake.inspect(store, account, path, path.name, intake.keep_digest(path), text.layouts())
            if looked.before is not None and not again:
                click.echo(
                    f"{path.name}: already loaded on {looked.before.loaded_at:%Y-%m-%d} "
                    f"(batch {looked.before.id}, {looked.before.rows:,} rows); left. --again loads it once more."
                )
                continue
            done = _import_one(store, account, path, text.maps(looked), scope=scope, usual=looked.scope, confirmed=yes)
            for loaded in done:
                detail = {"batch": loaded.batch_id, "file": path.name}
                trail.note(store, "loaded", person_id=None, account_id=loaded.account_id, detail=detail)
                click.echo(f"{path.name}: {_told(loaded)}")
                for line in (*loaded.warnings, *_why_rejected(store, loaded)):
                    click.echo(f"  {line}")


_REASONS_TOLD: Final = 5


def _why_rejected(store: Store, loaded: Loaded) -> list[str]:
    """What was wrong with rejected rows, the most frequent first, and the flag that tells what a word means."""
    if not loaded.rejected:
        return []
    choices = {column.name for column in KINDS[loaded.kind].columns if column.holds is CellKind.CHOICE}
    counted = Counter((column, value, reason) for _, column, value, reason in loads.rejects(store, loaded.batch_id))
    entries = []
    for (column, value, reason), times in counted.most_common(_REASONS_TOLD):
        flag = f'; say what it means by --value "{column}:{value}=…"' if column in choices and value else ""
        entries.append(f"{times:,} × {column} “{value}”: {reason}{flag}")
    if len(counted) > _REASONS_TOLD:
        entries.append(
            f"and {len(counted) - _REASONS_TOLD:,} other reasons; the batch's page in Intake has every line."
        )
    return entries


def _told(loaded: Loaded) -> str:
    days = ""
    if loaded.blocks:
        first, more = loaded.blocks[0], len(loaded.blocks) - 1
        days = f", one sum for {first.first} to {first.last}" + (f" and {more} more" if more else "")
    elif loaded.first_day:
        days = f" on {loaded.days} {'day' if loaded.days == 1 else 'days'}, {loaded.first_day} to {loaded.last_day}"
    label = f" as {loaded.scope} ads" if loaded.scope != "all" else ""
    return (
        f"{KINDS[loaded.kind].title}{label}, {loaded.rows:,} rows{days}; "
        f"{loaded.rejected} rejected, {loaded.removed:,} replaced."
    )


def _import_one(
    store: Store,
    account: Account,
    path: Path,
    chosen: list[ColumnMap],
    *,
    scope: str | None,
    usual: str,
    confirmed: bool,
) -> tuple[Loaded, ...]:
    with progress_bar(path.name) as report:
        return intake.load(
            store,
            intake.LoadRequest(
                account,
                path,
                path.name,
                chosen,
                scope=scope,
                usual=usual,
                others=accounts.all_accounts(store),
                confirmed=confirmed,
            ),
            report,
        )


@click.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@FORMAT
@click.pass_obj
def batches(conf: config.Config, key: str, form: str) -> None:
    """List the loads of an account, newest first."""
    with wiring.running_store(conf) as store:
        found = loads.batches(store, wiring.account(store, key).id, limit=1_000)
    rows = [
        {
            "batch": b.id,
            "kind": b.kind,
            "scope": b.scope,
            "file": b.file_name,
            "from": b.first_day,
            "to": b.last_day,
            "rows": b.rows,
            "rejected": b.rejected,
            "replaced": b.removed,
            "loaded_at": b.loaded_at,
            "undone_at": b.undone_at,
        }
        for b in found
    ]
    output.show(rows, form)


@click.command("undo")
@click.argument("batch", type=int)
@click.option("--account", "key", required=True, help="Key of the account.")
@click.pass_obj
def undo_(conf: config.Config, batch: int, key: str) -> None:
    """
    Undo a load. `reef batches` lists the loads.

    Days that a newer batch has replaced since stay as they are and are named.
    """
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        with progress_bar(f"batch {batch}") as report:
            done = undo.undo(store, account.id, batch, report)
        trail.note(store, "undone", person_id=None, account_id=account.id, detail={"batch": batch})
    for undone in done:
        days = f", {undone.restored[0].first} to {undone.restored[-1].last}," if undone.restored else ""
        click.echo(f"{KINDS[undone.kind].title}: {len(undone.restored)} days or sums{days} are as they were.")
        if undone.left:
            named = ", ".join(
                str(span.last) if span.days == 1 else f"{span.first} to {span.last}" for span in undone.left
            )
            click.echo(f"  Left, as newer batches stand on them: {named}.")


@click.command("verify")
@click.option("--account", "key", help="Key of one account; all of them when left out.")
@FORMAT
@click.pass_obj
def verify_(conf: config.Config, key: str | None, form: str) -> None:
    """
    Check day files, day versions and loads against MariaDB's rows.

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
    """Rebuild the day files from MariaDB. They can always be deleted."""
    with wiring.running_store(conf) as store:
        for account in _chosen(store, key):
            with progress_bar(account.key) as report:
                for number, kind in enumerate(snapshots.KINDS):
                    report(number / len(snapshots.KINDS), KINDS[kind].title.lower())
                    days = snapshots.rebuild(store, account.id, kind)
                    click.echo(f"{account.key}: {KINDS[kind].title}, {days} days.")


@click.command("rows")
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option("--kind", type=click.Choice(list(KINDS)), required=True, help="Kind of report.")
@click.option("--from", "first", type=_DAY, required=True, help="First day.")
@click.option("--to", "last", type=_DAY, required=True, help="Last day.")
@click.option(
    "--format",
    "form",
    type=click.Choice(["csv", "json"]),
    default="csv",
    show_default=True,
    help="How rows are written.",
)
@click.pass_obj
def rows_(conf: config.Config, key: str, kind: str, first: datetime, last: datetime, form: str) -> None:
    """List the loaded rows of a report, each with its file."""
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        rows = row_frames.named_rows(Facts(store), account.id, kind, Window(first.date(), last.date()))
    if form == "json":
        click.echo(rows.write_json())
    else:
        for part in csv_lines(rows.columns, rows.iter_rows()):
            click.echo(part, nl=False)


def _chosen(store: Store, key: str | None) -> list[Account]:
    return [wiring.account(store, key)] if key else list(accounts.all_accounts(store))
