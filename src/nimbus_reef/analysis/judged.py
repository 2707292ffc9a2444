"""Rows of an account, judged: targets, search terms, the words they share, product ads."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from enum import StrEnum
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import purposes
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import bids, cohorts, costly_words, evidence, targeting, words
from nimbus_reef.core import findings as findings_rules
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames, target_frames, word_frames
from nimbus_reef.store.reading.facts import Asked, Facts

AT_ONCE: Final = 5_000
"""So many rows are judged before anybody could read that they are being judged."""


class Judged(StrEnum):
    """The rows of an account that are judged all at once."""

    TARGETS = "targets"
    TERMS = "terms"
    ADS = "ads"


def judged_targets(facts: Facts, selection: Selection) -> pl.DataFrame:
    """All targets of the window, judged, with their row_id; kept until something is loaded."""
    account, window = selection.account, selection.window

    def rows() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        rows = target_frames.target_rows(facts, account.id, window)
        return targeting.in_cohort(rows, fit.targets if fit else None, ["target_id"])

    return _judged(facts, selection, Judged.TARGETS, facts.target_source(account.id, window).kind, rows, TARGET_ID)


def judged_terms(facts: Facts, selection: Selection) -> pl.DataFrame:
    """All search terms of the window, judged, with their row_id; kept until something is loaded."""
    account, window = selection.account, selection.window

    def rows() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        rows = target_frames.term_rows(facts, account.id, window)
        return targeting.in_cohort(rows, fit.terms if fit else None, ["ad_group_id", "normal_id"])

    def with_losses(rows: pl.DataFrame) -> pl.DataFrame:
        margins = product_frames.margins(facts, account.id, window)
        known = rows.join(margins, on="ad_group_id", how="left", maintain_order="left")
        return known.hstack(_losses(known))

    return _judged(facts, selection, Judged.TERMS, "search_term_daily", rows, TERM_ID, with_losses)


def _losses(rows: pl.DataFrame) -> pl.DataFrame:
    """p_lose and loses of judged rows that have a margin: see `core.bids.loses`."""
    told = rows.select(
        "n",
        "spend",
        needed=pl.col("shrunk_aov") * pl.coalesce("margin", "target_acos"),
        a=pl.col("prior_a") + pl.col("k"),
        b=pl.col("prior_b") + pl.col("n") - pl.col("k"),
    )
    return bids.loses(*told.get_columns())


def judged_words(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    What the search terms come to by the words they share, and of single words what they themselves do.

    Narrowed before they are summed: a phrase is what it did in the part looked at. Phrases of two and three
    words are judged among phrases as long; a word by its factor (see `costly_words.judged`), with its fate.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        terms = selection.within(facts, judged_terms(facts, selection))
        days = facts.monthly_days(account.id, "search_term_daily", selection.window)
        phrases = words.by_phrase(
            terms, word_frames.tokens(facts, account.id), word_frames.vocabulary(facts, account.id), MEASURES
        )
        in_cohort = evidence.with_priors(phrases, ("length",))
        judged = targeting.judged(in_cohort, days, Aims(selection.aims.account), account.min_clicks)
        rows = costly_words.beside(judged, own_words(facts, selection))
        spent = int(terms["spend"].sum())
        # Rows overlap, so a share is of what the terms cost, not of the rows' sum.
        return rows.with_columns(
            row_id=pl.col("phrase").str.head(64),
            spelt=_as_spelt(rows["example"], rows["phrase"]),
            share_of_spend=pl.col("spend") / spent if spent else pl.lit(None),
        )

    large = asked_of_helper(facts, selection, "words", "search_term_daily")
    return facts.kept("words", account.id, make, *selection.judging, selection.part, asked=large)


def _as_spelt(examples: pl.Series, phrases: pl.Series) -> pl.Series:
    """Phrases as a term spells them; of joined words each."""
    return pl.Series(
        [
            " + ".join(words.spelt(example, part) or part for part in phrase.split(" + "))
            for example, phrase in zip(examples.to_list(), phrases.to_list(), strict=True)
        ],
        dtype=pl.String,
    )


def own_words(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    What every word itself does in a part of the account, with its fate: see `costly_words.judged`.

    With row_id and spelt as in `judged_words`, and as rows of findings have them spend, stake (its waste; 0 where
    unknown), clicks and orders; sales are not told apart by word.
    """
    account, window = selection.account, selection.window

    def make() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        if fit is None or fit.holds is None:
            return costly_words.nothing()
        terms = selection.within(facts, judged_terms(facts, selection))
        days = facts.monthly_days(account.id, "search_term_daily", window)
        cores = product_frames.title_cores(facts, account.id, window, account.brand)
        brands = product_frames.brand_words(facts, account.id, account.brand) | never_shut_out(account)
        named = terms.select(example_id="normal_id", example="term").unique("example_id")
        judged = costly_words.judged(fit, terms, days)
        rows = costly_words.with_fate(judged, cores, brands, account.settings.words_out)
        rows = rows.join(named, on="example_id", how="left", maintain_order="left")
        return rows.with_columns(
            spelt=_as_spelt(rows["example"], rows["word"]),
            row_id=pl.col("word").str.head(64),
            stake=pl.col("waste").fill_null(0),
            clicks="word_clicks",
            orders="came",
            sales=pl.lit(0, pl.Int64),
            campaign=pl.lit(""),
            ad_group=pl.lit(""),
            target=pl.lit(""),
            match_type=pl.lit(""),
        )

    return facts.kept("own words", account.id, make, *selection.judging, selection.part)


