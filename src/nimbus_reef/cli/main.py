"""
`reef`: serve, work, migrate, load, audit and export from the command line.

Exit codes: 0 done; 1 the input or the data does not allow it (the message says what to
do); 2 the command line cannot be understood; 3 a question needs a yes (--yes).
"""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Mapping
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.table import Table

from nimbus_reef import __version__, config
from nimbus_reef.cli import looking, record, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.core import evidence, windows
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.targeting import Aims
from nimbus_reef.errors import BadInput, NeedsYes, NotFound, ReefError
from nimbus_reef.formats import change_sheet
from nimbus_reef.jobs import audit as auditing
from nimbus_reef.store import accounts, aims, people, plans
from nimbus_reef.store.engine import Store
from nimbus_reef.store.facts import Facts

# Commands import what only they need: `reef --help` and `reef database` answer at once.
out = Console()
err = Console(stderr=True)


class Reef(click.Group):
    """Turns what a person can mend into one clear line and an exit code."""

    def invoke(self, ctx: click.Context) -> Any:
        """Runs the command."""
        try:
            return super().invoke(ctx)
        except NeedsYes as asked:
            err.print(f"[bold]{asked.message}[/]")
            for question in asked.questions:
                err.print(f"  • {question}")
            err.print("Run it again with --yes to go ahead.")
            ctx.exit(3)
        except ReefError as problem:
            err.print(str(problem), style="bold", markup=False)
            ctx.exit(1)


@click.group(cls=Reef, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="reef")
@click.pass_context
def cli(ctx: click.Context) -> None:
    """
    Audits sponsored ad campaigns: what costs much and converts little, how sure that
    is, and what to change.

    Start everything with `reef up`, or `reef up --demo` for two made-up brands. All
    settings are environment variables that begin with REEF_ (docs/settings.md).
    """
    ctx.obj = config.load()
    wiring.set_up_logging(ctx.obj.log_level)


@cli.command()
@click.option("--demo", is_flag=True, help="Load the demo brands when they are not there yet.")
@click.pass_obj
def up(conf: config.Config, demo: bool) -> None:
    """Start database, worker and web together; Ctrl-C stops them all."""
    from nimbus_reef.cli import serving

    serving.up(conf, with_demo=demo)


@cli.command()
@click.pass_obj
def database(conf: config.Config) -> None:
    """Run the private MariaDB in the foreground."""
    from nimbus_reef.cli import serving

    serving.run_database(conf)


@cli.command()
@click.option("--demo", is_flag=True, help="Also load the demo brands when they are not there yet.")
@click.pass_obj
def prepare(conf: config.Config, demo: bool) -> None:
    """Wait for the database and bring its tables up to date, before `reef serve`."""
    from nimbus_reef.cli import demo as demo_data
    from nimbus_reef.cli import serving

    serving.wait_for_database(conf)
    wiring.migrate(conf)
    store = wiring.open_store(conf)
    if demo and not demo_data.loaded(store):
        _load_demo(conf, store, seed=11, last_day=date.today() - timedelta(days=1))


@cli.command()
@click.pass_obj
def serve(conf: config.Config) -> None:
    """Run the web server in the foreground."""
    from nimbus_reef.cli import serving

    serving.serve(conf)


@cli.command()
@click.option("--wait", "wait_", is_flag=True, help="First wait until the database and its tables are there.")
@click.pass_obj
def worker(conf: config.Config, wait_: bool) -> None:
    """Do long work (loading files) until stopped."""
    from nimbus_reef.cli import serving

    if wait_:
        serving.wait_for_tables(conf)
    serving.work(conf)


@cli.command()
@click.pass_obj
def migrate(conf: config.Config) -> None:
    """Bring the database's tables up to date."""
    with wiring.running_store(conf):
        click.echo(f"The tables are at revision {wiring.migrate(conf)}.")


@cli.command()
@click.option("--seed", default=11, show_default=True, help="The same seed makes the same world.")
@click.option("--until", type=click.DateTime(["%Y-%m-%d"]), help="Last simulated day; yesterday by default.")
@click.option(
    "--size",
    type=click.Choice(["small", "large"]),
    default="small",
    show_default=True,
    help="large adds an account of about 3,000 campaigns, 60,000 targets, 6 million term rows over 90 days.",
)
@click.pass_obj
def demo(conf: config.Config, seed: int, until: Any, size: str) -> None:
    """Simulate two made-up brands and load their reports."""
    from nimbus_reef.cli import demo as demo_data

    last = until.date() if until else date.today() - timedelta(days=1)
    with wiring.running_store(conf) as store:
        _load_demo(conf, store, seed=seed, last_day=last)
        if size == "large":
            _load_large(conf, store, seed=seed, last_day=last)
    click.echo(f"Sign in as {demo_data.DEMO_EMAIL} with {demo_data.password(conf)}")


