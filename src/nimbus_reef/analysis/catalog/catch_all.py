"""The catch-all: which products it holds, what its bid is likely to bring, and its rows of the change sheet."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import gaps
from nimbus_reef.analysis.judged_proposals import history
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise, spread
from nimbus_reef.core import catch_all as rules
from nimbus_reef.core.catch_all import Expected
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.projection import UNKNOWN, Projected, Range
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import MONTH_DAYS, Window
from nimbus_reef.store.reading import product_frames, target_frames
from nimbus_reef.store.reading.facts import Asked, Facts

CHECK: Final = "catch-all"
_CLICKS, _DAYS = "usual clicks", "cheap clicks"


@dataclass(frozen=True, slots=True)
class CatchAll:
    """
    A catch-all as it would be built. products: sku, title of those it holds; skipped: SKUs left out by hand; bid,
    budget in units;
    lowest: the bid that the account's own clicks suggest; expected: None where there are no clicks this cheap.
    """

    name: str
    products: pl.DataFrame
    skipped: tuple[str, ...]
    bid: float
    budget: float
    lowest: float
    expected: Expected | None
    fits_at: float | None


def built(
    facts: Facts, selection: Selection, *, bid: float | None, budget: float | None, without: Sequence[str], name: str
) -> CatchAll:
    """The catch-all for all eligible products but some; bid and budget as typed, else the suggested. Kept."""
    key = (*selection.judging, selection.part, bid, budget, tuple(without), name)
    return facts.kept(
        "catch-all", selection.account.id, lambda: _built(facts, selection, bid, budget, without, name), *key
    )


def _built(
    facts: Facts, selection: Selection, bid: float | None, budget: float | None, without: Sequence[str], name: str
) -> CatchAll:
    eligible = gaps.products(facts, selection).filter(pl.col("eligible")).select("sku", "title")
    rows = eligible.filter(~pl.col("sku").is_in(list(without)))
    lowest, account, sku_days = usual_clicks(facts, selection)
    # Afterwards: whoever works out the usual clicks has put the days on the disk cache beside them.
    days = target_days(facts, selection)
    chosen = bid if bid is not None else lowest
    found = rules.expected(days, account, sku_days, len(rows), chosen)
    suggested = max(1.0, round(found.spend / MONTH_DAYS * 2)) if found else 5.0
    skipped = tuple(sku for sku in without if sku in set(eligible["sku"]))
    fits = None if found is None or found.acos is None else chosen * selection.aims.account / found.acos
    return CatchAll(name, rows, skipped, chosen, budget if budget is not None else suggested, lowest, found, fits)


def usual_clicks(facts: Facts, selection: Selection) -> tuple[float, tuple[int, int, float], int]:
    """
    What a quarter's cheap clicks cost and bring, of the account and of its products: what a
    catch-all is expected by.
    """

    def make() -> tuple[float, tuple[int, int, float], int]:
        days = target_days(facts, selection)
        return _usual_low(days), _account(days), _sku_days(facts, selection)

    return facts.kept(
        _CLICKS, selection.account.id, make, *selection.judging, asked=_by_helper(facts, selection, _CLICKS)
    )


def is_told(facts: Facts, selection: Selection) -> bool:
    """Whether `usual_clicks` are worked out already."""
    return facts.known(_CLICKS, selection.account.id, *selection.judging) is not None


def reads(facts: Facts, selection: Selection) -> list[tuple[str, Window]]:
    """What they are worked out from: the reports and their days."""
    quarter = _quarter(selection)
    return [(facts.target_source(selection.account.id, quarter).kind, quarter)]


def target_days(facts: Facts, selection: Selection) -> pl.DataFrame:
    """clicks, orders, spend, sales of every target and day of 90 days."""

    def make() -> pl.DataFrame:
        return target_frames.clicked_days(facts, selection.account.id, _quarter(selection))

    return facts.kept(
        _DAYS, selection.account.id, make, selection.window.last, asked=_by_helper(facts, selection, _DAYS)
    )


def _by_helper(facts: Facts, selection: Selection, what: str) -> Callable[[], Asked | None]:
    """A quarter of many targets is read by another process: it takes much memory for a moment."""

    def asked() -> Asked | None:
        ((kind, quarter),) = reads(facts, selection)
        return (what, (selection,)) if facts.holds_many(selection.account.id, kind, quarter) else None

    return asked


def _quarter(selection: Selection) -> Window:
    last = selection.window.last
    return Window(history(selection).shifted(history(selection).days - rules.HISTORY_DAYS).first, last)


def _account(days: pl.DataFrame) -> tuple[int, int, float]:
    orders = int(days.select(pl.min_horizontal("orders", "clicks").sum()).item()) if len(days) else 0
    return int(days["clicks"].sum()), orders, float(days["sales"].sum()) / MICRO


def _sku_days(facts: Facts, selection: Selection) -> int:
    """Pairs of SKU and day on which its ads were shown, of eligible ones; of the whole account, as the clicks are."""
    eligible = gaps.products(facts, selection.whole).filter(pl.col("eligible")).select("product_id")
    shown = product_frames.shown_days(facts, selection.account.id, _quarter(selection))
    return len(shown.join(eligible, on="product_id", how="semi"))


def _usual_low(days: pl.DataFrame) -> float:
    """A bid that a tenth of the account's click prices lie below, at least 2 cents."""
    if days.is_empty():
        return 0.1
    price = days.select((pl.col("spend") / pl.col("clicks")).quantile(0.1)).item()
    return max(0.02, round((price or 0) / MICRO, 2))


