"""
How the account is built: keywords bought twice, what cannot be steered, the same purpose spread
over many campaigns.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.judged import TARGET_ID, judged_targets
from nimbus_reef.analysis.judged_proposals import core_row, monthly_days
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, promise
from nimbus_reef.core import evidence, structure
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.catalog import DUPLICATES
from nimbus_reef.core.model import MEASURES, State, Verdict, from_micro
from nimbus_reef.core.projection import stopped
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_TWINS: Final = ("target_normal_id", "match_type", "main_product")


def products_known(facts: Facts, selection: Selection) -> bool:
    """
    Whether it is known which products ad groups hold: without it nothing is bought twice, and no
    families are mixed.
    """
    return not product_frames.product_rows(facts, selection.account.id, selection.window).is_empty()


def duplicates(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Targets bought more than once for the same main product: see `core.structure.duplicates`; judged, with row_id. A
    whole group is shown where any of it lies in the part that is looked at.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        judged = judged_targets(facts, selection)
        settings = setting_frames.target_settings(facts, account.id, selection.window).select("target_id", "bid")
        # Live twins that did nothing in the window are bought twice all the same.
        rows = (
            _live(facts, selection)
            .select(
                "target_id",
                "ad_group_id",
                "campaign_id",
                "campaign",
                "ad_group",
                "target",
                "target_normal_id",
                "match_type",
                "state",
                "format",
                "portfolio",
            )
            .join(target_frames.advertised_products(facts, account.id, selection.window), on="ad_group_id", how="left")
            .join(settings, on="target_id", how="left")
            .join(judged.select("target_id", *_JUDGED), on="target_id", how="left")
            .with_columns(
                pl.col(*MEASURES, "n", "k").fill_null(0),
                pl.col("verdict").fill_null(Verdict.NOT_ENOUGH.value),
                pl.col("own_test", "own_fault", "by_words").fill_null(False),
                pl.col("target_acos").fill_null(selection.aims.account),
                row_id=TARGET_ID,
                normal=pl.col("target_normal_id").cast(pl.String),
            )
        )
        return structure.duplicates(_by_posterior(facts, selection, rows))

    frame = facts.kept("duplicates", account.id, make, *selection.judging)
    if not selection.part or frame.is_empty():
        return frame
    return frame.join(selection.within(facts, frame).select("group").unique(), on="group", how="semi")


_JUDGED: Final = (
    *MEASURES,
    "n",
    "k",
    "prior_a",
    "prior_b",
    "shrunk_aov",
    "cohort_cvr",
    "p_over",
    "p_free",
    "acos",
    "verdict",
    "own_test",
    "own_fault",
    "by_words",
    "needed_cvr",
    "target_acos",
    "stake",
    "simple_verdict",
)


def _by_posterior(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """
    Adds acos_by_evidence, the posterior's cost of sale, and loses. What a twin without a click would do is what its
    prior says at what the others pay.
    """
    margins = product_frames.catalog(facts, selection.account.id).select(
        pl.col("sku").cast(pl.String).alias("main_product"), margin=pl.col("margin") / 100
    )
    usual = pl.col("prior_a") / (pl.col("prior_a") + pl.col("prior_b"))
    cvr = (pl.col("prior_a") + pl.col("k")) / (pl.col("prior_a") + pl.col("prior_b") + pl.col("n"))
    price = pl.when(pl.col("n") > 0).then(pl.col("spend") / pl.col("n"))
    frame = rows.join(margins, on="main_product", how="left").with_columns(
        cvr_likely=cvr.fill_null(usual.mean().over(_TWINS)),
        aov_likely=pl.col("shrunk_aov").fill_null(pl.col("shrunk_aov").mean().over(_TWINS)),
        price_likely=price.fill_null(pl.col("spend").sum().over(_TWINS) / pl.col("n").sum().over(_TWINS)),
    )
    chance, enough = evidence.losing(frame, pl.coalesce("margin", "target_acos"))
    hopeless = (
        (pl.col("verdict") == Verdict.ABOVE.value) & pl.col("own_test") & pl.col("own_fault") & (pl.col("orders") == 0)
    )
    return frame.with_columns(
        acos_by_evidence=(pl.col("price_likely") / (pl.col("cvr_likely") * pl.col("aov_likely"))).fill_nan(None),
        # What Targeting proposes to pause is not kept here.
        loses=hopeless | ((chance >= evidence.ABOVE_AT) & enough).fill_null(False),
    ).drop("margin", "cvr_likely", "aov_likely", "price_likely")


def _live(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    target_id, ad_group_id, campaign, ad_group, match_type of targets that run at the window's end, as far as settings
    are held.
    """
    account, window = selection.account, selection.window
    states = setting_frames.target_settings(facts, account.id, window).select("target_id", "state")
    groups = setting_frames.ad_group_states(facts, account.id, window)
    campaigns = setting_frames.campaign_settings(facts, account.id, window).select(
        "campaign_id", pl.col("state").alias("campaign_state"), "format", "portfolio"
    )
    running = pl.all_horizontal(
        pl.col("state", "ad_group_state", "campaign_state").cast(pl.String).fill_null(State.ENABLED.value)
        == State.ENABLED.value
    )
    return (
        target_frames.targets(facts, account.id)
        .join(states, on="target_id", how="left")
        .join(groups, on="ad_group_id", how="left")
        .join(campaigns, on="campaign_id", how="left")
        .filter(running & ~pl.col("match_type").cast(pl.String).str.starts_with("negative"))
    )


