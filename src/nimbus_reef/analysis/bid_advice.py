"""What every target's next bid should be, worked out for the whole account at once: `core.bids` on what is loaded."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis import bid_response, brands, multipliers, out_of_budget
from nimbus_reef.analysis.falls import falls
from nimbus_reef.analysis.judged import asked_of_helper, judged_targets
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import bids, own_limits
from nimbus_reef.core.bids import BidMove, Goal
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MICRO, State, Verdict
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames, row_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_HALF: Final = 0.5


def advised(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    The advice on every target of the account, whatever part is looked at: row_id, target_id, what `core.bids` advises,
    and what it was told (bid, window_bid and floor, ceiling in units, multiplier, margin, goal, moved_days). Kept.
    """
    whole = selection.whole
    account = whole.account

    kind = facts.target_source(account.id, whole.window).kind

    def make() -> pl.DataFrame:
        rows = _rows(facts, whole)
        days = facts.monthly_days(account.id, kind, whole.window)
        found = bids.advised(rows, bid_response.learned(facts, whole), account.settings.bid_rule, max(1, days))
        return rows.select(_KEPT).hstack(found)

    large = asked_of_helper(facts, whole, "advised bids", kind)
    return facts.kept("advised bids", account.id, make, *advice_key(whole), asked=large)


def advice_key(selection: Selection) -> tuple[object, ...]:
    """What advice on bids depends on, besides what is loaded."""
    return *selection.judging, selection.account.settings, selection.account.own_limits


