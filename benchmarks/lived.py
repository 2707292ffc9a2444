"""An account whose proposals are accepted, sent, answered and lived with: by the product's own ways, without a network."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import Final

from nimbus_reef.analysis import acceptance
from nimbus_reef.analysis import proposals as offers
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.windows import Window
from nimbus_reef.formats import change_sheet
from nimbus_reef.jobs import intake
from nimbus_reef.sim import reports
from nimbus_reef.sim.account import MarketAccount, opened
from nimbus_reef.sim.vocabulary import BrandSpec
from nimbus_reef.store.people import people, plans, sendings, target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.sendings import RowAnswer
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

FIRST_KINDS: Final = (
    *("catalog", "campaigns", "ad_groups", "targets", "product_ads", "target_daily", "search_term_daily"),
    *("product_ad_daily", "campaign_daily", "placement_daily", "hourly", "boosts", "changes"),
)
LATER_KINDS: Final = (
    *("campaigns", "targets", "target_daily", "search_term_daily", "product_ad_daily", "campaign_daily"),
    *("placement_daily", "hourly"),
)


@dataclass
class Lived:
    """An account on the marketplace and in the record, and where its reports are written."""

    store: Store
    account: Account
    own: MarketAccount
    folder: Path
    person_id: int

    @property
    def facts(self) -> Facts:
        """The record, read anew."""
        return Facts(self.store)

    def selection(self) -> Selection:
        """The newest mature month."""
        end = self.own.today - timedelta(days=1 + self.account.maturing_days)
        aims = target_acos.aims(self.store, self.account)
        return Selection(self.account, Window(end - timedelta(days=29), end), aims)

    def load(self, kinds: Sequence[str], days: int) -> None:
        """Loads the reports of the newest days, as they are known today."""
        last = self.own.today - timedelta(days=1)
        frames = {kind: self.own.report(kind, last - timedelta(days=days - 1), last) for kind in kinds}
        written = reports.write({kind: each for kind, each in frames.items() if len(each)}, self.folder)
        for kind, path in written.items():
            intake.take(self.store, self.account, path, path.name, kind, today=self.own.today)
            path.unlink()

    def propose(self, view: str) -> list[Proposal]:
        """All that is proposed on the rows of a view."""
        facts, selection = self.facts, self.selection()
        found = offers.proposals(facts, selection, view, offers.all_keys(facts, selection, view))
        return [each.advised() for each in found if each.package]

    def accept(self, proposals: Sequence[Proposal]) -> None:
        """Accepts proposals into the plan, those that may be."""
        facts, selection = self.facts, self.selection()
        going = acceptance.assess(facts, selection, proposals).going
        acceptance.accept(facts, selection, self.person_id, going)

    def send(self) -> int:
        """Sends the whole plan and notes every answer; the number of the sending."""
        planned = plans.planned(self.store, self.account.id)
        key = f"sent on {self.own.today} with {len(planned)} changes"
        number = sendings.hand_over(self.store, self.account.id, self.person_id, planned, key)
        sendings.leave(self.store, number)
        rows = [change_sheet.as_row(each.change) for each in planned]
        said = self.own.take(rows, f"{self.own.today}T08:00:00Z", "test")
        sendings.note_receipt(self.store, number, "1", self.own.today)
        answers = [
            RowAnswer(each.change.row, told.status == "applied", told.code, told.message)
            for each, told in zip(planned, said, strict=True)
        ]
        sendings.note_answers(self.store, self.account.id, self.person_id, number, answers, last=True)
        # What failed is taken out: the next sheet is another audit's.
        left = [each.id for each in plans.planned(self.store, self.account.id)]
        if left:
            plans.remove_many(self.store, self.account.id, self.person_id, left)
        return number

    def live(self, days: int) -> None:
        """Lets days pass, and loads their reports with those that matured meanwhile."""
        self.own.pass_days(days)
        self.load(LATER_KINDS, days + self.account.maturing_days)


def begun(store: Store, account: Account, spec: BrandSpec, seed: int, days: int, last_day: date, folder: Path) -> Lived:
    """An account with its history loaded."""
    own = opened(spec, seed, days, last_day)
    who = people.by_address(store, "auditor@example.com")
    person = (
        who.person
        if who
        else people.add(
            store, email="auditor@example.com", name="Auditor", password="a long password", role=people.Role.OWNER
        )
    )
    lived = Lived(store, account, own, folder, person.id)
    lived.load(FIRST_KINDS, days)
    return lived
