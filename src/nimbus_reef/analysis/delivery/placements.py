"""Placements of an account: evidence by account, campaign, portfolio or product; limits for off-site; solutions by campaign."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, proposals
from nimbus_reef.analysis.judged import AT_ONCE, Judged, is_judged, judged_targets
from nimbus_reef.analysis.look import EVERYTHING, Look
from nimbus_reef.analysis.offers import Offer, change, promise
from nimbus_reef.core import placements as rules
from nimbus_reef.core.changes import Change, Entity, Promise
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MEASURES, MICRO, Placement, State, Verdict, from_micro
from nimbus_reef.core.placements import ORDER, PlacementSums, Solution
from nimbus_reef.core.projection import CLICK_RESPONSE, NOTHING, Projected, Range, bid_moved, total
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import delivery_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "placement_daily"
GROUPS: Final = ("account", "campaign", "portfolio", "product")
"""Ways of grouping; besides, by the parts of the account's names."""
OFF_SITE_CHECK: Final = "off-site"
SOLUTION_CHECK: Final = "costly-placements"
_SETTING: Final[Mapping[Placement, str]] = {
    Placement.TOP_OF_SEARCH: "adj_top_of_search", Placement.ELSEWHERE_IN_SEARCH: "adj_elsewhere",
    Placement.PRODUCT_PAGE: "adj_product_page",
}  # fmt: skip
_LIMITABLE: Final = "no"


def judged(facts: Facts, look: Look, by: str = "campaign") -> pl.DataFrame:
    """
    Placements of every group, judged: whose (what the group is called), placement, row_id, the measures and what
    `evidence.judge` adds, share_spend and share_sales within the group; largest spend first, placements in their order.

    By campaign its settings besides; judged in the company of the whole account and narrowed after.
    """
    account = look.account

    def make() -> pl.DataFrame:
        rows = delivery_frames.placement_sums(facts, account.id, look.window)
        days = facts.monthly_days(account.id, KIND, look.window)
        if by == "campaign":
            return _shaped(
                rules.judge(
                    rows.with_columns(whose="campaign"), "whose", days, look.aims, account.min_clicks
                ),
                "campaign_id",
            )
        sums = _grouped(facts, look, rows, by)
        return _shaped(rules.judge(sums, "whose", days, look.aims, account.min_clicks), "whose")

    if by == "campaign":
        return look.within(facts, facts.kept("placements", account.id, make, *_by_campaign(look)))
    return facts.kept("placements", account.id, make, *look.judging, by, look.part, account.naming)


def _by_campaign(look: Look) -> tuple[Hashable, ...]:
    return *look.judging, "campaign"


def judged_soon(facts: Facts, look: Look) -> bool:
    """Whether the campaigns' placements are judged already, or are so few that they are at once."""
    account = look.account
    if facts.known("placements", account.id, *_by_campaign(look)) is not None:
        return True
    return len(delivery_frames.placement_sums(facts, account.id, look.window)) < AT_ONCE


def _grouped(facts: Facts, look: Look, rows: pl.DataFrame, by: str) -> pl.DataFrame:
    """Sums of the part that is looked at; of a product those of campaigns whose main product it is."""
    rows = look.within(facts, rows)
    if by == "account":
        named = rows.with_columns(whose=pl.lit(look.account.brand))
    elif by.startswith(movement.NAMED):
        named = rows.with_columns(movement.part_column(look.account, rows, by).alias("whose"))
    elif by == "portfolio":
        named = rows.with_columns(whose=pl.col("portfolio").cast(pl.String).fill_null("none given"))
    else:
        main = main_products(facts, look.account.id, look.window)
        named = rows.join(main, on="campaign_id", how="left").with_columns(
            whose=pl.col("main_product").fill_null("no product known")
        )
    return named.group_by("whose", "placement").agg(pl.col(MEASURES).sum()).sort("whose", "placement")


