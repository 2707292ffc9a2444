"""Families of products: share of spend beside share of sales, profit by week, and what to shift."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, promise
from nimbus_reef.core import evidence, families, targeting
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.catalog import WRONG_CHILD
from nimbus_reef.core.families import Ad, Child, Shift
from nimbus_reef.core.metrics import with_ratios
from nimbus_reef.core.model import MEASURES, MICRO, Verdict, from_micro
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "product_ad_daily"
_FAMILIES: Final = "listed families"
TRADE: Final = "product_sales_daily"
WEEKS: Final = 8
_CHAIN: Final = ("family", "category")


def children(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Every product of the families with ads in the window, advertised or not, judged, with their place in the family (see
    `core.families.children`): sku, title, measures, total_sales, family, family_name.
    """
    account, window = selection.account, selection.window

    def make() -> pl.DataFrame:
        rows = product_frames.ad_rows(facts, account.id, window)
        sums = rows.group_by("product_id", "sku", "family", "category").agg(pl.col(MEASURES).sum())
        catalog = product_frames.catalog(facts, account.id).select(
            "product_id", pl.col("title").cast(pl.String), "margin", pl.col("ad_eligible").cast(pl.String)
        )
        sums = pl.concat([sums, _without_ads(facts, account.id, sums)], how="diagonal_relaxed")
        trade = (
            product_frames.trade_days(facts, account.id, window)
            .group_by("product_id")
            .agg(total_sales=_on_as_many_days(facts, selection))
        )
        in_family = pl.coalesce("family", pl.col("sku").cast(pl.String))
        named = (
            sums.join(catalog, on="product_id", how="left")
            .join(trade, on="product_id", how="left")
            .with_columns(family=in_family, total_sales="total_sales" if len(trade) else pl.lit(None, pl.Int64))
            .sort("product_id")
        )
        days = facts.monthly_days(account.id, KIND, window)
        judged = targeting.judged(
            evidence.with_priors(named, _CHAIN), days, selection.aims, account.min_clicks
        ).with_columns(pl.col("sku").cast(pl.String))
        names = product_frames.family_names(facts, account.id)
        return families.children(judged, account.settings.child_share, account.settings.child_index).with_columns(
            row_id=pl.col("sku").str.head(64), family_name=pl.col("family").replace(names)
        )

    frame = facts.kept("families", account.id, make, *selection.judging)
    return _within(facts, selection, frame)


def _on_as_many_days(facts: Facts, selection: Selection) -> pl.Expr:
    """Total sales by product, scaled to the days of the ad report when they cover fewer days."""
    ads, trade = (facts.monthly_days(selection.account.id, kind, selection.window) for kind in (KIND, TRADE))
    return (pl.col("total_sales").sum() * ads / trade).round().cast(pl.Int64)


def _without_ads(facts: Facts, account_id: int, sums: pl.DataFrame) -> pl.DataFrame:
    """
    The other products of the families that have ads, with measures of 0: what they sell counts for
    the family's shares.
    """
    catalog = product_frames.catalog(facts, account_id).select(
        "product_id", "sku", family=pl.coalesce("parent", "item").cast(pl.String), category=pl.col("category")
    )
    return (
        catalog.join(sums.select("family").drop_nulls().unique(), on="family", how="semi")
        .join(sums, on="product_id", how="anti")
        .with_columns(pl.lit(0, sums.schema[name]).alias(name) for name in MEASURES)
    )


