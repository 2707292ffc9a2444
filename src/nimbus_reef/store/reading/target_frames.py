"""Targets, search terms and ad groups: what they did in a window, and their cohorts."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core import cohorts
from nimbus_reef.core.cohorts import Fitted
from nimbus_reef.core.model import MEASURES, State
from nimbus_reef.core.targeting import PRODUCT_LEVEL, with_cohort
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames, setting_frames, word_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts
from nimbus_reef.store.reading.term_places import TermPlaces, term_places
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF


def target_sums(facts: Facts, account_id: int, window: Window, source: str | None = None) -> pl.DataFrame:
    """
    What each target did in the window: target_id, measures. source: the report, the one that holds
    most of the window when not given.
    """
    source = source or facts.target_source(account_id, window).kind
    sums = facts.sums(account_id, source, window)
    if source != "search_term_daily":
        return sums
    rows = places(facts, account_id).placed(sums, "target_id")
    return rows.group_by("target_id").agg(pl.col(MEASURES).sum())


def clicked_days(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """clicks, orders, spend, sales of every target and day with a click, no names; from the report that holds most."""
    source = facts.target_source(account_id, window).kind
    (key,) = KEYS_OF[source]
    columns = ["clicks", "orders", "spend", "sales"]
    rows = snapshots.read(
        facts.store, account_id, source, facts.days(account_id, source, window), [key, *columns]
    ).filter(pl.col("clicks") > 0)
    counted = [pl.col(name).cast(pl.Int64) for name in columns]
    if key == "target_id":
        return rows.select(counted).collect()
    names = term_names(facts, account_id).select("target_term_id", "target_id").lazy()
    by_target = rows.join(names, on="target_term_id").group_by("target_id", "day").agg(each.sum() for each in counted)
    return by_target.select(columns).collect()


def target_rows(facts: Facts, account_id: int, window: Window, source: str | None = None) -> pl.DataFrame:
    """
    One row per target that did anything in the window, from a report as in `target_sums`, and per target that is
    enabled at its end and did nothing: its measures are 0.

    target_id, ad_group_id, campaign_id, campaign, ad_group, target, match_type,
    state, bid (micro; both null where no settings are held), the chain of the
    evidence (ad_group_id, main_product, family, category), format, portfolio and the measures.
    """
    source = source or facts.target_source(account_id, window).kind

    def make() -> pl.DataFrame:
        settings = setting_frames.target_settings(facts, account_id, window)
        return (
            _with_idle(target_sums(facts, account_id, window, source), targets(facts, account_id), settings)
            .join(targets(facts, account_id), on="target_id")
            .join(settings, on="target_id", how="left")
            .join(groups(facts, account_id, window), on="ad_group_id", how="left")
            .join(setting_frames.placed(facts, account_id, window), on="campaign_id", how="left")
            .sort("target_id")
        )

    return facts.kept("targets", account_id, make, window, source)


def _with_idle(sums: pl.DataFrame, names: pl.DataFrame, settings: pl.DataFrame) -> pl.DataFrame:
    """Sums by target, and a row of zeros for each that is enabled and has none."""
    enabled = settings.filter(pl.col("state").cast(pl.String) == State.ENABLED.value).select("target_id")
    buys = names.filter(~pl.col("match_type").cast(pl.String).str.starts_with("negative")).select("target_id")
    idle = enabled.join(buys, on="target_id", how="semi").join(sums.select("target_id"), on="target_id", how="anti")
    zeros = [pl.lit(0, sums.schema[name]).alias(name) for name in sums.columns if name != "target_id"]
    return pl.concat([sums, idle.select(pl.col("target_id").cast(sums.schema["target_id"]), *zeros)])


def named_targets(facts: Facts, account_id: int, window: Window, source: str) -> pl.DataFrame:
    """
    The rows of `target_rows` for whom nothing is judged: without settings, and of the chain the main_product alone. Not
    kept: whatever is made of it is.
    """
    return (
        target_sums(facts, account_id, window, source)
        .sort("target_id")
        .join(targets(facts, account_id), on="target_id", maintain_order="left")
        .join(
            _main_products(facts, account_id, window).select("ad_group_id", "main_product"),
            on="ad_group_id",
            how="left",
            maintain_order="left",
        )
        .join(setting_frames.placed(facts, account_id, window), on="campaign_id", how="left", maintain_order="left")
    )


def term_rows(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    One row per (campaign, ad group, normalised term): as `target_rows`, with
    normal_id, term (as most often paid for), targets (how many brought it) and
    target (the one that paid most). Not kept: it is large, and what is judged of it is kept.
    """
    where = places(facts, account_id)
    sums = where.placed(facts.sums(account_id, "search_term_daily", window), "pair", "target_id", "place")
    # Numbers alone are sorted and grouped; names are those of the rows that are left.
    alone, several = where.distinct(sums)
    columns = ("pair", "place", "target_id", "targets", *MEASURES)
    grouped = (
        several.sort(["spend", "impressions", "target_term_id"], descending=[True, True, False])
        .group_by("pair", maintain_order=True)
        .agg(
            pl.col("place", "target_id").first(),
            pl.col("target_id").n_unique().alias("targets"),
            pl.col(MEASURES).sum(),
        )
        .select(columns)
    )
    one = alone.select("pair", "place", "target_id", pl.lit(1, grouped.schema["targets"]).alias("targets"), *MEASURES)
    rows = where.named(pl.concat([one, grouped]).sort("pair"))
    names = targets(facts, account_id).drop("ad_group_id", "target_normal_id")
    return (
        rows.with_columns(term=term_names(facts, account_id)["term"].gather(rows["place"]))
        .join(names, on="target_id", how="left", maintain_order="left")
        .select(
            "campaign_id",
            "ad_group_id",
            "normal_id",
            "campaign",
            "ad_group",
            "target",
            "match_type",
            "term",
            "target_id",
            "targets",
            *MEASURES,
        )
        .join(groups(facts, account_id, window), on="ad_group_id", how="left", maintain_order="left")
        .join(setting_frames.placed(facts, account_id, window), on="campaign_id", how="left", maintain_order="left")
    )


