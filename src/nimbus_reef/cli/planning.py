"""Commands on the plan: what is proposed, accepting it, taking it back."""

from __future__ import annotations

import click

from nimbus_reef import config
from nimbus_reef.analysis import acceptance, own_actions
from nimbus_reef.analysis.look import Look, asked
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys, proposals
from nimbus_reef.analysis.wording import rise_words, why_nothing, worded
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.errors import Conflict, NotAllowed, NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import people, plans, target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

_ACCOUNT = click.option("--account", "key", required=True, help="Key of the account.")
_BY = click.option("--by", "email", default="", help="Address of the person who does it, an analyst or owner.")


def _look(facts: Facts, key: str, window: str) -> Look:
    account = wiring.account(facts.store, key)
    look = asked(facts, account, target_acos.aims(facts.store, account), window)
    if look is None:
        raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
    return look


def _person(store: Store, email: str, look: Look) -> int:
    found = people.by_address(store, email)
    if found is None or not found.active:
        raise NotFound(f"Nobody has the address {email}.", remedy="See `reef user list`, and say who with --by.")
    if not found.person.writes or not found.person.sees(look.account.brand_id):
        raise NotAllowed(f"{email} may not change the plan of this account.", remedy="Name somebody who may.")
    return found.person.id


@click.command()
@_ACCOUNT
@click.option("--view", type=click.Choice(sorted(PROPOSERS)), required=True, help="The rows that are asked about.")
@click.option("--row", "rows", multiple=True, help="Key of a row, as this command lists it; all rows when not given.")
@click.option("--window", default="", metavar="DAYS", help="last-30, a month, or 2026-09-17..2026-10-16.")
@click.option("--accept", is_flag=True, help="Put what is proposed into the plan.")
@click.option("--yes", is_flag=True, help="Replace what it contradicts in the plan, and pass what settings ask about.")
@_BY
@FORMAT
@click.pass_obj
def propose(
    conf: config.Config,
    key: str,
    view: str,
    rows: tuple[str, ...],
    window: str,
    accept: bool,
    yes: bool,
    email: str,
    form: str,
) -> None:
    """Show what is proposed on the rows of a view, and put it into the plan with --accept."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        look = _look(facts, key, window)
        figures = Figures(look.account.locale, look.account.currency)
        planned = [each.change for each in plans.planned(store, look.account.id)]
        found = proposals(facts, look, view, rows or all_keys(facts, look, view), planned)
        if len(found) > 1:
            found = own_actions.without_raises_of_nothing([each.advised() for each in found])
        assessed = acceptance.assess(facts, look, found)
        if accept:
            click.echo(_accepted(facts, look, email, assessed, figures, yes=yes))
            return
    refused = {assessed.acting[place].row_id: rise for place, rise in (assessed.told.refused or {}).items()}
    shown = [(each, worded(each, figures)) for each in found if each.package or rows]
    output.show(
        [
            {
                "row": each.row_id,
                "on": said.name,
                "where": said.where,
                "proposal": said.headline,
                "changes": len(each.package),
                "spend": each.whole.spend.middle if each.package and each.whole.known else None,
                "sales": each.whole.sales.middle if each.package and each.whole.known else None,
                "why": said.reason if each.package else why_nothing(each),
                "refused": rise_words(refused[each.row_id], figures) if each.row_id in refused else "",
            }
            for each, said in shown
        ],
        form,
    )


def _accepted(
    facts: Facts, look: Look, email: str, assessed: acceptance.Assessed, figures: Figures, *, yes: bool
) -> str:
    who, settings = _person(facts.store, email, look), look.account.settings
    beyond = sum(each.is_beyond(settings.asks_raise, settings.asks_spend) for each in assessed.going)
    if (beyond or assessed.replaced_rows) and not yes:
        raise Conflict(
            f"{figures.counted(beyond, 'proposal')} beyond what the settings allow without asking, and"
            f" {figures.counted(len(assessed.replaced_rows), 'row')} of the plan that would leave: nothing was"
            " changed.",
            remedy="Look at them without --accept, then repeat with --yes.",
        )
    done = acceptance.accept(facts, look, who, assessed.going, assessed.replaced_rows)
    refused = len(assessed.told.refused or {})
    said = f"{figures.counted(len(done.planned), 'change')} added to the plan"
    return (
        f"{said}; {figures.counted(refused, 'proposal')} refused, since a click would cost more."
        if refused
        else f"{said}."
    )


@click.command("take-back")
@_ACCOUNT
@_BY
@click.option("--step", type=int, help="Number of a step; the person's newest acceptance when not given.")
@click.pass_obj
def take_back(conf: config.Config, key: str, email: str, step: int | None) -> None:
    """Undo an acceptance: what went into the plan leaves it, what it had replaced comes back."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        look = _look(facts, key, "")
        touched = acceptance.undo(facts, look, _person(store, email, look), step)
    click.echo(f"{touched} {'change' if touched == 1 else 'changes'} as before.")
