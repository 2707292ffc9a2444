"""How the account is built: keywords bought twice, what cannot be steered, the same purpose spread over many campaigns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import proposals
from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.offers import Offer, change, promise
from nimbus_reef.core import structure
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import State
from nimbus_reef.core.projection import stopped
from nimbus_reef.store.reading import product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "duplicates"
_POSTERIOR_CVR: Final = (pl.col("prior_a") + pl.col("k")) / (
    pl.col("prior_a") + pl.col("prior_b") + pl.col("n")
)


def told(facts: Facts, look: Look) -> bool:
    """Whether it is known which products ad groups hold: without it nothing is bought twice, and no families are mixed."""
    return not product_frames.product_rows(facts, look.account.id, look.window).is_empty()


def duplicates(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Targets bought more than once for the same main product: see `core.structure.duplicates`; judged, with row_id. A whole group is
    shown where any of it lies in the part that is looked at.
    """
    account = look.account

    def make() -> pl.DataFrame:
        live = _live(facts, look)
        normals = target_frames.targets(facts, account.id).select("target_id", "target_normal_id")
        rows = (
            judged_targets(facts, look)
            .join(live.select("target_id"), on="target_id", how="semi")
            .join(normals, on="target_id", how="left")
            .with_columns(
                normal=pl.col("target_normal_id").cast(pl.String),
                acos_by_evidence=pl.when(pl.col("clicks") > 0).then(
                    pl.col("spend") / pl.col("clicks") / (_POSTERIOR_CVR * pl.col("shrunk_aov"))
                ),
            )
        )
        return structure.duplicates(rows)

    made = facts.kept("duplicates", account.id, make, *look.judging)
    if not look.part or made.is_empty():
        return made
    return made.join(look.within(facts, made).select("group").unique(), on="group", how="semi")


def _live(facts: Facts, look: Look) -> pl.DataFrame:
    """target_id, ad_group_id, campaign, ad_group, match_type of targets that run at the window's end, as far as settings are held."""
    account, window = look.account, look.window
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


def faults(facts: Facts, look: Look) -> pl.DataFrame:
    """What cannot be steered: see `core.structure.faults`."""
    account = look.account

    def make() -> pl.DataFrame:
        live = look.within(facts, _live(facts, look))
        ads = look.within(facts, product_frames.ad_rows(facts, account.id, look.window))
        named = product_frames.family_names(facts, account.id)
        unlike = ads.with_columns(family=pl.col("family").replace(named))
        return structure.faults(live, unlike, account.settings.structure)

    return facts.kept("structure", account.id, make, look.window, look.part)


def spread(facts: Facts, look: Look) -> list[tuple[Mapping[str, str], Sequence[str]]]:
    """Campaigns that the naming pattern gives the same parts: the parts, and the names; none without a pattern."""
    parsed = names.parsed(facts, look)
    if parsed is None:
        return []
    held: dict[tuple[tuple[str, str], ...], list[str]] = {}
    for name, parts in parsed.fits.items():
        core = {part: _purpose(value) for part, value in parts.items()}
        held.setdefault(tuple(core.items()), []).append(name)
    return [(dict(parts), sorted(own)) for parts, own in sorted(held.items()) if len(own) > 1]


_AGAIN: Final = (" again", " new", " copy", " 2", " ii")


def _purpose(value: str) -> str:
    """What a part says but for a word that only tells one from another."""
    low = value.casefold()
    for ending in _AGAIN:
        low = low.removesuffix(ending)
    return low


def twin_offer(facts: Facts, look: Look, rows: Sequence[Mapping[str, Any]]) -> Offer | None:
    """Pauses of all but the one that is kept."""
    days = proposals.monthly_days(facts, look, Subject.TARGET)
    changes = []
    for row in rows:
        if row["keep"]:
            continue
        paused = change(
            Entity.TARGET, "state", str(row["campaign"]), "paused", row["state"] or State.ENABLED.value, CHECK,
            ad_group=str(row["ad_group"]), target=row["target"], match_type=str(row["match_type"]),
        )  # fmt: skip
        told = promise(look, row, "targets", row["row_id"], stopped(proposals.core_row(row, days).basis))
        changes.append((paused, told))
    return Offer(str(rows[0]["group"]), tuple(changes)) if changes else None