def targets(facts: Facts, account_id: int) -> pl.DataFrame:
    """Names of all targets of the account: ids, campaign, ad_group, target, match_type."""
    query = (
        "SELECT t.id AS target_id, g.id AS ad_group_id, c.id AS campaign_id, c.name AS campaign, "
        "g.name AS ad_group, p.text AS target, p.normal_id AS target_normal_id, t.match_type "
        "FROM campaign c JOIN ad_group g ON g.campaign_id = c.id "
        "JOIN target t ON t.ad_group_id = g.id JOIN phrase p ON p.id = t.phrase_id "
        "WHERE c.account_id = :account"
    )
    return facts.kept("names", account_id, lambda: facts.query(query, account=account_id))


def places(facts: Facts, account_id: int) -> TermPlaces:
    """Where every term of the account stands."""
    return term_places(facts, account_id, term_names(facts, account_id), targets(facts, account_id))


def term_names(facts: Facts, account_id: int) -> pl.DataFrame:
    """Names of all terms that targets brought: target_term_id, ascending, target_id, normal_id, term."""
    query = (
        "SELECT w.id AS target_term_id, w.target_id, p.normal_id, p.text AS term "
        "FROM campaign c JOIN ad_group g ON g.campaign_id = c.id "
        "JOIN target t ON t.ad_group_id = g.id JOIN target_term w ON w.target_id = t.id "
        "JOIN phrase p ON p.id = w.phrase_id WHERE c.account_id = :account"
    )
    return facts.kept("term names", account_id, lambda: facts.query(query, account=account_id).sort("target_term_id"))


