"""
`reef`: serve, work, migrate, load, audit and export from the command line.

Exit codes: 0 done; 1 the input or the data does not allow it (the message says what to
do); 2 the command line cannot be understood; 3 a question needs a yes (--yes).
"""

from __future__ import annotations

import os
from importlib import import_module
from typing import Any, Final

import click

from nimbus_reef import __version__, config
from nimbus_reef.errors import NeedsYes, ReefError

COMMANDS: Final = {
    "account": ("people", "account_group", "Manage brand accounts."),
    "audit": ("auditing", "audit", "Show targets and search terms above target, and how sure that is."),
    "backup": ("backups", "write", "Write a backup of the installation into one file while it runs."),
    "batches": ("record", "batches", "List the loads of an account, newest first."),
    "catalog": (
        "looking",
        "catalog",
        "Show families, product ads, eligibility, gaps, listings, or duplicate keywords.",
    ),
    "close": ("looking", "close", "Close an audit. The next one shows what is new, back and gone."),
    "coverage": (
        "looking",
        "coverage",
        "Show which days of each report are loaded, maturing, loaded too early or missing.",
    ),
    "database": ("starting", "database", "Run the private MariaDB in the foreground."),
    "delivery": (
        "looking",
        "delivery",
        "Show placements, hours or budgets: spend, sales, days out of budget and the proposal.",
    ),
    "demo": ("starting", "demo", "Simulate two made-up brands and load their reports."),
    "export": ("auditing", "export", "Write the plan of an account as a change sheet."),
    "findings": ("looking", "findings", "Show the findings of an account, largest first, without snoozed ones."),
    "market": ("market", "market", "Run the simulated marketplace in the foreground, on loopback."),
    "import": ("record", "import_", "Load report files (CSV, XLSX, Parquet) into an account."),
    "migrate": ("starting", "migrate", "Bring the database's tables up to date."),
    "movement": ("looking", "movement", "Show what moved spend, sales and ACOS, with the effect on profit."),
    "outcome": ("sending", "outcome", "Show what carried-out changes promised and what came of them."),
    "plan": ("looking", "plan", "Show the planned changes of an account. `reef export` writes the sheet."),
    "prepare": ("starting", "prepare", "Wait for the database and bring its tables up to date, before `reef serve`."),
    "propose": ("planning", "propose", "Show the proposals of a view, and add them to the plan with --accept."),
    "pulse": ("looking", "pulse", "Show every account: spend, sales, ACOS, TACOS, against the days before."),
    "reach": ("looking", "reach", "Show phrases that were never bought: which would pay, at which bid."),
    "rebuild-snapshots": (
        "record",
        "rebuild_snapshots",
        "Rebuild the day files from MariaDB. They can always be deleted.",
    ),
    "report": ("report", "report", "Write the client's report of an account as a PDF or a page."),
    "restore": ("backups", "put_back", "Restore a backup and check it. Stop the web server and the worker first."),
    "rows": ("record", "rows_", "List the loaded rows of a report, each with its file."),
    "send": ("sending", "send", "Send the plan to the account's marketplace, and wait for its answers."),
    "serve": ("starting", "serve", "Run the web server in the foreground."),
    "standing": ("looking", "standing", "Show the percentile of metrics among category peers."),
    "table": ("looking", "table", "Write the rows of a table, filtered and sorted as on its page."),
    "take-back": ("planning", "take_back", "Undo an acceptance: its changes leave the plan, what it replaced returns."),
    "undo": ("record", "undo_", "Undo a load. `reef batches` lists the loads."),
    "up": ("starting", "up", "Start database, worker and web together; Ctrl-C stops them all."),
    "user": ("people", "user", "Manage the people who may sign in."),
    "verify": ("record", "verify_", "Check day files, day versions and loads against MariaDB's rows."),
    "worker": ("starting", "worker", "Do long work (loading files) until stopped."),
}
"""
Name → module, the command in it, and its help in a line. A command's module is imported when it runs: `reef --help`
answers at once.
"""


class Reef(click.Group):
    """
    Imports commands when they are asked for, and turns what a person can mend into one clear line
    and an exit code.
    """

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002  # as click asks
        """All of them, by name."""
        return sorted(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        """The command of a name; None where there is none."""
        if cmd_name not in COMMANDS:
            return None
        module, attribute, _ = COMMANDS[cmd_name]
        found: click.Command = getattr(import_module(f"nimbus_reef.cli.{module}"), attribute)
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The commands with their help, none of them imported."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, COMMANDS[name][2]) for name in self.list_commands(ctx)])

    def invoke(self, ctx: click.Context) -> Any:
        """Runs the command."""
        try:
            return super().invoke(ctx)
        except NeedsYes as asked:
            click.secho(asked.message, bold=True, err=True)
            for question in asked.questions:
                click.echo(f"  • {question}", err=True)
            click.echo("Run it again with --yes to go ahead.", err=True)
            ctx.exit(3)
        except ReefError as problem:
            click.secho(str(problem), bold=True, err=True)
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
    from nimbus_reef.cli import wiring

    # What the application writes is its own: reports, exports, keys.
    os.umask(0o077)
    ctx.obj = config.load()
    wiring.set_up_logging(ctx.obj.log_level)
