"""Commands beyond the plan: sending it to the marketplace, and what came of what was sent."""

from __future__ import annotations

import time
import uuid

import click

from nimbus_reef import config
from nimbus_reef.analysis import leaving, sending_check
from nimbus_reef.analysis.outcome import by_hand, judged, listed
from nimbus_reef.analysis.selection import Selection, asked
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.cli.planning import person_by_address
from nimbus_reef.core.changes import ChangeState
from nimbus_reef.errors import NotAllowed, NotFound
from nimbus_reef.formats import change_sheet
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs import marketplaces
from nimbus_reef.jobs.queue import ask_marketplace, make_queue
from nimbus_reef.store.people import sendings, target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import workers

_ACCOUNT = click.option("--account", "key", required=True, help="Key of the account.")
_WAITED = 300.0
_OUTCOMES = {
    "changes": lambda facts, selection: listed.table(listed.rows(judged.outcomes(facts, selection))),
    "sheets": lambda facts, selection: listed.sums_table(judged.outcomes(facts, selection)),
    "by-hand": lambda facts, selection: by_hand.table(by_hand.rows(facts, selection)),
}


def _look(facts: Facts, key: str) -> Selection:
    account = wiring.account(facts.store, key)
    selection = asked(facts, account, target_acos.aims(facts.store, account), "")
    if selection is None:
        raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
    return selection


@click.command()
@_ACCOUNT
@click.option("--what", type=click.Choice(list(_OUTCOMES)), default="changes", show_default=True, help="Which table.")
@FORMAT
@click.pass_obj
def outcome(conf: config.Config, key: str, what: str, form: str) -> None:
    """Show what carried-out changes promised and what came of them."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        output.show(_OUTCOMES[what](facts, _look(facts, key)).rows.to_dicts(), form)


@click.command()
@_ACCOUNT
@click.option("--by", "email", required=True, help="Address of the person who sends it, who has the right to.")
@click.option("--reason", default="", help="Why it is sent beyond a limit of the settings.")
@click.option("--over", is_flag=True, help="Overwrite what others changed at the marketplace meanwhile.")
@click.pass_obj
def send(conf: config.Config, key: str, email: str, reason: str, over: bool) -> None:
    """Send the plan to the account's marketplace, and wait for its answers."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(facts, key)
        account = selection.account
        who = person_by_address(store, email, selection)
        if not who.may_send:
            raise NotAllowed(
                f"{email} may plan changes, but not send them.", remedy="Ask an owner for the right to send."
            )
        going = leaving.chosen(facts, account.id, ())
        with marketplaces.connected(conf, store, account.id) as there:
            held = there.held([change_sheet.as_row(each.change) for each in going]) if going else {}
        differs = sending_check.differences(going, held)
        taken = frozenset(each.planned.id for each in differs) if over else frozenset()
        request = leaving.Leaving((), held, taken, reason.strip(), uuid.uuid4().hex)
        figures = Figures(account.locale, account.currency)
        number = leaving.hand_over(facts, selection, who, request, figures)
        # Where no worker runs, this process does what one would.
        ask_marketplace(store, make_queue(conf, store, immediate=not workers.present(store)), account.id)
        end = time.monotonic() + _WAITED
        while sendings.one(store, account.id, number).open and time.monotonic() < end:
            time.sleep(0.5)
        results = sendings.changes_of(store, number)
        left = len(differs) - len(taken)
        for each in results:
            if each.result is ChangeState.FAILED:
                click.echo(f"row {each.change.row}: {each.said}")
        states = (ChangeState.DONE, ChangeState.FAILED, ChangeState.SENT)
        done, failed, open_ = (sum(each.result is state for each in results) for state in states)
        click.echo(f"Sheet {number}: {done} done, {failed} failed, {open_} without an answer yet.")
        if left:
            click.echo(
                f"{figures.counted(left, 'change')} stayed in the plan: the marketplace holds another value by now."
            )
