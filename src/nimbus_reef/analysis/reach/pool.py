"""Phrases that were never bought, judged: which would pay, for which product, in which campaign, at which bid."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import bid_advice, bid_response, brands, multipliers
from nimbus_reef.analysis.destinations import places
from nimbus_reef.analysis.judged import asked_of_helper, judged_targets
from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.core import evidence, market_fit, own_limits, unbought, words
from nimbus_reef.core.bids import Goal
from nimbus_reef.core.cases import first_that_holds
from nimbus_reef.core.checks.reach import PHRASES
from nimbus_reef.core.levels import Ints
from nimbus_reef.core.model import MICRO, MatchType
from nimbus_reef.core.unbought import LeftOut
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading import market_frames, product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_HISTORY_DAYS: Final = 365
_OWN_KEYWORDS: Final = (MatchType.EXACT.value, MatchType.PHRASE.value, MatchType.BROAD.value)
_PRICED: Final = (MatchType.EXACT.value, MatchType.PHRASE.value)


@dataclass(frozen=True, slots=True)
class Pool:
    """
    The pool of phrases. rows: as `market.phrases`, of those that are candidates, with row_id, term_words (how many),
    own_term (it converted by ads before the window), campaign, ad_group (where it would go), what
    `market_fit.expected`, `unbought.posterior` and `unbought.advised` add, what those were told (price, usual_bid, aov,
    target_acos, goal_acos, margin, multiplier, per_search, floor, ceiling) and stays (of `unbought.Stays`, null for
    what is proposed), the largest gain first. left_out: how many phrases are no candidates, by why. guessed: clicks for
    each search are.
    """

    rows: pl.DataFrame
    left_out: Mapping[str, int]
    guessed: bool = False

    @property
    def proposed(self) -> pl.DataFrame:
        """Those that would pay."""
        return self.rows.filter(pl.col("stays").is_null())


def pool(facts: Facts, selection: Selection) -> Pool | None:
    """The pool of the whole account, judged; None where the account is too small to say what is usual. Kept."""
    unwanted = selection.account.settings.unwanted_words
    judged = _all_judged(facts, selection)
    if judged is None or not unwanted:
        return judged

    def make() -> Pool:
        dropped = judged.rows.select(_holds(words.words(text) for text in unwanted)).to_series().fill_null(False)
        counts = {LeftOut.NEVER.value: int(dropped.sum()), **judged.left_out}
        return replace(judged, rows=judged.rows.filter(~dropped), left_out=counts)

    return facts.kept("wanted pool", selection.account.id, make, *_key(selection), unwanted)


def _all_judged(facts: Facts, selection: Selection) -> Pool | None:
    """The same whatever words are unwanted: a word that is dropped judges nothing anew."""
    whole = selection.whole

    def make() -> Pool | None:
        fit = market.fitted(facts, whole)
        return None if fit is None else _judged(facts, whole, fit)

    large = asked_of_helper(facts, whole, "phrases never bought", "search_term_daily")
    return facts.kept("pool", selection.account.id, make, *_key(selection), asked=large)


def is_made(facts: Facts, selection: Selection) -> bool:
    """Whether the pool is worked out already."""
    return facts.known("pool", selection.account.id, *_key(selection)) is not None


def _key(selection: Selection) -> tuple[Hashable, ...]:
    account = selection.account
    return (*selection.judging, replace(account.settings, unwanted_words=()), account.own_limits)


def spend_a_month(facts: Facts, selection: Selection) -> float:
    """What the account spends in 30 days, units; 0 where no report tells it."""
    found = totals(facts, selection.whole)
    if found is None:
        return 0.0
    return summed(found.now)["spend"] / MICRO * month_factor(selection.window.days)


def candidates(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    The phrases that were not bought in the window and that no live keyword is, with left_out (of `LeftOut`, null for
    candidates), campaign, campaign_id, ad_group; of those that differ by their plurals alone the one most searched.
    """
    account, days = selection.account, market.window(selection)
    live = target_frames.live(facts, account.id, selection.window)
    keywords = live.filter(pl.col("match_type").cast(pl.String).is_in(_OWN_KEYWORDS))
    every = market.phrases(facts, selection)
    once = target_frames.term_sums(facts, account.id, Window(days.last - timedelta(days=_HISTORY_DAYS - 1), days.last))
    converted = once.group_by("normal_id").agg(pl.col("orders").sum()).filter(pl.col("orders") > 0)["normal_id"]
    bought = every.filter(pl.col("own_clicks") > 0)["text"]
    named = every.join(
        keywords.select(normal_id=pl.col("target_normal_id").cast(pl.UInt32)), on="normal_id", how="semi"
    )["text"]
    rows = (
        every.with_columns(own_term=pl.col("normal_id").is_in(converted.cast(pl.UInt32).implode()))
        .filter(
            pl.col("listed") | pl.col("searched") | pl.col("own_term") | pl.col("brought").is_not_null(),
            pl.col("words").list.len() > 0,
        )
        .filter(~pl.col("text").is_in(pl.concat([bought, named]).unique().implode()))
        .sort(["volume", "phrase"], descending=[True, False], nulls_last=True)
        .unique("text", keep="first", maintain_order=True)
    )
    return _weeded(facts, selection, _placed(facts, selection, rows), live)


