"""Commands about people and brand accounts."""

from __future__ import annotations

from typing import Any

import click

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.store.people import accounts, people


@click.group()
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


@click.group("account")
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
def account_add(conf: config.Config, /, key: str, **values: Any) -> None:
    """Add a brand account; KEY names it in links and commands."""
    with wiring.running_store(conf) as store:
        made = accounts.add(store, key=key, **values)
    click.echo(f"{made.key}: {made.brand}, {made.country}, {made.currency}.")
