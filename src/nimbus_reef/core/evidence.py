"""
Luck or fact: whether a row's cost of sale is truly over its target.

A row (target, search term, …) has n clicks and k = min(orders, clicks). Its cohort
gives a Beta prior for its conversion: of targets, terms and product ads the account's fit
(`core.cohorts`), of phrases the smallest sufficient group of rows like it. The posterior says
how likely it is that the row converts below what its price per click needs.
Formulas: "Evidence" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import numpy as np
import numpy.typing as npt
import polars as pl
from scipy.special import betainc, betaincinv, betaln

from nimbus_reef.core.metrics import within_target
from nimbus_reef.core.model import SimpleVerdict, Verdict
from nimbus_reef.core.windows import month_factor

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

STRENGTHS: Final[Floats] = 20.0 * 20.0 ** (np.arange(9) / 8)
MIN_GROUP_CLICKS: Final = 300
MIN_GROUP_ORDERS: Final = 5
MIN_GROUP_ROWS: Final = 5
MAX_ROW_SHARE: Final = 0.5
FALLBACK_STRENGTH: Final = 20.0
AOV_WEIGHT: Final = 5
ABOVE_AT: Final = 0.90
LIKELY_ABOVE_AT: Final = 0.75
WITHIN_AT: Final = 0.25
OWN_FAULT_AT: Final = 0.75
MOST_CLICKS_NEEDED: Final = 1_000
INTERVAL: Final = 0.80
ACCOUNT: Final = "account"


def fit_priors(n: Ints, k: Ints, group: Ints, groups: int, count: Ints | None = None) -> tuple[Floats, Floats]:
    """
    The prior of each group of rows, fitted in one pass over all of them.

    On a grid of strengths s, with w = (s+1)/(s+n) and m = Σwk/Σwn, the s with the largest
    Σ[ln B(ms+k, (1-m)s+n-k) - ln B(ms, (1-m)s)] wins, the smaller on ties.

    Parameters
    ----------
    n, k : int64, a row each
        Clicks (> 0) and orders.
    group : int64, a row each
        0 … groups - 1.
    count : int64, a row each, optional
        How many rows alike stand in it; one where it is left out.

    Returns
    -------
    a, b : float64, a group each
        The Beta prior of a group's conversion.

    References
    ----------
    docs/calculations.md, “Evidence”: the beta-binomial likelihood.
    """
    times = np.ones(len(n)) if count is None else count
    best = np.full(groups, -np.inf)
    mean = np.zeros(groups)
    strength = np.full(groups, STRENGTHS[0])
    for s in STRENGTHS:
        w = times * (s + 1) / (s + n)
        m = np.bincount(group, w * k, groups) / np.bincount(group, w * n, groups)
        m = np.clip(m, 1e-9, 1 - 1e-9)
        alpha, beta = m * s, (1 - m) * s
        row = betaln(alpha[group] + k, beta[group] + n - k) - betaln(alpha, beta)[group]
        likelihood = np.bincount(group, times * row, groups)
        # A rounding error must not make a larger s win a tie.
        better = likelihood > best + 1e-9 * np.abs(best, where=np.isfinite(best), out=np.ones(groups))
        best = np.where(better, likelihood, best)
        mean = np.where(better, m, mean)
        strength = np.where(better, s, strength)
    return mean * strength, (1 - mean) * strength


def _group_sums(alike: pl.DataFrame, by: str) -> pl.DataFrame:
    return alike.group_by(by).agg(
        group_n=(pl.col("n") * pl.col("alike")).sum(),
        group_k=(pl.col("k") * pl.col("alike")).sum(),
        group_rows=pl.col("alike").sum(),
        group_sales=pl.col("sales").sum(),
        largest=pl.col("n").max(),
    )


def _sufficient(level: str) -> pl.Expr:
    enough = (pl.col("group_n") >= MIN_GROUP_CLICKS) & (pl.col("group_k") >= MIN_GROUP_ORDERS)
    if level == ACCOUNT:
        return enough
    return enough & (pl.col("group_rows") >= MIN_GROUP_ROWS) & (pl.col("largest") <= MAX_ROW_SHARE * pl.col("group_n"))


def _fitted(groups: pl.DataFrame, alike: pl.DataFrame, level: str) -> pl.DataFrame:
    """Adds prior_a and prior_b to the groups in use at one level."""
    codes = groups.select(level).with_row_index("code")
    members = alike.join(codes, on=level, how="inner").group_by("code", "n", "k").agg(pl.col("alike").sum())
    if members.is_empty():
        return groups.with_columns(prior_a=pl.lit(None, pl.Float64), prior_b=pl.lit(None, pl.Float64))
    # In one order, so that the sums round the same way whatever order the rows came in.
    members = members.sort("code", "n", "k")
    n, k, code, count = (members[name].to_numpy().astype(np.int64) for name in ("n", "k", "code", "alike"))
    a, b = fit_priors(n, k, code, len(codes), count)
    fitted = groups.with_columns(prior_a=pl.Series(a), prior_b=pl.Series(b))
    if level != ACCOUNT:
        return fitted
    # Too few rows, or one row that is most of the account, cannot show a spread.
    spread = (pl.col("group_rows") >= MIN_GROUP_ROWS) & (pl.col("largest") <= MAX_ROW_SHARE * pl.col("group_n"))
    mean = pl.col("group_k") / pl.col("group_n")
    return fitted.with_columns(
        prior_a=pl.when(spread).then("prior_a").otherwise(mean * FALLBACK_STRENGTH),
        prior_b=pl.when(spread).then("prior_b").otherwise((1 - mean) * FALLBACK_STRENGTH),
    )


def with_priors(rows: pl.DataFrame, chain: Sequence[str]) -> pl.DataFrame:
    """
    Gives every row the prior of the smallest group of its chain that is large enough.

    Parameters
    ----------
    rows : frame
        clicks, orders, sales (micro-units) and one key column per level of `chain`, null where the level is unknown.
    chain : column names
        Smallest first; the account comes last by itself.

    Returns
    -------
    frame
        With prior_level, prior_a, prior_b, cohort_cvr (the prior's mean), group_n, group_k, group_rows and group_aov
        (micro-units), all null where even the account is too small.
    """
    found = _of_cohort(rows, chain, fitted=True)
    mean = pl.col("prior_a") / (pl.col("prior_a") + pl.col("prior_b"))
    return rows.hstack(found).with_columns(cohort_cvr=mean)


def with_aov(rows: pl.DataFrame, chain: Sequence[str]) -> pl.DataFrame:
    """Adds group_aov (micro): what an order is worth in the same groups, by their sums alone."""
    return rows.hstack(_of_cohort(rows, chain, fitted=False).select("group_aov"))


def _of_cohort(rows: pl.DataFrame, chain: Sequence[str], *, fitted: bool) -> pl.DataFrame:
    """What the smallest sufficient group of each row's chain comes to, in the rows' order."""
    # A level that no row knows cannot gather any.
    chain = [level for level in chain if rows[level].null_count() < len(rows)]
    levels = (*chain, ACCOUNT)
    # Names as numbers: they are compared again and again.
    names = [_coded(rows.schema[level], level) for level in chain]
    coded = rows.select(
        *names,
        pl.lit(0, pl.UInt32).alias(ACCOUNT),
        pl.col("clicks").cast(pl.Int64).alias("n"),
        _orders().alias("k"),
        "sales",
    )
    # Many rows stand in the same cohort, and many in it have the same clicks and orders: each
    # cohort is looked at once, and rows alike count as many.
    clicked = coded.filter(pl.col("n") > 0)
    alike = clicked.group_by(*levels, "n", "k").agg(pl.col("sales").sum(), alike=pl.len())
    cohorts = coded.select(levels).unique().with_row_index("_cohort")
    parts: list[pl.DataFrame] = []
    waiting = cohorts
    for level in levels:
        sums = _group_sums(alike.filter(pl.col(level).is_not_null()), level)
        good = sums.filter(_sufficient(level))
        here = waiting.join(good, on=level, how="semi")
        if here.is_empty():
            continue
        used = good.join(here.select(level).unique(), on=level, how="semi")
        if fitted:
            used = _fitted(used, alike, level)
        frame = used.with_columns(
            prior_level=pl.lit(level),
            group_aov=pl.when(pl.col("group_k") > 0).then(pl.col("group_sales") / pl.col("group_k")).otherwise(None),
        )
        parts.append(here.select("_cohort", level).join(frame, on=level).drop(level, "group_sales", "largest"))
        waiting = waiting.join(here.select("_cohort"), on="_cohort", how="anti")
    gathered = pl.concat(parts, how="diagonal") if parts else _nobody()
    found = cohorts.join(gathered, on="_cohort", how="left")
    whose = coded.select(levels).join(found, on=levels, how="left", nulls_equal=True, maintain_order="left")
    return whose.drop(*levels, "_cohort")


def _orders() -> pl.Expr:
    return pl.min_horizontal("orders", "clicks").cast(pl.Int64)


def _coded(dtype: pl.DataType, level: str) -> pl.Expr:
    return pl.col(level).cast(pl.Categorical).to_physical() if dtype == pl.String else pl.col(level)


def _nobody() -> pl.DataFrame:
    return pl.DataFrame(
        schema={
            "_cohort": pl.UInt32,
            "prior_level": pl.String,
            "prior_a": pl.Float64,
            "prior_b": pl.Float64,
            "group_n": pl.Int64,
            "group_k": pl.Int64,
            "group_rows": pl.UInt32,
            "group_aov": pl.Float64,
        }
    )


def probability_over(needed: Any, a: Any, b: Any) -> Any:
    """
    How likely a row's true conversion is below what it needs: P_over = I(c*; a, b).

    Parameters
    ----------
    needed : rate
        c*, the conversion at which it would be on target; from 1 on the answer is 1.
    a, b : counts
        The posterior Beta(a, b).

    References
    ----------
    docs/calculations.md, “Evidence”; the regularised incomplete beta function, DLMF 8.17.
    """
    return betainc(a, b, np.clip(needed, 0.0, 1.0))


def stake_share(needed: Any, a: Any, b: Any, p_over: Any) -> Any:
    """
    The part of spend that is overspend: E[max(0, 1 - CVR/c*)] under the posterior.

    Parameters
    ----------
    needed : rate
        c*.
    a, b : counts
        The posterior.
    p_over : probability
        I(c*; a, b), which need not be worked out twice.

    Returns
    -------
    share of spend, 0 … 1
        P_over - mean/c* · I(c*; a+1, b).

    References
    ----------
    DLMF 8.17.20: I(x; a+1, b) = I(x; a, b) - x^a (1-x)^b / (a B(a, b)).
    """
    x = np.clip(needed, 0.0, 1.0)
    step = np.exp(a * np.log(x) + b * np.log1p(-x) - np.log(a) - betaln(a, b))
    share = p_over - a / (a + b) / needed * (p_over - step)
    return np.clip(share, 0.0, 1.0)


def judge(rows: pl.DataFrame, days: int) -> pl.DataFrame:
    """
    The verdict on every row of one kind in one window.

    Parameters
    ----------
    rows : frame
        clicks, orders, spend, sales (micro-units), target_acos (fraction), and what its cohort says: prior_a, prior_b,
        cohort_cvr (what it is held against for its own fault), group_aov (micro-units); of rows whose words were looked
        at also free_a, free_b (the prior without them) and slow_word.
    days : days
        Of the window, from which stakes are scaled to 30.

    Returns
    -------
    frame
        In the same order, which does not matter, with n, k, shrunk_aov (micro-units, drawn to the group's), needed_cvr
        (c*), p_over, p_free (the same without the words), own_test, own_fault, by_words, verdict, stake (micro-units
        per 30 days) and excess (the same observed plainly, biased by luck).

    References
    ----------
    docs/calculations.md, “Evidence”.
    """
    frame = rows.with_columns(
        n=pl.col("clicks").cast(pl.Int64),
        k=_orders(),
        shrunk_aov=pl.when(pl.col("group_aov") > 0).then(
            (pl.col("sales") + AOV_WEIGHT * pl.col("group_aov")) / (_orders() + AOV_WEIGHT)
        ),
    ).with_columns(
        needed_cvr=pl.when(pl.col("n") > 0).then(
            pl.col("spend") / pl.col("n") / (pl.col("shrunk_aov") * pl.col("target_acos"))
        )
    )
    post_a, post_b, needed, cohort = (
        frame.select(
            (pl.col("prior_a") + pl.col("k")).alias("a"),
            (pl.col("prior_b") + pl.col("n") - pl.col("k")).alias("b"),
            "needed_cvr",
            "cohort_cvr",
        )
        .cast(pl.Float64)
        .fill_null(float("nan"))
        .to_numpy()
        .T
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        p_over = probability_over(needed, post_a, post_b)
        share = stake_share(needed, post_a, post_b, p_over)
        own_fault = betainc(post_a, post_b, cohort) >= OWN_FAULT_AT
    monthly = month_factor(days)
    judged = frame.with_columns(
        p_over=_probability(p_over),
        own_fault=pl.Series(own_fault),
        own_test=(pl.col("n") * pl.col("needed_cvr") >= 1).fill_null(False),
        stake=(pl.col("spend") * pl.Series(share).fill_nan(0.0) * monthly).round().cast(pl.Int64),
        excess=(pl.max_horizontal(0.0, pl.col("spend") - pl.col("target_acos") * pl.col("sales")) * monthly)
        .round()
        .cast(pl.Int64),
    ).with_columns(verdict=_verdict())
    if "free_a" not in rows.columns:
        return judged.with_columns(p_free="p_over", by_words=pl.lit(False))
    free = _probability(_over_without_words(judged))
    return judged.with_columns(p_free=free).with_columns(
        by_words=(flagged() & (pl.col("p_free") < LIKELY_ABOVE_AT) & pl.col("slow_word")).fill_null(False)
    )


def _probability(p: Floats) -> pl.Expr:
    return pl.when(pl.col("spend") == 0).then(0.0).otherwise(pl.Series(p, nan_to_null=True))


def _over_without_words(judged: pl.DataFrame) -> Floats:
    a, b, needed = (
        judged.select(
            pl.col("free_a") + pl.col("k"), pl.col("free_b") + pl.col("n") - pl.col("k"), pl.col("needed_cvr")
        )
        .cast(pl.Float64)
        .fill_null(float("nan"))
        .to_numpy()
        .T
    )
    return np.asarray(probability_over(needed, a, b))


def _verdict() -> pl.Expr:
    # Without a click there is nothing to judge by: its chance would be that of rows like it alone.
    not_enough = (pl.col("prior_a").is_null() & (pl.col("spend") > 0)) | (pl.col("clicks") == 0)
    return pl.when(not_enough).then(pl.lit(Verdict.NOT_ENOUGH.value)).otherwise(verdict_of("p_over"))


def verdict_of(chance: str) -> pl.Expr:
    """The verdict that a column's chance of being above target comes to."""
    p = pl.col(chance)
    return (
        pl.when(p >= ABOVE_AT)
        .then(pl.lit(Verdict.ABOVE.value))
        .when(p >= LIKELY_ABOVE_AT)
        .then(pl.lit(Verdict.LIKELY_ABOVE.value))
        .when(p <= WITHIN_AT)
        .then(pl.lit(Verdict.WITHIN.value))
        .otherwise(pl.lit(Verdict.TOO_EARLY.value))
    )


def verdict_at(chance: float) -> str:
    """The same of one chance."""
    return str(pl.select(chance=chance).select(verdict_of("chance")).item())


_BY_WORDS: Final = "because of a word"
_BY_PRODUCT: Final = "like its whole product"
_BY_GROUP: Final = "like its whole ad group"


def cause_of(row: Mapping[str, Any]) -> str:
    """
    What a judged row is costly by, other than itself: its words, its product or its ad group; empty
    where it is itself.
    """
    if row["verdict"] not in (Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value):
        return ""
    if row["by_words"]:
        return _BY_WORDS
    if row["own_fault"]:
        return ""
    return _BY_PRODUCT if knows_product(row) else _BY_GROUP


_AT_LEAST: Final = "Chance of being above target: at least"
_MEANS: Final[Mapping[str, str]] = {
    Verdict.ABOVE: f"{_AT_LEAST} {100 * ABOVE_AT:.0f} %",
    Verdict.LIKELY_ABOVE: f"{_AT_LEAST} {100 * LIKELY_ABOVE_AT:.0f} %. Not sure enough to act on this row alone",
    Verdict.WITHIN: f"Chance of being above target: at most {100 * WITHIN_AT:.0f} %",
    Verdict.TOO_EARLY: "Its clicks do not settle yet whether it is above target",
    Verdict.NOT_ENOUGH: "No click yet, or too few clicks and orders in the account to judge",
    SimpleVerdict.OVER: "Enough clicks for the simple rule, and ACOS above target",
    SimpleVerdict.NO_ORDER: "Enough clicks for the simple rule, and no order",
    SimpleVerdict.UNDER: "ACOS within target, by the simple rule",
    SimpleVerdict.FEW_CLICKS: "Fewer clicks than the simple rule asks for",
}
_CAUSES: Final[Mapping[str, str]] = {
    _BY_WORDS: "Without that word it would not be. Check the word",
    _BY_PRODUCT: "It converts like similar targets. Check the product, its price and its bids",
    _BY_GROUP: ("It converts like similar targets. Check the products of the ad group, their prices and the bids"),
}


def meaning(text: str) -> str:
    """What a verdict means, with its cause where it names one (see `cause_of`); empty for what is no verdict."""
    if text in _MEANS:
        return _MEANS[text]
    verdict, _, cause = text.partition(", ")
    return f"{_MEANS[verdict]}. {_CAUSES[cause]}" if verdict in _MEANS and cause in _CAUSES else ""


def knows_product(row: Mapping[str, Any]) -> bool:
    """Whether it is known which product a row advertises, by its ads or by what its campaign is called."""
    return any(row.get(name) is not None for name in ("main_product", "name_part", "sku"))


def flagged() -> pl.Expr:
    """Costly or leaning: the money counts as at stake."""
    return pl.col("verdict").is_in([Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value])


def counted_stake() -> pl.Expr:
    """The stake to add up over rows: only of rows above or likely above target, as in every total."""
    return pl.when(flagged()).then("stake").otherwise(0).alias("stake")


def with_its_product() -> pl.Expr:
    """Flagged, yet converting like similar ones, and not by its words: the product, its price or its bids are wrong."""
    return flagged() & ~pl.col("own_fault") & ~pl.col("by_words")


def clicks_needed(n: Ints, k: Ints, a: Floats, b: Floats, needed: Floats) -> list[int | None]:
    """
    The smallest number of further clicks without an order at which P_over reaches 0.90.

    Parameters
    ----------
    n, k : int64, a row each
        Clicks and orders.
    a, b : float64, a row each
        The prior.
    needed : rate, a row each
        c*.

    Returns
    -------
    counts, a row each
        0 where it already is; None above 1,000 (“more clicks will not settle it”).
    """
    low = np.full(len(n), -1, dtype=np.int64)
    high = np.full(len(n), MOST_CLICKS_NEEDED + 1, dtype=np.int64)

    def settled(more: Ints) -> npt.NDArray[np.bool_]:
        p = probability_over(needed, a + k, b + n + more - k)
        return np.asarray(p >= ABOVE_AT)

    # P_over only grows with further misses, so halving finds the first settled count.
    while np.any(high - low > 1):
        middle = (low + high) // 2
        done = settled(middle)
        high = np.where(done, middle, high)
        low = np.where(done, low, middle)
    return [int(m) if m <= MOST_CLICKS_NEEDED else None for m in high]


def losing(rows: pl.DataFrame, margin: pl.Expr) -> tuple[pl.Series, pl.Series]:
    """
    P_lose: how likely a row's clicks cost more than its margin leaves.

    Parameters
    ----------
    rows : frame
        Judged, with n, k, prior_a, prior_b, spend and shrunk_aov (micro-units).
    margin : fraction of sales
        Before ads.

    Returns
    -------
    p_lose : probability, a row each
        I(π/(A·m); a', b'); null without clicks or a prior.
    tested : bool, a row each
        Whether it had clicks enough for an order at that rate: n·π/(A·m) ≥ 1.

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    needed = pl.when(pl.col("n") > 0).then(pl.col("spend") / pl.col("n") / (pl.col("shrunk_aov") * margin))
    known = rows.select(
        needed.alias("needed"),
        (pl.col("prior_a") + pl.col("k")).alias("a"),
        (pl.col("prior_b") + pl.col("n") - pl.col("k")).alias("b"),
        enough=pl.col("n") * needed >= 1,
    )
    figures = known.select("needed", "a", "b").cast(pl.Float64).fill_null(float("nan")).to_numpy().T
    return pl.Series(probability_over(*figures), nan_to_null=True), known["enough"]


def interval(a: float, b: float, width: float = INTERVAL) -> tuple[float, float]:
    """The central interval of Beta(a, b) that holds `width` of it."""
    tail = (1 - width) / 2
    return float(betaincinv(a, b, tail)), float(betaincinv(a, b, 1 - tail))


def density(a: float, b: float, x: Floats) -> Floats:
    """The density of Beta(a, b) at x (0 < x < 1): the picture of luck."""
    return np.asarray(np.exp((a - 1) * np.log(x) + (b - 1) * np.log1p(-x) - betaln(a, b)))


def miss_chance(clicks: int, rate: float) -> float:
    """How often so many clicks bring no order by luck alone at the given conversion."""
    return float((1 - rate) ** clicks)


def simple_rule(min_clicks: int | pl.Expr) -> pl.Expr:
    """The rule of thumb beside the evidence: ≥ min_clicks (of the row), then ACOS above target or no order."""
    return (
        pl.when(pl.col("clicks") < min_clicks)
        .then(pl.lit(SimpleVerdict.FEW_CLICKS.value))
        .when(pl.col("sales") == 0)
        .then(pl.lit(SimpleVerdict.NO_ORDER.value))
        .when(~within_target())
        .then(pl.lit(SimpleVerdict.OVER.value))
        .otherwise(pl.lit(SimpleVerdict.UNDER.value))
        .alias("simple_verdict")
    )