def _within(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """Whole families of what is looked at: shares say nothing of a part of one."""
    if not selection.part:
        return rows
    ads = selection.within(facts, product_frames.ad_rows(facts, selection.account.id, selection.window))
    frame = ads.select(pl.coalesce("family", pl.col("sku").cast(pl.String)).alias("family")).unique()
    return rows.join(frame, on="family", how="semi")


_LISTED: Final = (
    "sku",
    "title",
    "family",
    "family_name",
    "verdict",
    "costly_child",
    "excess",
    "index",
    "share_spend",
    "share_sales",
    "sold",
    "k",
    "n",
    "prior_a",
    "prior_b",
    "cvr",
    "shrunk_aov",
    "target_acos",
)
"""What is told of a child besides its measures."""


@dataclass(frozen=True, slots=True)
class ListedFamily:
    """
    A family: its children, sums in micro-units, and what is to be shifted. children: `_LISTED` and the measures, the
    largest spend first; stake: what costly children cost beyond their share of sales in the window; alike: it loses
    money, and yet no child more than its share.
    """

    key: str
    name: str
    children: pl.DataFrame
    spend: int
    sales: int
    sold: int
    stake: int
    shift: Shift
    alike: bool

    @property
    def rows(self) -> list[dict[str, Any]]:
        """The children as values: made when asked for, since there may be thousands of families."""
        return self.children.to_dicts()


def listed(facts: Facts, selection: Selection) -> list[ListedFamily]:
    """All families, what goes to the wrong child first, then by spend."""

    def make() -> list[ListedFamily]:
        over = pl.col("verdict").cast(pl.String).is_in([Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value])
        rows = children(facts, selection).select(*_LISTED, *MEASURES).sort(["spend", "sku"], descending=[True, False])
        sums = (
            rows.group_by("family")
            .agg(
                pl.col("family_name").first(),
                pl.col("spend", "sales", "sold").sum(),
                stake=pl.col("excess").filter("costly_child").sum(),
                costly=pl.col("costly_child").any(),
                alike=over.all() & ~pl.col("costly_child").any() & (pl.len() > 1),
            )
            .sort(["stake", "spend", "family"], descending=[True, True, False])
        )
        own = _of_each(rows)
        wrong = rows.filter(pl.col("costly_child").any().over("family"))["sku"]
        ads = _ads(facts, selection, wrong)
        days = facts.monthly_days(selection.account.id, KIND, selection.window)
        kept = selection.account.settings.child_kept
        nothing = _shift(rows.head(0), {}, days, kept)
        return [
            ListedFamily(
                str(row["family"]),
                row["family_name"] or str(row["family"]),
                own[row["family"]],
                row["spend"],
                row["sales"],
                row["sold"],
                row["stake"],
                _shift(own[row["family"]], ads, days, kept) if row["costly"] else nothing,
                row["alike"],
            )
            for row in sums.to_dicts()
        ]

    return facts.kept(_FAMILIES, selection.account.id, make, *selection.judging, selection.part)


def rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    `listed` as rows in its order: row_id, name, skus (of its children and their titles), category, variations (how
    many children), the measures and sold (micro-units) with their ratios, tacos, stake (micro-units of the window),
    moved (units of the window that are to be shifted), alike.
    """

    def make() -> pl.DataFrame:
        found = listed(facts, selection)
        own = pl.DataFrame(
            [(each.key, each.name, each.stake, each.shift.moved, each.alike) for each in found],
            schema={
                "row_id": pl.String,
                "name": pl.String,
                "stake": pl.Int64,
                "moved": pl.Float64,
                "alike": pl.Boolean,
            },
            orient="row",
        )
        sums = (
            children(facts, selection)
            .with_columns(pl.col("family", "category").cast(pl.String))
            .group_by("family")
            .agg(
                pl.col(*MEASURES, "sold").sum().cast(pl.Int64),
                pl.col("category").drop_nulls().first(),
                skus=pl.concat_str("sku", pl.lit(" "), pl.col("title").fill_null("")).str.join(" "),
                variations=pl.len().cast(pl.Int64),
            )
        )
        tacos = pl.when(pl.col("sold") > 0).then(pl.col("spend") / pl.col("sold"))
        made = own.join(sums, left_on="row_id", right_on="family", how="left", maintain_order="left")
        return with_ratios(made).with_columns(tacos=tacos)

    return facts.kept("family rows", selection.account.id, make, *selection.judging, selection.part)


def _of_each(rows: pl.DataFrame) -> dict[str, pl.DataFrame]:
    """The rows of each family in their order."""
    beside = rows.sort("family", maintain_order=True)
    found: dict[str, pl.DataFrame] = {}
    begun = 0
    for family, size in beside.group_by("family", maintain_order=True).len().rows():
        found[family] = beside.slice(begun, size)
        begun += size
    return found


def is_listed(facts: Facts, selection: Selection) -> bool:
    """Whether `listed` is worked out already."""
    return facts.known(_FAMILIES, selection.account.id, *selection.judging, selection.part) is not None


def reads(_: Facts, selection: Selection) -> list[tuple[str, Window]]:
    """What it is worked out from: the reports and their days."""
    return [(KIND, selection.window), (KIND, _weeks(selection))]


def _shift(family: pl.DataFrame, ads: Mapping[str, Sequence[Ad]], days: int, kept: float) -> Shift:
    """The shift of a family; of none, that of a family without a costly child."""
    rows = family.to_dicts()
    skus = sorted(row["sku"] for row in rows)
    return families.shift([_child(row) for row in rows], [ad for sku in skus for ad in ads.get(sku, [])], days, kept)


def _child(row: Mapping[str, Any]) -> Child:
    has_prior = row["prior_a"] is not None
    return Child(
        row["sku"],
        from_micro(row["spend"]),
        row["clicks"],
        row["costly_child"],
        from_micro(row["excess"]),
        row["index"],
        Verdict(row["verdict"]),
        row["prior_a"] + row["k"] if has_prior else 1.0,
        row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        from_micro(row["shrunk_aov"] or 0),
    )


def _ads(facts: Facts, selection: Selection, skus: pl.Series) -> dict[str, list[Ad]]:
    """Running product ads of some SKUs, by SKU."""
    running = product_frames.enabled_ads(facts, selection.account.id, selection.window).select(
        "ad_group_id", "product_id"
    )
    rows = product_frames.ad_rows(facts, selection.account.id, selection.window).join(
        running, on=["ad_group_id", "product_id"], how="semi"
    )
    found: dict[str, list[Ad]] = {}
    for row in (
        rows.filter(pl.col("sku").cast(pl.String).is_in(skus.implode())).sort("ad_group_id", "product_id").to_dicts()
    ):
        found.setdefault(str(row["sku"]), []).append(
            Ad(
                row["campaign"],
                row["ad_group"],
                str(row["sku"]),
                row["clicks"],
                from_micro(row["spend"]),
                from_micro(row["sales"]),
            )
        )
    return found


def family(facts: Facts, selection: Selection, key: str) -> ListedFamily:
    """One family; NotFound where it had no ads in the window."""
    found = next((each for each in listed(facts, selection) if each.key == key), None)
    if found is None:
        raise NotFound("This family has no ads in this period.", remedy="Choose another period, or close it.")
    return found


def proposal(selection: Selection, listed_family: ListedFamily, days: int) -> Proposal:
    """The pauses that shift a family's money, or why none are proposed. days: those of the window that are held."""
    shift = listed_family.shift
    subject = EntityKey(Subject.FAMILY, name=listed_family.key)
    if not shift.pauses:
        why = () if shift.why_not is None else (Reason(shift.why_not),)
        return Proposal(subject, listed_family.key, Headline(HeadlineKey.NOTHING_TO_SHIFT), reasons=why)
    rows = {row["sku"]: row for row in listed_family.rows}
    part = families.part(shift.projected, len(shift.pauses))
    package = []
    for ad in shift.pauses:
        basis = {"clicks": ad.clicks, "orders": 0, "spend": ad.spend * MICRO, "sales": ad.sales * MICRO}
        result = promise(selection, {**rows[ad.sku], **basis}, "families", listed_family.key, part)
        of: dict[str, Any] = {"ad_group": ad.ad_group, "sku": ad.sku}
        package.append(
            (change(Entity.PRODUCT_AD, "state", ad.campaign, "paused", "enabled", WRONG_CHILD.key, **of), result)
        )
    counts = Counter(ad.sku for ad in shift.pauses)
    return Proposal(
        subject,
        listed_family.key,
        Headline(HeadlineKey.PAUSE_ADS, tuple(each for pair in sorted(counts.items()) for each in pair)),
        tuple(package),
        _why(shift, rows, sorted(counts), month_factor(days)),
        effect=shift.projected,
    )


def _why(
    shift: Shift, rows: Mapping[str, Mapping[str, Any]], skus: Sequence[str], monthly: float
) -> tuple[Reason, ...]:
    reasons = []
    for sku in skus:
        row = rows[sku]
        shares = (sku, row["share_spend"], row["share_sales"], row["clicks"])
        reasons.append(Reason(ReasonKey.CHILD_SHARES, shares))
        reasons.append(Reason(ReasonKey.CHILD_KEEPS, (sku, shift.kept.get(sku, 0.0) * monthly)))
    takes = [row for row in rows.values() if shift.after.get(row["sku"], 0) * MICRO > row["spend"] + 1]
    proven = [row["sku"] for row in takes if row["verdict"] == Verdict.WITHIN.value]
    beside = [row["sku"] for row in takes if row["verdict"] != Verdict.WITHIN.value]
    reasons.append(Reason(ReasonKey.SHIFT_TO, (shift.moved * monthly, *proven)))
    if beside:
        reasons.append(Reason(ReasonKey.SHIFT_BESIDE, tuple(beside)))
    return tuple(reasons)


def profit_by_week(facts: Facts, selection: Selection) -> dict[str, list[float]]:
    """
    Profit after ads of each SKU in each of the eight weeks up to the window's end, in units, oldest first: total sales
    × margin − spend. Only of SKUs whose margin is known, and of weeks held by day.
    """
    account = selection.account

    def make() -> dict[str, list[float]]:
        window = _weeks(selection)
        week = ((pl.lit(window.last) - pl.col("day")).dt.total_days() // 7).alias("week")
        by_day = pl.col("first_day") == pl.col("day")
        trade = product_frames.trade_days(facts, account.id, window).filter(by_day)
        # Profit of a week uses only days with both reports loaded.
        ads = product_frames.product_days(facts, account.id, window, measures=("spend",))
        ads = ads.filter(pl.col("day").is_in([span.last for span in facts.days(account.id, TRADE, window)]))
        trade = trade.filter(pl.col("day").is_in([span.last for span in facts.days(account.id, KIND, window)]))
        sold = trade.group_by("product_id", week).agg(pl.col("total_sales").sum())
        spent = ads.group_by("product_id", week).agg(pl.col("spend").sum())
        known = (
            product_frames.catalog(facts, account.id)
            .select("product_id", pl.col("sku").cast(pl.String), "margin")
            .drop_nulls("margin")
        )
        rows = (
            sold.join(spent, on=["product_id", "week"], how="full", coalesce=True)
            .with_columns(pl.col("total_sales", "spend").fill_null(0))
            .join(known, on="product_id")
            .filter(pl.col("week").is_between(0, WEEKS - 1))
            .with_columns(profit=(pl.col("total_sales") * pl.col("margin") / 100 - pl.col("spend")) / MICRO)
        )
        found: dict[str, list[float]] = {}
        for sku, number, profit in rows.select("sku", "week", "profit").sort("sku", "week").rows():
            found.setdefault(sku, [0.0] * WEEKS)[WEEKS - 1 - number] = profit
        return found

    return facts.kept("weekly profit", account.id, make, selection.window)


def _weeks(selection: Selection) -> Window:
    return Window(selection.window.shifted(selection.window.days - 7 * WEEKS).first, selection.window.last)


def trade_held(facts: Facts, selection: Selection) -> bool:
    """Whether all trade of products is held: else shares are of ad sales."""
    return facts.held_days(selection.account.id, TRADE, selection.window) > 0