def proposal(facts: Facts, selection: Selection, catch_all: CatchAll) -> Proposal:
    """One campaign, an ad group and an ad for each product: all of it promised by the campaign's row. Kept."""
    key = (selection, catch_all.name, catch_all.bid, catch_all.budget, catch_all.skipped)
    return facts.kept("catch-all proposal", selection.account.id, lambda: _proposal(selection, catch_all), *key)


def _proposal(selection: Selection, catch_all: CatchAll) -> Proposal:
    subject = EntityKey(Subject.CAMPAIGN, catch_all.name)
    if catch_all.products.is_empty():
        why = Reason(ReasonKey.NO_PRODUCT_LEFT if catch_all.skipped else ReasonKey.CATALOG_UNTOLD)
        return Proposal(subject, catch_all.name, Headline(HeadlineKey.NOTHING), reasons=(why,))

    def row(entity: Entity, field: str, value: str, **of: str) -> Change:
        return change(entity, field, catch_all.name, value, "", CHECK, Action.CREATE, **of)

    rows = [row(Entity.CAMPAIGN, "daily_budget", f"{catch_all.budget:.2f}"), row(Entity.CAMPAIGN, "targeting", "auto")]
    for sku in catch_all.products["sku"]:
        rows.append(row(Entity.AD_GROUP, "default_bid", f"{catch_all.bid:.2f}", ad_group=sku))
        rows.append(row(Entity.PRODUCT_AD, "state", "enabled", ad_group=sku, sku=sku))
    found = catch_all.expected
    effect = UNKNOWN
    if found is not None:
        cap = min(1.0, catch_all.budget * MONTH_DAYS / found.spend) if found.spend else 1.0
        spend, sales = found.spend * cap, found.sales * cap
        effect = Projected(Range(0, spend, spend * 2), Range(0, sales, sales * 2))
    return Proposal(
        subject,
        catch_all.name,
        Headline(HeadlineKey.CATCH_ALL, (len(catch_all.products),)),
        spread(rows, promise(selection, NO_BASIS, "catch-all", catch_all.name, effect)),
        _why(selection, catch_all),
        effect=effect,
    )


def _why(selection: Selection, catch_all: CatchAll) -> tuple[Reason, ...]:
    found = catch_all.expected
    if found is None:
        return (Reason(ReasonKey.UNKNOWN_RETURN),)
    reasons = [
        Reason(ReasonKey.CHEAP_CLICKS, (found.cheap, catch_all.bid, found.cvr)),
        Reason(ReasonKey.EXPECTED_MONTH, (round(found.clicks), round(found.orders), found.acos)),
    ]
    if found.aov:
        needed = catch_all.bid / found.aov / selection.aims.account
        reasons.append(Reason(ReasonKey.NEEDS_CONVERSION, (catch_all.bid, needed, selection.aims.account)))
    return tuple(reasons)
