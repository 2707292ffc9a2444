"""What all rows of a table that match its filters come to."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.params import Scope
from nimbus_reef.web.targeting.pages import Summed


def summed(facts: Facts, view: View, scope: Scope, rows: pl.DataFrame) -> Summed:
    """
    What all rows that match the scope and its filters come to, now and in the comparison period.

    Kept, so that the next page and another order cost nothing.
    """
    account, against, selection = scope.account, scope.against, scope.selection

    def make() -> Summed:
        by = "excess" if scope.judge == "simple" else "stake"
        counted = pl.col(by) if scope.judge == "simple" else pl.col(by).filter(flagged())
        spend, sales, stake = rows.select(pl.col("spend", "sales").sum(), counted.sum().alias("at stake")).row(0)
        then = None if against is None or not view.adds_up else _money(facts, view, account, against, rows)
        return Summed(int(spend), int(sales), int(stake), then)

    asked = (view.name, *selection.judging, against, selection.part, scope.judge, scope.where, scope.query)
    return facts.kept("summed", account.id, make, *asked)


def _money(facts: Facts, view: View, account: Account, window: Window, rows: pl.DataFrame) -> tuple[int, int]:
    """Spend and sales of the same rows in other days."""
    if view.subject is Subject.TARGET:
        then, keys = target_frames.target_sums(facts, account.id, window), ["target_id"]
    else:
        then, keys = target_frames.term_sums(facts, account.id, window), ["ad_group_id", "normal_id"]
    same = then.join(rows.select(keys), on=keys, how="semi")
    spend, sales = same.select(pl.col("spend", "sales").sum()).row(0)
    return int(spend), int(sales)