def judged_ads(facts: Facts, selection: Selection) -> pl.DataFrame:
    """All product ads of the window, judged among what their product does elsewhere."""

    def rows() -> pl.DataFrame:
        rows = product_frames.ad_rows(facts, selection.account.id, selection.window, idle=True)
        ads = rows.filter(pl.col("impressions") > 0).select(
            "product_ad_id", "ad_group_id", "product_id", "clicks", "orders"
        )
        return targeting.in_cohort(rows, cohorts.fitted_ads(ads), ["product_ad_id"], targeting.AD_CHAIN)

    return _judged(facts, selection, Judged.ADS, "product_ad_daily", rows, _AD_ID)


_NAMES: Final = (
    "campaign",
    "ad_group",
    "match_type",
    "main_product",
    "name_part",
    "own_portfolio",
    "family",
    "category",
    "format",
    "portfolio",
    "sku",
)
TARGET_ID: Final = pl.col("target_id").cast(pl.String)
TERM_ID: Final = pl.concat_str("ad_group_id", "normal_id", separator="-")
_AD_ID: Final = pl.col("product_ad_id").cast(pl.String)
"""What a row is called in a URL and on record."""


def _judged(
    facts: Facts,
    selection: Selection,
    rows_of: Judged,
    kind: str,
    rows: Callable[[], pl.DataFrame],
    row_id: pl.Expr,
    beside: Callable[[pl.DataFrame], pl.DataFrame] = lambda rows: rows,
) -> pl.DataFrame:
    account = selection.account

    def make() -> pl.DataFrame:
        days = facts.monthly_days(account.id, kind, selection.window)
        unjudged = rows()
        judged = targeting.judged(unjudged, days, selection.aims, _least_clicks(account, unjudged.columns))
        judged = beside(purposes.held_back(facts, selection, judged))
        # Many rows and few names: as categories they take a quarter of the room.
        names = [pl.col(name).cast(pl.Categorical) for name in _NAMES if name in judged.columns]
        return judged.with_columns(row_id.alias("row_id"), *names)

    large = asked_of_helper(facts, selection, rows_of.value, kind)
    return facts.kept("judged", account.id, make, *_judged_key(selection, rows_of), asked=large)


def asked_of_helper(facts: Facts, selection: Selection, what: str, kind: str, *of: Any) -> Callable[[], Asked | None]:
    """
    For `Facts.kept`: that a helper makes it where a report has so many rows that somebody has to wait. See
    `jobs.helper_process`.
    """
    return lambda: (
        (what, (selection, *of)) if len(facts.sums(selection.account.id, kind, selection.window)) >= AT_ONCE else None
    )


def _least_clicks(account: Account, columns: Sequence[str]) -> int | pl.Expr:
    """The minimum clicks for the simple rule; of what advertises a product with a minimum of its own, that."""
    own = account.settings.clicks_of_products
    named = next((each for each in ("sku", "main_product") if each in columns), None)
    if not own or named is None:
        return account.min_clicks
    return pl.col(named).cast(pl.String).replace_strict(own, default=account.min_clicks, return_dtype=pl.Int64)


def _judged_key(selection: Selection, rows_of: Judged) -> tuple[Hashable, ...]:
    return (rows_of, *selection.judging)


def stake_of_targets(facts: Facts, selection: Selection) -> int:
    """
    Micro-units per 30 days at stake in all targets of a part of the account. Kept beside the judged rows, which are
    large and may have to give way.
    """

    def make() -> int:
        rows = selection.within(facts, judged_targets(facts, selection))
        return int(rows.select(pl.col("stake").filter(flagged()).sum()).item())

    return facts.kept("stake", selection.account.id, make, selection.part, *_judged_key(selection, Judged.TARGETS))


def never_shut_out(account: Account) -> frozenset[str]:
    """Words that an account never shuts out: those of its own brands, and others it names."""
    settings = account.settings
    return frozenset(word for text in (*settings.own_words, *settings.never_words) for word in words.words(text))


def is_judged(facts: Facts, selection: Selection, what: Judged) -> bool:
    """Whether these rows of these days are judged already."""
    return facts.known("judged", selection.account.id, *_judged_key(selection, what)) is not None


def source_of(facts: Facts, selection: Selection, what: Judged) -> str:
    """The report that rows come from."""
    own = {Judged.TERMS: "search_term_daily", Judged.ADS: "product_ad_daily"}
    return own.get(what) or facts.target_source(selection.account.id, selection.window).kind


def stake_known(facts: Facts, selection: Selection) -> int | None:
    """The same, as far as it is known without judging for it."""
    key = _judged_key(selection, Judged.TARGETS)
    known: int | None = facts.known("stake", selection.account.id, selection.part, *key)
    if known is None and is_judged(facts, selection, Judged.TARGETS):
        return stake_of_targets(facts, selection)
    return known


def winners(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Terms that earn a target of their own, most sales first, with their row ids."""
    return findings_rules.winners(
        judged_terms(facts, selection),
        target_frames.live_own(facts, selection.account.id, selection.window),
        target_frames.kin(facts, selection.account.id, selection.window),
        selection.account.settings.promote_orders,
    )