def _load_demo(conf: config.Config, store: Store, *, seed: int, last_day: date) -> None:
    from nimbus_reef.cli import demo as demo_data

    with Progress(TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=err) as bar:
        task = bar.add_task("Demo data", total=16)

        def step(message: str) -> None:
            bar.update(task, description=message, advance=1)

        demo_data.load(conf, store, seed=seed, last_day=last_day, step=step)
        bar.update(task, description="Demo data", completed=16)


def _load_large(conf: config.Config, store: Store, *, seed: int, last_day: date) -> None:
    from nimbus_reef.cli import large

    with Progress(TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=err) as bar:
        task = bar.add_task("Account at size", total=large.steps())
        large.load(
            conf, store, seed=seed, last_day=last_day,
            step=lambda message: bar.update(task, description=message, advance=1),
        )  # fmt: skip
        bar.update(task, description="Account at size", completed=large.steps())


@cli.group()
def user() -> None:
    """Manage the people who may sign in."""


@user.command("add")
@click.argument("email")
@click.option("--name", default="", help="Shown on the page; the address when empty.")
@click.option(
    "--role",
    type=click.Choice([role.value for role in people.Role]),
    help="Owners see all and manage people, analysts load and plan, viewers look.",
    default="analyst",
    show_default=True,
)
@click.option(
    "--brand", "brands", multiple=True, help="A brand this person sees; may be given several times."
)
@click.password_option(help=f"At least {people.SHORTEST_PASSWORD} characters; asked for when not given.")
@click.pass_obj
def user_add(
    conf: config.Config, email: str, name: str, role: str, brands: tuple[str, ...], password: str
) -> None:
    """Add a person, or change an existing one's name, role, brands and password."""
    with wiring.running_store(conf) as store:
        person = people.add(
            store, email=email, name=name or email, password=password, role=people.Role(role),
            brand_names=brands,
        )  # fmt: skip
    click.echo(f"{person.email} may sign in as {person.role.value}.")


@cli.group("account")
def account_group() -> None:
    """Manage brand accounts."""


@account_group.command("add")
@click.argument("key")
@click.option("--brand", "brand_name", required=True, help="The brand's name.")
@click.option("--marketplace", required=True, help="Where it sells.")
@click.option("--country", required=True, help="Two letters, such as DE.")
@click.option("--currency", required=True, help="Three letters, such as EUR.")
@click.option("--timezone", required=True, help="Such as Europe/Berlin; days are cut by it.")
@click.option(
    "--locale", default="en", show_default=True, help="How figures are written, such as en_GB or de_DE."
)
@click.option("--target-acos", type=float, required=True, help="As a fraction, such as 0.28.")
@click.pass_obj
def account_add(conf: config.Config, key: str, **values: Any) -> None:
    """Add a brand account; KEY names it in links and commands."""
    with wiring.running_store(conf) as store:
        made = accounts.add(store, key=key, **values)
    click.echo(f"{made.key}: {made.brand}, {made.country}, {made.currency}.")


@cli.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option(
    "--from", "first", type=click.DateTime(["%Y-%m-%d"]), help="First day; 30 mature days when left out."
)
@click.option("--to", "last", type=click.DateTime(["%Y-%m-%d"]), help="Last day.")
@click.option("--target-acos", type=float, help="As a fraction; the account's own when left out.")
@FORMAT
@click.pass_obj
def audit(conf: config.Config, key: str, first: Any, last: Any, target_acos: float | None, form: str) -> None:
    """Show which targets and search terms cost much and convert little, and how sure that is."""
    if (first is None) != (last is None):
        raise BadInput(
            "Only one end of the window was given.", remedy="Give both --from and --to, or neither."
        )
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        facts = Facts(store)
        newest = facts.newest_day(account.id)
        if newest is None:
            raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
        window = (
            windows.Window(first.date(), last.date())
            if first
            else windows.last_days(30, newest, account.maturing_days)
        )
        aims_in_force = Aims(target_acos) if target_acos is not None else aims.aims(store, account)
        done = auditing.run(facts, account, window, aims_in_force)
        {"table": _audit_table, "json": _audit_json, "csv": _audit_csv}[form](done)