def with_advice(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """Judged targets with the advice on their bids beside; those columns that both have stay the rows' own."""
    found = advised(facts, selection)
    new = [name for name in found.columns if name not in rows.columns]
    if len(rows) == len(found) and rows["target_id"].equals(found["target_id"]):
        return rows.hstack(found.select(new))
    return rows.join(found.select("target_id", *new), on="target_id", how="left", maintain_order="left")


def moving(facts: Facts, selection: Selection, *, every: bool) -> pl.DataFrame:
    """
    Judged targets of the whole account for which another bid or a pause is proposed, with the advice, the largest gain
    first; those that bring 95 % of all gain, or every one.
    """
    rows = with_advice(facts, selection.whole, judged_targets(facts, selection.whole))
    moves = pl.col("move") != BidMove.NONE.value
    return rows.filter(moves if every else moves & pl.col("carries")).sort("gain", descending=True, maintain_order=True)


_KEPT: Final = (
    "row_id",
    "target_id",
    "window_bid",
    "multiplier",
    "margin",
    "goal",
    "floor",
    "ceiling",
    "own_brand",
    "moved_days",
    "step_down",
    "step_up",
    "cohort_mean",
    "quiet",
    "history_clicks",
    "history_orders",
)


def _rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """All targets as `core.bids.advised` takes them, money in units."""
    account, window = selection.account, selection.window
    rows = brands.with_brand(facts, selection, Subject.TARGET, judged_targets(facts, selection))
    held = rows.with_columns(
        own_limits.goal(account.own_limits, Goal(account.settings.goal), rows.columns, _tomorrow(facts, selection))
    )
    limits = own_limits.columns(account.own_limits, account.bid_limits, rows.columns)
    usual = {what: getattr(account.bid_limits, what) for what in own_limits.OF_BIDS}
    plain = [pl.lit(value, pl.Float64).alias(f"limit_{what}") for what, value in usual.items()]
    # What lies without traffic counts by all it ever did, or a dry month would make it look new.
    n, k = (pl.coalesce(whole, part) for whole, part in (("history_n", "n"), ("history_k", "k")))
    a, b = pl.col("prior_a") + k, pl.col("prior_b") + n - k
    mean = _mean_of_likes()
    waits = pl.col("waits").is_not_null() if "waits" in rows.columns else pl.lit(False)
    factors = multipliers.steps(facts, selection)
    multiplied = factors.group_by("campaign_id", maintain_order=True).agg(pl.col("multiplier").last())
    return (
        held.with_columns(plain)
        .with_columns(limits)
        .join(product_frames.margins(facts, account.id, window), on="ad_group_id", how="left", maintain_order="left")
        .join(multiplied, on="campaign_id", how="left", maintain_order="left")
        .join(_running(facts, account, window), on="ad_group_id", how="left", maintain_order="left")
        .join(_moved(facts, account, window), on="target_id", how="left", maintain_order="left")
        .join(_brand_clicks(facts, selection), on="target_id", how="left", maintain_order="left")
        .join(out_of_budget.lately(facts, selection), on="campaign_id", how="left", maintain_order="left")
        .pipe(_with_history, facts, selection)
        .with_columns(cohort_mean=mean)
        .select(
            "row_id",
            "target_id",
            "campaign_id",
            "clicks",
            "orders",
            pl.col("spend") / MICRO,
            pl.col("bid") / MICRO,
            pl.coalesce("multiplier", pl.lit(1.0)).alias("multiplier"),
            a=pl.coalesce(a, pl.col("cohort_mean") + pl.col("history_k").fill_null(0)),
            b=pl.coalesce(b, 1 - pl.col("cohort_mean") + (pl.col("history_n") - pl.col("history_k")).fill_null(0)),
            cohort_mean="cohort_mean",
            aov=pl.col("shrunk_aov") / MICRO,
            target_acos="target_acos",
            margin="margin",
            goal="goal",
            floor="limit_floor",
            ceiling="limit_ceiling",
            step_down="limit_step_down",
            step_up="limit_step_up",
            above_target=pl.col("verdict").cast(pl.String) == Verdict.ABOVE.value,
            own_brand=(pl.col("brand") == brands.OWN)
            | (pl.col("brand_clicks").fill_null(0) >= _HALF * pl.col("clicks")) & (pl.col("clicks") > 0),
            out_of_budget=pl.col("dry").fill_null(False),
            page_broke=pl.col("main_product").cast(pl.String).is_in(_broken(facts, selection)).fill_null(False),
            live=_LIVE,
            waits=waits,
            quiet="quiet",
            history_clicks="history_clicks",
            history_orders="history_orders",
            moved_days=pl.col("moved_days"),
        )
        .pipe(_with_window_bid, facts, selection, factors)
    )


_LIVE: Final = pl.col("group_runs").fill_null(True) & (
    pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value
)


def _with_history(rows: pl.DataFrame, facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    With quiet: live, eligible and in budget, and not shown once in the last week, every day of which is loaded; of
    those history_clicks, history_orders and history_n, history_k (at most an order a click) over all that is loaded.
    """
    account, last = selection.account, selection.window.last
    week = Window(last - timedelta(days=bids.QUIET_DAYS - 1), last)
    report = "target_daily"
    whole = Window(last - timedelta(days=bid_response.HISTORY_DAYS - 1), last)
    told = facts.held_days(account.id, report, week) == bids.QUIET_DAYS
    sums = facts.sums(account.id, report, week) if told else None
    seen = pl.lit(True) if sums is None else pl.col("target_id").is_in(_shown(sums).implode())
    quiet = _LIVE & ~seen & ~pl.col("dry").fill_null(False) & pl.col("eligible").fill_null(True)
    marked = rows.join(_eligible(facts, account, selection.window), on="ad_group_id", how="left", maintain_order="left")
    marked = marked.with_columns(quiet=quiet)
    nothing = [pl.lit(None, pl.Int64).alias(f"history_{name}") for name in ("clicks", "orders", "n", "k")]
    if not marked["quiet"].any():
        return marked.with_columns(nothing)
    past = facts.sums(account.id, report, whole).select(
        pl.col("target_id").cast(rows.schema["target_id"]),
        *(pl.col(name).cast(pl.Int64) for name in ("clicks", "orders")),
    )
    of_quiet = marked.filter("quiet").select("target_id").join(past, on="target_id", how="left")
    clicks, orders = (pl.col(name).fill_null(0) for name in ("clicks", "orders"))
    counted = of_quiet.select(
        "target_id",
        history_clicks=clicks,
        history_orders=orders,
        history_n=clicks,
        history_k=pl.min_horizontal(orders, clicks),
    )
    return marked.join(counted, on="target_id", how="left", maintain_order="left")


def _shown(sums: pl.DataFrame) -> pl.Series:
    return sums.filter(pl.col("impressions") > 0)["target_id"]


def _eligible(facts: Facts, account: Account, window: Window) -> pl.DataFrame:
    """ad_group_id, eligible: whether a product that is advertised there may be, as far as the catalog says."""
    known = product_frames.catalog(facts, account.id).select(
        "product_id", may=pl.col("ad_eligible").cast(pl.String) != "no"
    )
    return (
        product_frames.enabled_ads(facts, account.id, window)
        .join(known, on="product_id", how="left")
        .group_by("ad_group_id")
        .agg(eligible=pl.col("may").fill_null(True).any())
    )


def _tomorrow(facts: Facts, selection: Selection) -> date:
    """The day after the newest that is loaded: when what is proposed now would be in force."""
    return (facts.newest_day(selection.account.id) or selection.window.last) + timedelta(days=1)


def _mean_of_likes() -> pl.Expr:
    """
    What targets in the same ad group, of the same product, of the account convert without themselves: the conversion to
    expect of one that has not been clicked.
    """
    clicks = pl.col("clicks").cast(pl.Float64)

    def weighed(column: str, *over: str) -> pl.Expr:
        known = pl.col(column).is_not_null()
        mean = (pl.col(column) * clicks).sum() / clicks.filter(known).sum()
        mean = pl.when(clicks.filter(known).sum() > 0).then(mean)
        return mean.over(over) if over else mean

    product = pl.when(pl.col("main_product").is_not_null()).then(weighed("cohort_cvr", "main_product"))
    return pl.coalesce(
        "cohort_cvr",
        weighed("cohort_cvr", "ad_group_id"),
        product,
        pl.col("account_cvr").mean(),
        pl.lit(None, pl.Float64),
    )


def _running(facts: Facts, account: Account, window: Window) -> pl.DataFrame:
    """ad_group_id, group_runs: whether it and its campaign are enabled, as far as settings are loaded."""
    states = setting_frames.ad_group_states(facts, account.id, window)
    campaigns = setting_frames.campaign_settings(facts, account.id, window).select("campaign_id", state="state")
    runs = pl.all_horizontal(
        pl.col("ad_group_state", "state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value
    )
    return (
        product_frames.ad_groups(facts, account.id)
        .join(states, on="ad_group_id", how="left")
        .join(campaigns, on="campaign_id", how="left")
        .select("ad_group_id", group_runs=runs)
    )


def _moved(facts: Facts, account: Account, window: Window) -> pl.DataFrame:
    """target_id, moved_days: since somebody last changed its bid, by settings or the history of changes."""
    steps = setting_frames.bid_steps(facts, account.id, window)
    seen = steps.filter(pl.col("day") > pl.col("day").min().over("target_id")).select("target_id", "day")
    told = row_frames.changes(facts, account.id, window)
    told = told.filter((pl.col("field") == "bid") & (pl.col("target_id") > 0)).select(
        pl.col("target_id").cast(seen.schema["target_id"]), pl.col("day").cast(pl.Date)
    )
    newest = pl.concat([seen, told]).group_by("target_id").agg(pl.col("day").max())
    return newest.select("target_id", moved_days=(pl.lit(window.last) - pl.col("day")).dt.total_days())


def _brand_clicks(facts: Facts, selection: Selection) -> pl.DataFrame:
    """target_id, brand_clicks: those that searches with an own brand's name brought."""
    account = selection.account
    names = target_frames.term_names(facts, account.id)
    sums = facts.sums(account.id, "search_term_daily", selection.window).select("target_term_id", "clicks")
    texts = names.select("normal_id", "term").unique("normal_id")
    named = brands.with_brand(facts, selection, Subject.TERM, texts).filter(pl.col("brand") == brands.OWN)
    own = names.join(named.select("normal_id"), on="normal_id", how="semi")
    return (
        sums.join(own, on="target_term_id")
        .group_by("target_id")
        .agg(brand_clicks=pl.col("clicks").cast(pl.Int64).sum())
    )


def _broken(facts: Facts, selection: Selection) -> list[str]:
    """The products whose page lost something with the newest load, or converts less since it changed."""
    return sorted({*lost(facts, selection)["name"].to_list(), *falls(facts, selection)["name"].to_list()})


def _with_window_bid(rows: pl.DataFrame, facts: Facts, selection: Selection, factors: pl.DataFrame) -> pl.DataFrame:
    """
    With window_bid: the bid of the window, weighed by the clicks of its days and by what adjustments multiplied it by
    then; of a target in which nobody changed either, the one in force. factors: see `multipliers.steps`.
    """
    account, window = selection.account, selection.window
    steps = setting_frames.bid_steps(facts, account.id, window)
    moved = factors.filter(pl.len().over("campaign_id") > 1)["campaign_id"].unique()
    of_moved = rows.filter(pl.col("campaign_id").is_in(moved.implode()))["target_id"]
    changed = steps.filter((pl.len().over("target_id") > 1) | pl.col("target_id").is_in(of_moved.implode()))
    ids = changed["target_id"].unique().to_list()
    if not ids:
        return rows.with_columns(window_bid="bid")
    source = facts.target_source(account.id, window).kind
    days = row_frames.target_days(facts, account.id, source, window, ids).filter(pl.col("clicks") > 0)
    in_force = days.sort("day").join_asof(
        changed.sort("day"), on="day", by="target_id", strategy="backward", check_sortedness=False
    )
    first = changed.sort("day").group_by("target_id", maintain_order=True).agg(first=pl.col("bid").first())
    here = in_force.join(first, on="target_id").join(
        rows.select("target_id", "campaign_id", now="multiplier"), on="target_id"
    )
    multiplied = here.sort("day").join_asof(
        factors.sort("day"), on="day", by="campaign_id", strategy="backward", check_sortedness=False
    )
    then = pl.coalesce("multiplier", "now") / pl.col("now")
    weighed = multiplied.group_by("target_id").agg(
        window_bid=(pl.coalesce("bid", "first") / MICRO * then * pl.col("clicks")).sum() / pl.col("clicks").sum()
    )
    return rows.join(
        weighed.with_columns(pl.col("target_id").cast(rows.schema["target_id"])),
        on="target_id",
        how="left",
        maintain_order="left",
    ).with_columns(window_bid=pl.coalesce("window_bid", "bid"))
