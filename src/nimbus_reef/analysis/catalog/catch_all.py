"""The catch-all: which products it holds, what its bid is likely to bring, and its rows of the change sheet."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import gaps
from nimbus_reef.analysis.judged_proposals import history
from nimbus_reef.analysis.look import EVERYTHING, Look
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
    facts: Facts, look: Look, *, bid: float | None, budget: float | None, without: Sequence[str], name: str
) -> CatchAll:
    """The catch-all for all eligible products but some; bid and budget as typed, else the suggested. Kept."""
    key = (*look.judging, look.part, bid, budget, tuple(without), name)
    return facts.kept("catch-all", look.account.id, lambda: _built(facts, look, bid, budget, without, name), *key)


def _built(
    facts: Facts, look: Look, bid: float | None, budget: float | None, without: Sequence[str], name: str
) -> CatchAll:
    eligible = gaps.products(facts, look).filter(pl.col("eligible")).select("sku", "title")
    held = eligible.filter(~pl.col("sku").is_in(list(without)))
    lowest, account, sku_days = usual_clicks(facts, look)
    # Afterwards: whoever works out the usual clicks has put the days on the disk cache beside them.
    days = target_days(facts, look)
    chosen = bid if bid is not None else lowest
    found = rules.expected(days, account, sku_days, len(held), chosen)
    suggested = max(1.0, round(found.spend / MONTH_DAYS * 2)) if found else 5.0
    skipped = tuple(sku for sku in without if sku in set(eligible["sku"]))
    fits = None if found is None or found.acos is None else chosen * look.aims.account / found.acos
    return CatchAll(name, held, skipped, chosen, budget if budget is not None else suggested, lowest, found, fits)


def usual_clicks(facts: Facts, look: Look) -> tuple[float, tuple[int, int, float], int]:
    """
    What a quarter's cheap clicks cost and bring, of the account and of its products: what a
    catch-all is expected by.
    """

    def make() -> tuple[float, tuple[int, int, float], int]:
        days = target_days(facts, look)
        return _usual_low(days), _account(days), _sku_days(facts, look)

    return facts.kept(_CLICKS, look.account.id, make, *look.judging, asked=_by_helper(facts, look, _CLICKS))


def is_told(facts: Facts, look: Look) -> bool:
    """Whether `usual_clicks` are worked out already."""
    return facts.known(_CLICKS, look.account.id, *look.judging) is not None


def reads(facts: Facts, look: Look) -> list[tuple[str, Window]]:
    """What they are worked out from: the reports and their days."""
    quarter = _quarter(look)
    return [(facts.held(look.account.id, quarter).kind, quarter)]


def target_days(facts: Facts, look: Look) -> pl.DataFrame:
    """clicks, orders, spend, sales of every target and day of 90 days."""

    def make() -> pl.DataFrame:
        return target_frames.clicked_days(facts, look.account.id, _quarter(look))

    return facts.kept(_DAYS, look.account.id, make, look.window.last, asked=_by_helper(facts, look, _DAYS))


def _by_helper(facts: Facts, look: Look, what: str) -> Callable[[], Asked | None]:
    """A quarter of many targets is read by another process: it takes much memory for a moment."""

    def asked() -> Asked | None:
        ((kind, quarter),) = reads(facts, look)
        return (what, (look,)) if facts.holds_many(look.account.id, kind, quarter) else None

    return asked


def _quarter(look: Look) -> Window:
    last = look.window.last
    return Window(history(look).shifted(history(look).days - rules.HISTORY_DAYS).first, last)


def _account(days: pl.DataFrame) -> tuple[int, int, float]:
    orders = int(days.select(pl.min_horizontal("orders", "clicks").sum()).item()) if len(days) else 0
    return int(days["clicks"].sum()), orders, float(days["sales"].sum()) / MICRO


def _sku_days(facts: Facts, look: Look) -> int:
    """Pairs of SKU and day on which its ads were shown, of eligible ones; of the whole account, as the clicks are."""
    eligible = gaps.products(facts, replace(look, part=EVERYTHING)).filter(pl.col("eligible")).select("product_id")
    shown = product_frames.shown_days(facts, look.account.id, _quarter(look))
    return len(shown.join(eligible, on="product_id", how="semi"))


def _usual_low(days: pl.DataFrame) -> float:
    """A bid that a tenth of the account's click prices lie below, at least 2 cents."""
    if days.is_empty():
        return 0.1
    price = days.select((pl.col("spend") / pl.col("clicks")).quantile(0.1)).item()
    return max(0.02, round((price or 0) / MICRO, 2))


def proposal(facts: Facts, look: Look, made: CatchAll) -> Proposal:
    """One campaign, an ad group and an ad for each product: all of it promised by the campaign's row. Kept."""
    key = (look, made.name, made.bid, made.budget, made.skipped)
    return facts.kept("catch-all proposal", look.account.id, lambda: _proposal(look, made), *key)


def _proposal(look: Look, made: CatchAll) -> Proposal:
    subject = EntityKey(Subject.CAMPAIGN, made.name)
    if made.products.is_empty():
        why = Reason(ReasonKey.NO_PRODUCT_LEFT if made.skipped else ReasonKey.CATALOG_UNTOLD)
        return Proposal(subject, made.name, Headline(HeadlineKey.NOTHING), reasons=(why,))

    def row(entity: Entity, field: str, value: str, **of: str) -> Change:
        return change(entity, field, made.name, value, "", CHECK, Action.CREATE, **of)

    rows = [row(Entity.CAMPAIGN, "daily_budget", f"{made.budget:.2f}"), row(Entity.CAMPAIGN, "targeting", "auto")]
    for sku in made.products["sku"]:
        rows.append(row(Entity.AD_GROUP, "default_bid", f"{made.bid:.2f}", ad_group=sku))
        rows.append(row(Entity.PRODUCT_AD, "state", "enabled", ad_group=sku, sku=sku))
    found = made.expected
    effect = UNKNOWN
    if found is not None:
        cap = min(1.0, made.budget * MONTH_DAYS / found.spend) if found.spend else 1.0
        spend, sales = found.spend * cap, found.sales * cap
        effect = Projected(Range(0, spend, spend * 2), Range(0, sales, sales * 2))
    return Proposal(
        subject,
        made.name,
        Headline(HeadlineKey.CATCH_ALL, (len(made.products),)),
        spread(rows, promise(look, NO_BASIS, "catch-all", made.name, effect)),
        _why(look, made),
        effect=effect,
    )


def _why(look: Look, made: CatchAll) -> tuple[Reason, ...]:
    found = made.expected
    if found is None:
        return (Reason(ReasonKey.UNKNOWN_RETURN),)
    reasons = [
        Reason(ReasonKey.CHEAP_CLICKS, (found.cheap, made.bid, found.cvr)),
        Reason(ReasonKey.EXPECTED_MONTH, (round(found.clicks), round(found.orders), found.acos)),
    ]
    if found.aov:
        needed = made.bid / found.aov / look.aims.account
        reasons.append(Reason(ReasonKey.NEEDS_CONVERSION, (made.bid, needed, look.aims.account)))
    return tuple(reasons)
