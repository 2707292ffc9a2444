"""The simulated marketplace: its process, and letting its days pass."""

from __future__ import annotations

import time
from typing import Any

import click

from nimbus_reef import config

_LOOKS_EVERY = 2.0
_THREADS = 16


@click.group(invoke_without_command=True)
@click.option("--wait", "wait_", is_flag=True, help="Wait until the demo has made its accounts.")
@click.pass_context
def market(context: click.Context, wait_: bool) -> None:
    """Run the simulated marketplace in the foreground, on loopback."""
    if context.invoked_subcommand is None:
        _serve(context.obj, wait_=wait_)


def _serve(conf: config.Config, *, wait_: bool) -> None:
    file = conf.market / "market.db"
    # What waits is small: the world is imported once there is one.
    while wait_ and not file.exists():
        time.sleep(_LOOKS_EVERY)
    from nimbus_reef.cli.gunicorn import Gunicorn

    def make() -> Any:
        from nimbus_reef.market.accounts import MarketAccounts
        from nimbus_reef.market.app import make_app
        from nimbus_reef.market.record import Record

        return make_app(MarketAccounts(Record(file)))

    options: dict[str, Any] = {
        "bind": f"127.0.0.1:{conf.market_port}",
        # One process: its accounts live in memory, and every change of one is behind one lock.
        "workers": 1,
        "worker_class": "gthread",
        "threads": _THREADS,
        "timeout": 120,
        "graceful_timeout": 3,
        "control_socket_disable": True,
        "loglevel": "warning",
    }
    Gunicorn(make, options).run()


@market.command("pass")
@click.argument("days", type=click.IntRange(1, 120))
@click.option("--account", "key", required=True, help="Key of the account.")
@click.pass_obj
def pass_days(conf: config.Config, days: int, key: str) -> None:
    """Let simulated days pass for an account; its reports come with the next minute."""
    from nimbus_reef.cli import wiring
    from nimbus_reef.jobs import marketplaces
    from nimbus_reef.store.people import marketplace_links

    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        with marketplaces.connected(conf, store, account.id) as there:
            today = there.pass_days(days)
        marketplace_links.hurry(store, account.id)
    click.echo(f"It is {today} there now. Reports come by themselves.")