def faults(facts: Facts, selection: Selection) -> pl.DataFrame:
    """What cannot be steered: see `core.structure.faults`."""
    account = selection.account

    def make() -> pl.DataFrame:
        live = selection.within(facts, _live(facts, selection))
        ads = selection.within(facts, product_frames.ad_rows(facts, account.id, selection.window))
        named = product_frames.family_names(facts, account.id)
        unlike = ads.with_columns(family=pl.col("family").replace(named))
        return structure.faults(live, unlike, account.settings.structure)

    return facts.kept("structure", account.id, make, selection.window, selection.part)


def spread(facts: Facts, selection: Selection) -> list[tuple[Mapping[str, str], Sequence[str]]]:
    """Campaigns that the naming pattern gives the same parts: the parts, and the names; none without a pattern."""
    parsed = names.parsed(facts, selection)
    if parsed is None:
        return []
    by_key: dict[tuple[tuple[str, str], ...], list[str]] = {}
    for name, parts in parsed.fits.items():
        core = {part: _purpose(value) for part, value in parts.items()}
        by_key.setdefault(tuple(core.items()), []).append(name)
    return [(dict(parts), sorted(own)) for parts, own in sorted(by_key.items()) if len(own) > 1]


_AGAIN: Final = (" again", " new", " copy", " 2", " ii")


def _purpose(value: str) -> str:
    """What a part says but for a word that only tells one from another."""
    low = value.casefold()
    for ending in _AGAIN:
        low = low.removesuffix(ending)
    return low


def twins(facts: Facts, selection: Selection, group: str) -> list[dict[str, Any]]:
    """The places of a keyword that is bought in several; NotFound where it is not any more."""
    rows = duplicates(facts, selection)
    found = rows.filter(pl.col("group") == group) if len(rows) else rows
    if found.is_empty():
        raise NotFound("This keyword is no longer a duplicate.", remedy="Reload the list.")
    return found.to_dicts()


def proposal(facts: Facts, selection: Selection, rows: Sequence[Mapping[str, Any]]) -> Proposal:
    """Pauses of all places of a keyword but the one that is kept."""
    days = monthly_days(facts, selection, Subject.TARGET)
    kept = next((row for row in rows if row["keep"]), None)
    others = [row for row in rows if not row["keep"]]
    package = []
    for row in others:
        of = {"ad_group": str(row["ad_group"]), "target": row["target"], "match_type": str(row["match_type"])}
        was = row["state"] or State.ENABLED.value
        paused = change(Entity.TARGET, "state", str(row["campaign"]), "paused", was, DUPLICATES.key, **of)
        effect = stopped(core_row(row, days).basis)
        package.append((paused, promise(selection, row, "targets", row["row_id"], effect)))
    first = rows[0]
    times = Reason(ReasonKey.BOUGHT_TIMES, (first["target"], len(rows), first["main_product"]))
    entries = (sum(row["orders"] for row in others), from_micro(sum(row["spend"] for row in others)))
    if kept is None:
        headline = Headline(HeadlineKey.PAUSE_ALL, (len(rows),))
        why: tuple[Reason, ...] = (Reason(ReasonKey.NONE_PAYS, entries),)
    else:
        where = f"{kept['campaign']} · {kept['ad_group']}"
        headline = Headline(HeadlineKey.KEEP_ONE, (where, len(others)))
        why = (Reason(ReasonKey.KEPT_IN, (where, kept["keep_why"])), Reason(ReasonKey.OTHERS_MADE, entries))
    subject = EntityKey(Subject.KEYWORD, name=first["target"], match_type=str(first["match_type"]))
    return Proposal(subject, str(first["group"]), headline, tuple(package), (times, *why))
