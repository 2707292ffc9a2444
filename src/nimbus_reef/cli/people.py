"""Commands about people and brand accounts."""

from __future__ import annotations

from typing import Any

import click

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import accounts, people
from nimbus_reef.store.record.engine import Store


@click.group()
def user() -> None:
    """Manage the people who may sign in."""


_ROLE = click.Choice([role.value for role in people.Role])
_ROLES_ARE = "Owners see all and manage people, analysts load and plan, viewers look."
_BRANDS_ARE = "A brand this person sees; may be given several times."


@user.command("add")
@click.argument("email")
@click.option("--name", default="", help="Shown on the page; the address when empty.")
@click.option("--role", type=_ROLE, help=_ROLES_ARE, default="analyst", show_default=True)
@click.option("--brand", "brands", multiple=True, help=_BRANDS_ARE)
@click.password_option(help=f"At least {people.SHORTEST_PASSWORD} characters; asked for when not given.")
@click.pass_obj
def user_add(conf: config.Config, email: str, name: str, role: str, brands: tuple[str, ...], password: str) -> None:
    """Add a person. One who is there already is changed by `set` and `password`."""
    with wiring.running_store(conf) as store:
        person = people.add(
            store, email=email, name=name or email, password=password, role=people.Role(role), brand_names=brands
        )
    click.echo(f"{person.email} may sign in as {person.role.value}.")


@user.command("list")
@click.pass_obj
def user_list(conf: config.Config) -> None:
    """List the people who are known."""
    with wiring.running_store(conf) as store:
        found, brands = people.everybody(store), dict(people.brands(store))
    for each in found:
        who = each.person
        sees = "every brand" if who.manages else ", ".join(sorted(brands[one] for one in who.brands)) or "no brand"
        state = "" if each.active else "  switched off"
        click.echo(f"{who.email}  {who.role.value}  {sees}{'  invited' if each.invited else ''}{state}")


def _known(store: Store, email: str) -> people.Listed:
    found = people.by_address(store, email)
    if found is None:
        raise NotFound(f"Nobody has the address {email}.", remedy="See `reef user list`.")
    return found


@user.command("set")
@click.argument("email")
@click.option("--role", type=_ROLE, help=f"{_ROLES_ARE} As it was when not given.")
@click.option("--brand", "brands", multiple=True, help=f"{_BRANDS_ARE} As they were when none is given.")
@click.option("--active/--off", default=None, help="Lets somebody in, or out.")
@click.pass_obj
def user_set(conf: config.Config, email: str, role: str | None, brands: tuple[str, ...], active: bool | None) -> None:
    """Change a person's role or brands, or switch them off; what is not given stays."""
    with wiring.running_store(conf) as store:
        who = _known(store, email).person
        ids = people.brand_ids(store, brands) if brands else sorted(who.brands)
        if role is not None or brands:
            people.set_rights(store, None, who.id, people.Role(role) if role else who.role, ids)
        if active is not None:
            people.switch(store, None, who.id, active=active)
    click.echo(f"{who.email} is changed.")


@user.command("password")
@click.argument("email")
@click.password_option(help=f"At least {people.SHORTEST_PASSWORD} characters; asked for when not given.")
@click.pass_obj
def user_password(conf: config.Config, email: str, password: str) -> None:
    """Give a person another password; their sessions end, nothing else changes."""
    with wiring.running_store(conf) as store:
        people.set_password(store, email, password)
    click.echo(f"{email} has another password.")


@user.command("link")
@click.argument("email", required=False)
@click.pass_obj
def user_link(conf: config.Config, email: str | None) -> None:
    """Print the address at which EMAIL chooses a password; without one, at which an empty installation is set up."""
    with wiring.running_store(conf) as store:
        if email is None:
            token = people.set_up_link(store)
            if token is None:
                raise Conflict("There is somebody already.", remedy="Name whom the link is for.")
            click.echo(f"/set-up/{token}")
            return
        click.echo(f"/invitation/{people.new_link(store, None, _known(store, email).person.id)}")


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
@click.option("--locale", default="en", show_default=True, help="How figures are written, such as en_GB or de_DE.")
@click.option("--target-acos", type=float, help="As a fraction, such as 0.28; 0.30 is assumed until one is set.")
@click.pass_obj
def account_add(conf: config.Config, /, key: str, **values: Any) -> None:
    """Add a brand account; KEY names it in links and commands."""
    with wiring.running_store(conf) as store:
        account = accounts.add(store, key=key, **values)
    click.echo(f"{account.key}: {account.brand}, {account.country}, {account.currency}.")