_SHOWN = (
    "campaign",
    "ad_group",
    "target",
    "match_type",
    "term",
    "clicks",
    "orders",
    "verdict",
    "p_over",
    "needed_cvr",
)


def _finding_rows(done: auditing.Audit) -> list[dict[str, Any]]:
    rows = []
    for found in done.found():
        for row in found.rows.to_dicts():
            money = {name: from_micro(row[name]) for name in ("spend", "sales", "stake")}
            rows.append(
                {"check": found.check.key, **{n: row.get(n) for n in _SHOWN}, "acos": row["acos"], **money}
            )
    return rows


def _audit_table(done: auditing.Audit) -> None:
    out.print(
        f"[bold]{done.account.brand}, {done.account.country}[/]  {done.window.first} to {done.window.last}, "
        f"target ACOS {done.aims.account:.0%}, money in {done.account.currency}; at stake is per 30 days."
    )
    for found in done.found():
        share = f"{found.share_of_spend:.1%} of spend" if found.share_of_spend is not None else ""
        table = Table(
            title=f"{found.check.title}: {found.rows.height}, {from_micro(found.stake):,.0f} at stake, {share}",
            title_justify="left",
        )
        for name in ("what", "where", "at stake", "clicks", "orders", "spend", "ACOS", "verdict"):
            table.add_column(name, justify="left" if name in ("what", "where", "verdict") else "right")
        for row in found.rows.head(10).to_dicts():
            table.add_row(
                row.get("term") or row.get("target") or row["word"],
                f"{row['campaign']} · {row['ad_group']}" if "campaign" in row else f"in {row['word_terms']} terms",
                f"{from_micro(row['stake']):,.0f}", str(row["clicks"]), str(row["orders"]),
                f"{from_micro(row['spend']):,.0f}", _acos_of(row), _verdict_of(row),
            )  # fmt: skip
        out.print(table)


def _acos_of(row: Mapping[str, Any]) -> str:
    if "acos" not in row:
        return "–"
    return f"{row['acos']:.0%}" if row["acos"] is not None else "no sales"


def _verdict_of(row: Mapping[str, Any]) -> str:
    if "verdict" not in row:
        return str(row["fate"])
    cause = evidence.cause_of(row)
    return f"{row['verdict']}, {cause}" if cause else str(row["verdict"])


def _audit_json(done: auditing.Audit) -> None:
    summary = {
        "account": done.account.key, "from": done.window.first.isoformat(), "to": done.window.last.isoformat(),
        "target_acos": done.aims.account, "currency": done.account.currency,
        "checks": [
            {"check": f.check.key, "title": f.check.title, "rows": f.rows.height, "stake": from_micro(f.stake),
             "spend": from_micro(f.spend), "share_of_spend": f.share_of_spend, "share_of_sales": f.share_of_sales}
            for f in done.found()
        ],
        "rows": _finding_rows(done),
    }  # fmt: skip
    click.echo(json.dumps(summary, ensure_ascii=False, indent=1))


def _audit_csv(done: auditing.Audit) -> None:
    writer = csv.DictWriter(sys.stdout, ["check", *_SHOWN, "acos", "spend", "sales", "stake"])
    writer.writeheader()
    writer.writerows(_finding_rows(done))


@cli.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option(
    "--output",
    "-o",
    type=click.Path(dir_okay=False, path_type=Path),
    required=True,
    help="Ends in .csv or .xlsx.",
)
@click.pass_obj
def export(conf: config.Config, key: str, output: Path) -> None:
    """Write the plan of an account as a change sheet."""
    if output.suffix not in (".csv", ".xlsx"):
        raise BadInput(f"“{output.name}” ends in neither .csv nor .xlsx.", remedy="Name it so.")
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        changes = [each.change for each in plans.planned(store, account.id)]
    if output.suffix == ".csv":
        output.write_text("".join(change_sheet.as_csv(changes)), encoding="utf-8-sig", newline="")
    else:
        with output.open("wb") as file:
            change_sheet.as_xlsx(changes, file)
    click.echo(f"{output}: {len(changes)} changes.")


for command in (*record.COMMANDS, *looking.COMMANDS):
    cli.add_command(command)