def _placed(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """With the ad group that a phrase would go to: see `destinations.Places.for_phrase`."""
    homes = places(facts, selection)
    found = [homes.for_phrase(sku) for sku in homes.of_sku]
    first = pl.DataFrame(
        [(each.sku, each.campaign, each.ad_group) for each in found if each],
        schema={"sku": pl.String, "campaign": pl.String, "ad_group": pl.String},
        orient="row",
    )
    ids = product_frames.ad_groups(facts, selection.account.id).select("campaign_id", "campaign").unique("campaign")
    return (
        rows.with_columns(pl.col("sku").cast(pl.String))
        .join(first, on="sku", how="left", maintain_order="left")
        .join(ids.with_columns(pl.col("campaign").cast(pl.String)), on="campaign", how="left", maintain_order="left")
    )


def _weeded(facts: Facts, selection: Selection, rows: pl.DataFrame, live: pl.DataFrame) -> pl.DataFrame:
    account, settings = selection.account, selection.account.settings
    known = market.products(facts, selection)["category"].drop_nulls().unique()
    cases = (
        (LeftOut.NO_PRODUCT, pl.col("product_id").is_null()),
        (LeftOut.OWN_BRAND, _holds(_names(facts, selection, brands.own_names(facts, account), settings.own_words))),
        (LeftOut.RIVAL_BRAND, _holds(_names(facts, selection, brands.rivals(facts, account), settings.rival_words))),
        (LeftOut.OTHER_CATEGORY, pl.col("told").is_not_null() & ~pl.col("told").is_in(known.implode())),
        (LeftOut.NEGATIVE, _shut_out(live)),
    )
    return rows.with_columns(left_out=first_that_holds(cases))


def _holds(names: Iterable[Sequence[str]]) -> pl.Expr:
    """Which phrases have one of these names in them, its words side by side."""
    asked = [f" {' '.join(name)} " for name in names if name]
    return pl.col("text").str.contains_any(asked) if asked else pl.lit(False)


def _names(
    facts: Facts, selection: Selection, brand_names: Collection[tuple[str, ...]], listed: Sequence[str]
) -> list[tuple[str, ...]]:
    """
    Brands as they are written; one of a single word that an own product is called by ("green") names none, but where
    somebody lists it.
    """
    account = selection.account
    cores = product_frames.title_cores(facts, account.id, selection.window, account.brand)
    own = {word for core in cores for word in core}
    by_hand = {words.words(text) for text in listed}
    return sorted(name for name in brand_names if name in by_hand or len(name) > 1 or name[0] not in own)


def _shut_out(live: pl.DataFrame) -> pl.Expr:
    """Which phrases a live negative of their campaign, or of their ad group, keeps away."""
    negatives = live.with_columns(pl.col("match_type", "campaign", "ad_group", "target").cast(pl.String)).filter(
        pl.col("match_type").is_in([MatchType.NEGATIVE_EXACT.value, MatchType.NEGATIVE_PHRASE.value])
    )
    found = pl.lit(False)
    for (campaign, group, match), part in negatives.partition_by(
        "campaign", "ad_group", "match_type", as_dict=True, maintain_order=True
    ).items():
        texts = [f" {' '.join(words.words(text))} " for text in part["target"].to_list()]
        here = pl.col("campaign") == campaign
        here = here & (pl.col("ad_group") == group) if group else here
        exact = match == MatchType.NEGATIVE_EXACT.value
        stops = pl.col("text").is_in(texts) if exact else pl.col("text").str.contains_any(texts)
        found = found | (here & stops)
    return found


def _judged(facts: Facts, selection: Selection, fit: market_fit.MarketFit) -> Pool:
    every = candidates(facts, selection)
    rows = every.filter(pl.col("left_out").is_null())
    pairs = rows.select("normal_id", word_id="words").explode("word_id").unique()
    asked = rows.select("normal_id", "rank", "rivals", product="sku")
    expected = market_fit.expected(fit, asked, pairs)
    told = rows.hstack(expected)
    judged = told.hstack(unbought.posterior(told, fit.strength, _beta(facts, selection, fit)))
    priced, guessed = _priced(facts, selection, judged)
    response = bid_response.learned(facts, selection)
    settings = selection.account.settings
    bids = unbought.advised(priced, response, settings.bid_rule, settings.phrase_caution)
    found = priced.hstack(bids).with_columns(
        row_id=pl.col("normal_id").cast(pl.String),
        term_words=pl.col("words").list.len().cast(pl.Int64),
        stays=unbought.stays(settings.phrase_pays, settings.phrase_gain),
    )
    counted = every["left_out"].drop_nulls().value_counts().sort("count", "left_out", descending=[True, False])
    ordered = found.sort(["gain", "phrase"], descending=[True, False], nulls_last=True)
    return Pool(ordered.with_row_index("place"), dict(counted.rows()), guessed)


def _beta(facts: Facts, selection: Selection, fit: market_fit.MarketFit) -> float:
    of = market.phrases(facts, selection).join(
        fit.terms.select(pl.col("normal_id").cast(pl.UInt32), "cvr"), on="normal_id"
    )
    return unbought.free_rate(*(of[name].cast(pl.Float64).to_numpy() for name in ("free_clicks", "free_orders", "cvr")))


def _priced(facts: Facts, selection: Selection, rows: pl.DataFrame) -> tuple[pl.DataFrame, bool]:
    """With all that a bid follows from; and whether clicks for each search had to be guessed."""
    account = selection.account
    homes = rows.with_columns(pl.col("campaign").fill_null(""))
    portfolios = setting_frames.placed(facts, account.id, selection.window).select("campaign_id", "portfolio", "format")
    factors = (
        multipliers.steps(facts, selection)
        .group_by("campaign_id", maintain_order=True)
        .agg(pl.col("multiplier").last())
    )
    margins = product_frames.catalog(facts, account.id).select("product_id", margin=pl.col("margin") / 100)
    own = own_limits.columns(account.own_limits, account.bid_limits, ("campaign", "portfolio", "sku"))
    floor, ceiling = (
        pl.col(f"limit_{name}") if any(each.meta.output_name() == f"limit_{name}" for each in own) else pl.lit(value)
        for name, value in (("floor", account.bid_limits.floor), ("ceiling", account.bid_limits.ceiling))
    )
    response = bid_response.learned(facts, selection)
    joined = (
        homes.join(portfolios, on="campaign_id", how="left", maintain_order="left")
        .join(factors, on="campaign_id", how="left", maintain_order="left")
        .join(margins, on="product_id", how="left", maintain_order="left")
        .join(_order_values(facts, selection), on="sku", how="left", maintain_order="left")
    )
    clicked, per_search = _prices(facts, selection), _per_search(facts, selection)
    usual = clicked.filter(pl.col("sku").is_null()).row(0, named=True)
    asked = (
        joined.join(clicked.drop_nulls("sku"), on="sku", how="left", maintain_order="left")
        .with_columns(own)
        .with_columns(
            selection.aims.expr(("campaign", "portfolio", "sku")),
            own_limits.goal(
                account.own_limits, Goal(account.settings.goal), ("campaign", "portfolio", "sku"), selection.window.last
            ),
            pl.col("multiplier").fill_null(1.0),
            price=pl.coalesce("price", pl.lit(usual["price"], pl.Float64)),
            usual_bid=pl.coalesce("usual_bid", pl.lit(usual["usual_bid"], pl.Float64)),
            floor=floor.cast(pl.Float64),
            ceiling=ceiling.cast(pl.Float64),
            per_search=pl.lit(unbought.USUAL_CLICKS_A_SEARCH if per_search is None else per_search),
        )
    )
    peak = pl.col("margin") * response.peak
    to_peak = (pl.col("goal") == Goal.PROFIT.value) & peak.is_not_null()
    priced = asked.with_columns(
        goal_acos=pl.when(to_peak).then(pl.min_horizontal("target_acos", peak)).otherwise("target_acos")
    )
    return priced.drop("goal", *(name for name in priced.columns if name.startswith("limit_"))), per_search is None


def _order_values(facts: Facts, selection: Selection) -> pl.DataFrame:
    """sku, aov (units): what an order of each product is worth, drawn to its family's, category's, the account's."""
    rows = product_frames.ad_rows(facts, selection.account.id, market.window(selection), idle=True)
    sums = (
        rows.group_by(pl.col("sku").cast(pl.String), "family", "category")
        .agg(pl.col("clicks", "orders", "sales").cast(pl.Int64).sum())
        .sort("sku")
    )
    if sums.is_empty():
        return pl.DataFrame(schema={"sku": pl.String, "aov": pl.Float64})
    valued = evidence.with_aov(sums, ("family", "category"))
    orders = pl.min_horizontal("orders", "clicks")
    weight = evidence.AOV_WEIGHT
    return valued.select("sku", aov=(pl.col("sales") + weight * pl.col("group_aov")) / (orders + weight) / MICRO)


def _prices(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    What clicks of exact and phrase targets cost and were bid in the period: sku (of the ad group; null for the
    account), price, usual_bid (units, adjustments included), null under 30 clicks.
    """
    targets = bid_advice.with_advice(facts, selection, judged_targets(facts, selection))
    rows = targets.filter(pl.col("match_type").cast(pl.String).is_in(_PRICED)).select(
        "clicks",
        sku=pl.col("main_product").cast(pl.String) if "main_product" in targets.columns else pl.lit(None, pl.String),
        spend=pl.col("spend") / MICRO,
        offered=pl.col("window_bid") * pl.col("multiplier"),
    )
    bid = pl.col("offered").is_not_null()
    sums = (
        pl.col("clicks").cast(pl.Int64).sum().alias("clicks"),
        (pl.col("spend").sum() / pl.col("clicks").sum()).alias("price"),
        ((pl.col("offered") * pl.col("clicks")).sum() / pl.col("clicks").filter(bid).sum()).alias("usual_bid"),
    )
    of_products = rows.drop_nulls("sku").group_by("sku").agg(sums).sort("sku")
    whole = rows.select(sums).with_columns(sku=pl.lit(None, pl.String)).select(of_products.columns)
    enough = pl.col("clicks") >= unbought.ENOUGH_CLICKS
    priced = pl.concat([of_products, whole]).select(
        "sku", *(pl.when(enough & pl.col(name).is_finite()).then(name).alias(name) for name in ("price", "usual_bid"))
    )
    # A bid that is not known is taken for what is paid.
    return priced.with_columns(usual_bid=pl.coalesce("usual_bid", "price"))


def _per_search(facts: Facts, selection: Selection) -> float | None:
    """Clicks for each search that exact targets of the account get; None where they are too few."""
    account_id, days = selection.account.id, market.window(selection)
    source = facts.target_source(account_id, days).kind
    volumes = market.phrases(facts, selection).select("normal_id", "volume").drop_nulls()
    rows = (
        target_frames.target_sums(facts, account_id, days, source)
        .join(target_frames.targets(facts, account_id), on="target_id")
        .filter(pl.col("match_type").cast(pl.String) == MatchType.EXACT.value)
        .join(volumes, left_on=pl.col("target_normal_id").cast(pl.UInt32), right_on="normal_id")
    )
    weeks = facts.held_days(account_id, source, days) / 7
    return unbought.clicks_per_search(float(rows["clicks"].sum()), float(rows["volume"].sum()) * weeks)


_NO_ROWS: Final[Mapping[str, Any]] = {
    **dict.fromkeys(
        ("row_id", "phrase", "sku", "category", "stays", "status", "campaign", "ad_group", "brought"), pl.String
    ),
    **dict.fromkeys(("normal_id", "place"), pl.UInt32),
    **dict.fromkeys(("free_clicks", "free_orders", "rivals_seen", "term_words"), pl.Int64),
    **dict.fromkeys(("listed", "searched", "own_term"), pl.Boolean),
    **dict.fromkeys(
        ("volume", "own_rank", "suggested", "cvr", "price", "pays", "bid", "clicks", "spend", "sales", "gain"),
        pl.Float64,
    ),
}
"""What an account that is too small to judge has in its pool."""
PROPOSED: Final = "proposed"
PLANNED: Final = "in the plan"
NOT_OURS: Final = "not ours"
LATER: Final = "later"
STATUSES: Final = (PROPOSED, PLANNED, LATER, NOT_OURS, *(each.value for each in unbought.Stays))
"""What is with a phrase; those that somebody put away before what the figures say."""


def listed(
    facts: Facts, selection: Selection, away: Sequence[PutAway] = (), planned: Sequence[str] = ()
) -> pl.DataFrame:
    """
    The phrases of the part that is looked at, with status (of `STATUSES`): those of its products, or of campaigns that
    they would go to. away: what somebody put away; planned: rows that the plan changes.
    """
    found = pool(facts, selection)
    if found is None:
        return pl.DataFrame(schema=_NO_ROWS)
    mine = [each for each in away if each.check == PHRASES.key]
    rows = (
        selection.within(facts, found.rows.drop("words", "text"))
        if selection.part
        else found.rows.drop("words", "text")
    )
    status = pl.col("stays").fill_null(PROPOSED)
    for word, keys in (
        (LATER, [each.row_id for each in mine if not each.for_good]),
        (NOT_OURS, [each.row_id for each in mine if each.for_good]),
        (PLANNED, list(planned)),
    ):
        if keys:
            status = pl.when(pl.col("row_id").is_in(keys)).then(pl.lit(word)).otherwise(status)
    return rows.with_columns(status=status)


def words_of(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """Of rows of `listed`: word, phrases (how many have it), gain (of those proposed, units); the most gain first."""
    found = _all_judged(facts, selection)
    if found is None or rows.is_empty():
        return pl.DataFrame(schema={"word": pl.String, "phrases": pl.Int64, "gain": pl.Float64})
    every = found.rows

    def make() -> tuple[pl.Series, Ints, Ints, Ints]:
        entries = every.select("place", word_id="words").explode("word_id").unique().sort("place", "word_id")
        texts = entries.select(pl.col("word_id").unique().sort()).join(
            market_frames.word_texts(facts), on="word_id", how="left", maintain_order="left"
        )
        code = np.asarray(texts["word_id"].search_sorted(entries["word_id"]).to_numpy())
        first = np.searchsorted(entries["place"].to_numpy(), np.arange(len(every) + 1))
        return texts["word"], code, first, np.bincount(code, minlength=len(texts))

    texts, code, first, whole = facts.kept("pool words", selection.account.id, make, *_key(selection))

    def entries_of(places: Ints) -> tuple[Ints, Ints]:
        """The words of some phrases, phrase by phrase, and how many each has."""
        count = first[places + 1] - first[places]
        return code[np.arange(count.sum()) + np.repeat(first[places] - np.cumsum(count) + count, count)], count

    proposed = rows.filter(pl.col("status") == PROPOSED)
    words, count = entries_of(proposed["place"].to_numpy().astype(np.int64))
    # A page of all phrases is the usual one, and counts what it counted before.
    shown = (
        whole
        if len(rows) == len(every)
        else np.bincount(entries_of(rows["place"].to_numpy().astype(np.int64))[0], minlength=len(texts))
    )
    return (
        pl.DataFrame(
            {
                "word": texts,
                "phrases": shown.astype(np.int64),
                "gain": np.bincount(words, np.repeat(proposed["gain"].fill_null(0.0).to_numpy(), count), len(texts)),
            }
        )
        .filter(pl.col("phrases") > 0)
        .sort(["gain", "phrases", "word"], descending=[True, True, False])
    )