def main_products(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, main_product: the SKU on which each campaign spent most, of equals the first by name."""
    ads = (
        product_frames.ad_rows(facts, account_id, window).group_by("campaign_id", "sku").agg(pl.col("spend").sum())
    )  # fmt: skip
    first = (
        ads.sort(["spend", "sku"], descending=[True, False])
        .group_by("campaign_id", maintain_order=True)
        .first()
    )
    return first.select("campaign_id", main_product=pl.col("sku").cast(pl.String))


def _shaped(rows: pl.DataFrame, key: str) -> pl.DataFrame:
    spent, sold = pl.col("spend").sum().over("whose"), pl.col("sales").sum().over("whose")
    places = {place.value: number for number, place in enumerate(ORDER)}
    return (
        rows.with_columns(
            pl.col("placement").cast(pl.String),
            row_id=pl.concat_str(
                pl.col(key).cast(pl.String), pl.col("placement").cast(pl.String), separator=":"
            ),
            whose_spend=spent,
            place=pl.col("placement").cast(pl.String).replace_strict(places, default=len(places)),
            share_spend=pl.when(spent > 0).then(pl.col("spend") / spent),
            share_sales=pl.when(sold > 0).then(pl.col("sales") / sold),
        )
        .sort(["whose_spend", "whose", "place"], descending=[True, False, False])
        .drop("whose_spend", "place")
    )


def off_site(facts: Facts, look: Look) -> pl.DataFrame:
    """The campaigns' off-site rows, with limited: whether it is limited already."""
    rows = judged(facts, look).filter(pl.col("placement") == Placement.OFF_SITE.value)
    return rows.with_columns(limited=pl.col("offsite_limited").cast(pl.String) == "yes")


def limit_offer(look: Look, row: Mapping[str, Any], days: int) -> Offer | None:
    """Keeping a campaign from off-site; None unless its off-site traffic is costly and may still be limited."""
    if row["verdict"] != Verdict.COSTLY.value or row["limited"]:
        return None
    place = _place(row)
    told = promise(look, row, "placements", row["row_id"], rules.left_out(place, days))
    limited = change(
        Entity.CAMPAIGN,
        "offsite_limited",
        row["campaign"],
        "yes",
        row["offsite_limited"] or _LIMITABLE,
        OFF_SITE_CHECK,
    )
    return Offer(row["row_id"], ((limited, told),), rules.left_out(place, days))


def _place(row: Mapping[str, Any]) -> PlacementSums:
    setting = _SETTING.get(Placement(row["placement"]))
    has_prior = row["prior_a"] is not None
    return PlacementSums(
        Placement(row["placement"]), int(row["clicks"]), from_micro(row["spend"]), from_micro(row["sales"]),
        (row.get(setting) or 0.0) / 100 if setting else 0.0,
        row["prior_a"] + row["k"] if has_prior else 1.0, row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        from_micro(row["shrunk_aov"] or 0),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Solved:
    """
    A campaign's placements solved: its rows, target, solution (None where it sold nothing), the base bid now and after this round of
    steps (None without known bids), acos now, after and its range, how many targets it moves, and the offer (None where nothing moves).
    """

    campaign: str
    rows: pl.DataFrame
    target_acos: float
    solution: Solution | None
    base_now: float | None
    base_next: float | None
    acos_now: float | None
    acos_after: float | None
    acos_range: tuple[float, float] | None
    moved: int
    bidding: str
    offer: Offer | None


def solved(facts: Facts, look: Look, campaign: str) -> Solved:
    """The base bid and adjustments for a campaign, and every target's new bid; NotFound where it has no placements. Kept."""
    key = _solved_key(look, campaign)
    return facts.kept("solved placements", look.account.id, lambda: _solved(facts, look, campaign), *key)


def solved_known(facts: Facts, look: Look, campaign: str) -> bool:
    """Whether that costs next to nothing: it was done, or the targets that it asks for are judged already and few."""
    if facts.known("solved placements", look.account.id, *_solved_key(look, campaign)) is not None:
        return True
    return is_judged(facts, look, Judged.TARGETS) and len(judged_targets(facts, look)) < AT_ONCE


def of_campaign(facts: Facts, look: Look, campaign: str) -> pl.DataFrame:
    """Rows of `judged` of one campaign, whatever part is looked at; NotFound where it has no placements."""
    rows = judged(facts, replace(look, part=EVERYTHING)).filter(pl.col("campaign") == campaign)
    if rows.is_empty():
        raise NotFound(
            f"“{campaign}” has no placements in these days.", remedy="Choose another campaign, or other days."
        )
    return rows


def _solved_key(look: Look, campaign: str) -> tuple[Hashable, ...]:
    return *look.judging, look.account.bid_limits, campaign


def _solved(facts: Facts, look: Look, campaign: str) -> Solved:
    whole = replace(look, part=EVERYTHING)
    rows = of_campaign(facts, look, campaign)
    days = facts.monthly_days(look.account.id, KIND, look.window)
    listed = rows.to_dicts()
    places = [_place(row) for row in listed]
    target = float(listed[0]["target_acos"])
    found = rules.solve(places, target, look.account.settings.base_share)
    spend, sales = sum(each.spend for each in places), sum(each.sales for each in places)
    now = spend / sales if sales else None
    bidding = str(listed[0]["bidding"] or "")
    if found is None:
        return Solved(campaign, rows, target, None, None, None, now, None, None, 0, bidding, None)
    bids = _bids(facts, whole, campaign, found)
    old, new = _weighed(bids)
    ratio = new / old if old and new else found.ratio
    change_of_all, after, around = rules.outcome(places, ratio, found.adjustments, days)
    changes = [
        *_adjustment_changes(look, campaign, listed, places, found, ratio, days),
        *((each.change, each.promise) for each in bids if each.change.new_value != each.change.old_value),
    ]
    offer = (
        Offer(campaign, tuple(changes), change_of_all, {"acos": now, "after": after, "range": around})
        if changes
        else None
    )
    return Solved(
        campaign, rows, target, found, old, new, now, after, around,
        sum(each.change.new_value != each.change.old_value for each in bids), bidding, offer,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Bid:
    """One target's bid under a solution; clicks: what it weighs."""

    change: Change
    promise: Promise
    old: float
    new: float
    clicks: int


def _bids(facts: Facts, look: Look, campaign: str, found: Solution) -> list[_Bid]:
    """Every live target with a known bid: its proposed bid × base ÷ (RPC × target)."""
    rows = proposals.judged(facts, look, Subject.TARGET).filter(
        pl.col("campaign").cast(pl.String) == campaign, pl.col("bid").is_not_null(),
        pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value,
    )  # fmt: skip
    limits, made = look.account.bid_limits, []
    for opened in proposals.propose(facts, look, Subject.TARGET, rows):
        assert opened.bid is not None
        aimed = opened.proposal.new_bid or opened.bid
        new = round(min(max(aimed * found.ratio, limits.floor), limits.ceiling), 2)
        row = opened.row
        core = proposals.core_row(row, proposals.monthly_days(facts, look, Subject.TARGET))
        moved = bid_moved(core.basis, opened.bid, new)
        told = promise(look, row, "targets", row["row_id"], moved)
        made.append(
            _Bid(
                change(
                    Entity.TARGET, "bid", campaign, f"{new:.2f}", f"{opened.bid:.2f}", SOLUTION_CHECK,
                    ad_group=str(row["ad_group"]), target=row["target"], match_type=str(row["match_type"]),
                ),
                told, opened.bid, new, row["clicks"],
            )
        )  # fmt: skip
    return made


def _weighed(bids: list[_Bid]) -> tuple[float | None, float | None]:
    """The campaign's bid as its clicks meet it, now and then; None without a known bid."""
    if not bids:
        return None, None
    clicks = [each.clicks for each in bids]
    weights = clicks if any(clicks) else [1] * len(bids)
    old, new = (
        sum(bid * weight for bid, weight in zip(values, weights, strict=True)) / sum(weights)
        for values in ([each.old for each in bids], [each.new for each in bids])
    )
    return old, new


def _adjustment_changes(
    look: Look, campaign: str, rows: list[dict[str, Any]], places: list[PlacementSums], found: Solution, ratio: float, days: int
) -> list[tuple[Change, Promise]]:  # fmt: skip
    """The raises that change, each promising what it does beyond the bids: those have promises of their own."""
    told = {row["placement"]: (row, place) for row, place in zip(rows, places, strict=True)}
    settings = rows[0]
    made = []
    for placement, adjustment in found.adjustments.items():
        old = round(settings[_SETTING[placement]] or 0)
        new = round(adjustment * 100)
        if new == old:
            continue
        row, place = told.get(placement.value, (None, None))
        projected = _beyond_bids(place, ratio, adjustment, days) if place else NOTHING
        basis = row or {
            "clicks": 0,
            "orders": 0,
            "spend": 0,
            "sales": 0,
            "target_acos": settings["target_acos"],
        }
        made.append(
            (
                change(
                    Entity.PLACEMENT, "adjustment", campaign, str(new), str(old), SOLUTION_CHECK, placement=placement.value
                ),
                promise(look, basis, "placements", f"{settings['campaign_id']}:{placement.value}", projected),
            )
        )  # fmt: skip
    return made


def _beyond_bids(place: PlacementSums, ratio: float, adjustment: float, days: int) -> Projected:
    """What another adjustment does to a placement once the bids have moved."""
    monthly = 30 / days
    raised = (1 + adjustment) / (1 + place.adjustment)
    spend = [
        place.spend * monthly * ((ratio * raised) ** (1 + power) - ratio ** (1 + power))
        for power in CLICK_RESPONSE
    ]
    sales = [
        place.expected_sales * monthly * ((ratio * raised) ** power - ratio**power)
        for power in CLICK_RESPONSE
    ]
    return Projected(*(Range(min(values), values[1], max(values)) for values in (spend, sales)))


def worst(facts: Facts, look: Look) -> pl.DataFrame:
    """Campaigns by what their placements on the marketplace likely overspend: campaign, stake, spend, costly (how many)."""
    rows = judged(facts, look)
    flagged = pl.col("verdict").is_in([Verdict.COSTLY.value, Verdict.LEANING.value])
    on_site = pl.col("placement") != Placement.OFF_SITE.value
    return (
        rows.group_by("campaign_id", "campaign")
        .agg(
            stake=pl.col("stake").filter(flagged).sum(),
            on_site=pl.col("stake").filter(flagged & on_site).sum(),
            costly=(flagged & on_site).sum(),
            spend=pl.col("spend").sum(),
            sales=pl.col("sales").sum(),
            clicks=pl.col("clicks").sum(),
        )
        .with_columns(campaign=pl.col("campaign").cast(pl.String))
        .sort(["on_site", "spend", "campaign"], descending=[True, True, False])
    )


def to_limit(facts: Facts, look: Look) -> pl.DataFrame:
    """The off-site rows that are costly and not limited yet, most at stake first."""
    rows = off_site(facts, look).filter((pl.col("verdict") == Verdict.COSTLY.value) & ~pl.col("limited"))
    return rows.sort("stake", descending=True, maintain_order=True)


def all_limits(facts: Facts, look: Look) -> list[Offer]:
    """Every campaign whose off-site traffic is costly and not limited yet, most at stake first."""
    days = facts.monthly_days(look.account.id, KIND, look.window)
    return [
        offer
        for row in to_limit(facts, look).to_dicts()
        if (offer := limit_offer(look, row, days)) is not None
    ]


def together(offers: list[Offer]) -> Projected:
    """All of them in 30 days."""
    return total(offer.projected for offer in offers)


def paid_now(row: Mapping[str, Any]) -> float | None:
    """What a click of a placement costs now, in units."""
    return row["spend"] / row["clicks"] / MICRO if row["clicks"] else None