def groups(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    Whose cohort the ad groups with rows in the window are: ad_group_id, main_product (largest spend,
    ties to the smaller SKU), family, category; of those without product rows own_campaign, name_part,
    own_portfolio.
    """

    def make() -> pl.DataFrame:
        here = pl.concat(
            [target_sums(facts, account_id, window, kind).select("target_id") for kind in TARGET_SOURCES]
        ).unique()
        known = targets(facts, account_id).join(here, on="target_id", how="semi")
        portfolios = setting_frames.placed(facts, account_id, window).select("campaign_id", "portfolio")
        return (
            known.select("ad_group_id", "campaign_id", "campaign")
            .unique("ad_group_id")
            .sort("ad_group_id")
            .join(portfolios, on="campaign_id", how="left", maintain_order="left")
            .join(_main_products(facts, account_id, window), on="ad_group_id", how="left", maintain_order="left")
            .pipe(with_cohort)
            .drop("campaign_id", "campaign", "portfolio")
        )

    return facts.kept("groups", account_id, make, window)


def advertised_products(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """ad_group_id, main_product: as in `groups`; of ad groups whose ads did nothing, the only product enabled there."""
    ads = product_frames.enabled_ads(facts, account_id, window)
    alone = (
        ads.group_by("ad_group_id")
        .agg(pl.col("product_id").unique().first(), products=pl.col("product_id").n_unique())
        .filter(pl.col("products") == 1)
        .join(product_frames.catalog(facts, account_id).select("product_id", "sku"), on="product_id")
        .select("ad_group_id", only=pl.col("sku").cast(pl.String))
    )
    main = _main_products(facts, account_id, window).select("ad_group_id", pl.col("main_product").cast(pl.String))
    return main.join(alone, on="ad_group_id", how="full", coalesce=True).select(
        "ad_group_id", main_product=pl.coalesce("main_product", "only")
    )


def _main_products(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    catalog = product_frames.catalog(facts, account_id)
    main = product_frames.product_rows(facts, account_id, window).sort(["spend", "sku"], descending=[True, False])
    return (
        main.group_by("ad_group_id", maintain_order=True)
        .first()
        .select("ad_group_id", "product_id", pl.col("sku").alias("main_product"))
        .join(
            catalog.select(
                "product_id",
                pl.coalesce("parent", "item").cast(pl.String).alias("family"),
                pl.col("category").cast(pl.String),
            ),
            on="product_id",
            how="left",
        )
        .drop("product_id")
    )


def fitted(facts: Facts, account_id: int, window: Window) -> Fitted | None:
    """
    The one fit of the window's targets and search terms, whatever part of the account is looked at; None
    where the account is too small. Kept.
    """
    return facts.kept("fit", account_id, lambda: fit(facts, account_id, window), window)


def fit(facts: Facts, account_id: int, window: Window) -> Fitted | None:
    """The same, made anew."""
    products = groups(facts, account_id, window).select("ad_group_id", product=PRODUCT_LEVEL)
    return cohorts.fitted(fit_cells(facts, account_id, window), products, word_frames.spelling(facts, account_id))


def fit_cells(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """What a window's fit is made of: see `cohorts.cells_of`."""
    homes = targets(facts, account_id).select("target_id", "ad_group_id")
    sums = facts.sums(account_id, "search_term_daily", window)
    terms = places(facts, account_id).placed(sums, "target_id", "ad_group_id", "normal_id")
    rows = target_sums(facts, account_id, window, "target_daily").join(homes, on="target_id")
    return cohorts.cells_of(terms, rows if len(rows) else None)


def term_shares(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """What each target spent on each term: ad_group_id, normal_id, target_id, spend."""
    where = places(facts, account_id)
    rows = where.placed(facts.sums(account_id, "search_term_daily", window), "pair", "target_id")
    return where.named(rows.group_by("pair", "target_id").agg(pl.col("spend").sum()))


def term_sums(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """What each term of an ad group did: ad_group_id, normal_id and the measures, no names."""

    def make() -> pl.DataFrame:
        where = places(facts, account_id)
        sums = facts.sums(account_id, "search_term_daily", window)
        alone, several = where.distinct(where.placed(sums, "pair"))
        grouped = several.group_by("pair").agg(pl.col(MEASURES).sum())
        return where.named(pl.concat([alone.select(grouped.columns), grouped]))

    return facts.kept("term sums", account_id, make, window)


def live_own(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """ad_group_id, normal_id of exact and item targets that are live: see `live`."""
    rows = live(facts, account_id, window).filter(pl.col("match_type").cast(pl.String).is_in(["exact", "item"]))
    return rows.select("ad_group_id", pl.col("target_normal_id").alias("normal_id"))


def live(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    The names of targets and negatives that are live: they, their ad group and their campaign enabled on the last day of
    the period or the latest before, as far as settings are loaded. As `targets`.
    """
    states = setting_frames.target_settings(facts, account_id, window).select("target_id", "state")
    groups = setting_frames.ad_group_states(facts, account_id, window)
    campaigns = setting_frames.campaign_settings(facts, account_id, window).select(
        "campaign_id", pl.col("state").alias("campaign_state")
    )
    names = targets(facts, account_id)
    runs = pl.all_horizontal(
        pl.col("state", "ad_group_state", "campaign_state").cast(pl.String).fill_null("enabled") == "enabled"
    )
    return (
        names.join(states, on="target_id", how="left", maintain_order="left")
        .join(groups, on="ad_group_id", how="left", maintain_order="left")
        .join(campaigns, on="campaign_id", how="left", maintain_order="left")
        .filter(runs)
        .select(names.columns)
    )


def kin(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """ad_group_id, kin_id: ad groups that share an enabled product, each its own kin."""
    ads = product_frames.enabled_ads(facts, account_id, window).select("ad_group_id", "product_id").unique()
    shared = ads.join(ads.rename({"ad_group_id": "kin_id"}), on="product_id").select("ad_group_id", "kin_id")
    groups = targets(facts, account_id).select("ad_group_id").unique()
    return pl.concat([shared, groups.select("ad_group_id", pl.col("ad_group_id").alias("kin_id"))]).unique()
