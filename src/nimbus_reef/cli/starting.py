"""Commands that start and prepare the application: everything together, or each of its processes."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date, timedelta
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.store.record.engine import Store

# Each imports what only it needs: `reef database` answers at once.
_ERR = Console(stderr=True)


@click.command()
@click.option("--demo", is_flag=True, help="Load the demo brands when they are not there yet.")
@click.pass_obj
def up(conf: config.Config, demo: bool) -> None:
    """Start database, worker and web together; Ctrl-C stops them all."""
    from nimbus_reef.cli import serving

    serving.up(conf, with_demo=demo)


@click.command()
@click.pass_obj
def database(conf: config.Config) -> None:
    """Run the private MariaDB in the foreground."""
    from nimbus_reef.cli import serving

    serving.run_database(conf)


@click.command()
@click.option("--demo", is_flag=True, help="Also load the demo brands when they are not there yet.")
@click.pass_obj
def prepare(conf: config.Config, demo: bool) -> None:
    """Wait for the database and bring its tables up to date, before `reef serve`."""
    from nimbus_reef.cli import demo as demo_data
    from nimbus_reef.cli import serving
    from nimbus_reef.jobs import demo_brands

    serving.wait_for_database(conf)
    wiring.migrate(conf)
    store = wiring.open_store(conf)
    if demo and not demo_data.loaded(store):
        _load_demo(conf, store, seed=11, last_day=date.today() - timedelta(days=1))
    demo_brands.find_market(conf, store)


@click.command()
@click.option("--debug", is_flag=True, help="One process with Flask's debugger, begun anew when a file changes.")
@click.pass_obj
def serve(conf: config.Config, debug: bool) -> None:
    """Run the web server in the foreground."""
    from nimbus_reef.cli import serving

    (serving.debug if debug else serving.serve)(conf)


@click.command()
@click.option("--wait", "wait_", is_flag=True, help="First wait until the database and its tables are there.")
@click.pass_obj
def worker(conf: config.Config, wait_: bool) -> None:
    """Do long work (loading files) until stopped."""
    from nimbus_reef.cli import serving

    if wait_:
        serving.wait_for_tables(conf)
    serving.work(conf)


@click.command()
@click.pass_obj
def migrate(conf: config.Config) -> None:
    """Bring the database's tables up to date."""
    with wiring.running_store(conf):
        click.echo(f"The tables are at revision {wiring.migrate(conf)}.")


@click.command()
@click.option("--seed", default=11, show_default=True, help="The same seed makes the same world.")
@click.option("--until", type=click.DateTime(["%Y-%m-%d"]), help="Last simulated day; yesterday by default.")
@click.option(
    "--size",
    type=click.Choice(["small", "large", "huge"]),
    default="small",
    show_default=True,
    help=(
        "large adds an account of about 3,000 campaigns, 60,000 targets, 6 million term rows over 90 days; huge one of"
        " eight times that (an hour to make)."
    ),
)
@click.pass_obj
def demo(conf: config.Config, seed: int, until: Any, size: str) -> None:
    """Simulate two made-up brands and load their reports."""
    from nimbus_reef.cli import demo as demo_data

    last = until.date() if until else date.today() - timedelta(days=1)
    with wiring.running_store(conf) as store:
        _load_demo(conf, store, seed=seed, last_day=last)
        if size != "small":
            _load_at_size(conf, store, size, seed=seed, last_day=last)
    click.echo(f"Sign in as {demo_data.DEMO_EMAIL} with {demo_data.password(conf)}")


def _load_demo(conf: config.Config, store: Store, *, seed: int, last_day: date) -> None:
    from nimbus_reef.cli import demo as demo_data

    with _steps("Demo data", total=16) as step:
        demo_data.load(conf, store, seed=seed, last_day=last_day, step=step)


def _load_at_size(conf: config.Config, store: Store, name: str, *, seed: int, last_day: date) -> None:
    from nimbus_reef.cli import large

    size = large.SIZES[name]
    with _steps("Account at size", total=large.steps(size)) as step:
        large.load(conf, store, seed=seed, last_day=last_day, step=step, size=size)


@contextmanager
def _steps(title: str, total: int) -> Iterator[Callable[[str], None]]:
    """Shows how far long work is: a bar at a terminal, a line each in a log."""
    if not _ERR.is_terminal:
        yield _ERR.print
        return
    with Progress(TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=_ERR) as bar:
        task = bar.add_task(title, total=total)
        yield lambda message: bar.update(task, description=message, advance=1)
        bar.update(task, description=title, completed=total)
