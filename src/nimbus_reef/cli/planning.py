"""Commands on the plan: what is proposed, accepting it, taking it back."""

from __future__ import annotations

import click

from nimbus_reef import config
from nimbus_reef.analysis import acceptance
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys, proposals
from nimbus_reef.analysis.selection import Selection, asked
from nimbus_reef.analysis.wording import rise_words, why_nothing, worded
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.errors import Conflict, NotAllowed, NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import people, plans, target_acos
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

_ACCOUNT = click.option("--account", "key", required=True, help="Key of the account.")
_BY = click.option("--by", "email", default="", help="Address of the person who does it, an analyst or owner.")


def _look(facts: Facts, key: str, window: str) -> Selection:
    account = wiring.account(facts.store, key)
    selection = asked(facts, account, target_acos.aims(facts.store, account), window)
    if selection is None:
        raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
    return selection


def _person(store: Store, email: str, selection: Selection) -> int:
    return person_by_address(store, email, selection).id


def person_by_address(store: Store, email: str, selection: Selection) -> Person:
    """Who has an address, where they may change the plan of an account; NotFound or NotAllowed else."""
    found = people.by_address(store, email)
    if found is None or not found.active:
        raise NotFound(f"Nobody has the address {email}.", remedy="See `reef user list`, and say who with --by.")
    if not found.person.writes or not found.person.sees(selection.account.brand_id):
        raise NotAllowed(f"{email} may not change the plan of this account.", remedy="Name somebody who may.")
    return found.person


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
    """Show the proposals of a view, and add them to the plan with --accept."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(facts, key, window)
        figures = Figures(selection.account.locale, selection.account.currency)
        planned = [each.change for each in plans.planned(store, selection.account.id)]
        found = proposals(facts, selection, view, rows or all_keys(facts, selection, view), planned)
        if len(found) > 1:
            found = [each.advised() for each in found]
        assessed = acceptance.assess(facts, selection, found)
        if accept:
            click.echo(_accepted(facts, selection, email, assessed, figures, yes=yes))
            return
    refused = {assessed.acting[place].row_id: rise for place, rise in (assessed.acceptance.refused or {}).items()}
    shown = [(each, worded(each, figures)) for each in found if each.package or rows]
    output.show(
        [
            {
                "row": each.row_id,
                "on": text.name,
                "where": text.where,
                "proposal": text.headline,
                "changes": len(each.package),
                "spend": each.whole.spend.middle if each.package and each.whole.known else None,
                "sales": each.whole.sales.middle if each.package and each.whole.known else None,
                "why": text.reason if each.package else why_nothing(each),
                "refused": rise_words(refused[each.row_id], figures) if each.row_id in refused else "",
            }
            for each, text in shown
        ],
        form,
    )


def _accepted(
    facts: Facts, selection: Selection, email: str, assessed: acceptance.Assessed, figures: Figures, *, yes: bool
) -> str:
    who, settings = _person(facts.store, email, selection), selection.account.settings
    beyond = sum(each.is_beyond(settings.asks_raise, settings.asks_spend) for each in assessed.going)
    if (beyond or assessed.replaced_rows) and not yes:
        raise Conflict(
            f"{figures.counted(beyond, 'proposal')} above the limit in the settings, and"
            f" {figures.counted(len(assessed.replaced_rows), 'row')} of the plan that would leave: nothing was"
            " changed.",
            remedy="Look at them without --accept, then repeat with --yes.",
        )
    done = acceptance.accept(facts, selection, who, assessed.going, assessed.replaced_rows)
    refused = len(assessed.acceptance.refused or {})
    text = f"{figures.counted(len(done.planned), 'change')} added to the plan"
    return (
        f"{text}; {figures.counted(refused, 'proposal')} refused, since a click would cost more."
        if refused
        else f"{text}."
    )


@click.command("take-back")
@_ACCOUNT
@_BY
@click.option("--step", type=int, help="Number of a step; the person's newest acceptance when not given.")
@click.pass_obj
def take_back(conf: config.Config, key: str, email: str, step: int | None) -> None:
    """Undo an acceptance: its changes leave the plan, what it replaced returns."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(facts, key, "")
        touched = acceptance.undo(facts, selection, _person(store, email, selection), step)
    click.echo(f"{touched} {'change' if touched == 1 else 'changes'} as before.")
