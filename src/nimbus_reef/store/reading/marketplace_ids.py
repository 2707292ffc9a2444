"""The marketplace's own ids of campaigns, ad groups, targets and product ads, as far as reports gave them."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from nimbus_reef.core.changes import Change
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts


def of_changes(facts: Facts, account_id: int, changes: Sequence[Change]) -> dict[int, dict[str, str]]:
    """By the row of each change, the ids that are known of what it is about, by their names in a layout."""
    groups = facts.query(
        "SELECT c.name AS campaign, c.external_id AS own, g.name AS ad_group, g.external_id AS groups_own "
        "FROM campaign c LEFT JOIN ad_group g ON g.campaign_id = c.id WHERE c.account_id = :account",
        account=account_id,
    ).to_dicts()
    campaigns = {row["campaign"]: row["own"] for row in groups}
    ad_groups = {(row["campaign"], row["ad_group"]): row["groups_own"] for row in groups}
    wanted = {each.campaign for each in changes}
    targets, ads = _targets(facts, account_id, wanted), _ads(facts, account_id, wanted)
    found = {}
    for each in changes:
        home = (each.campaign, each.ad_group)
        ids = {
            "campaign_id": campaigns.get(each.campaign),
            "ad_group_id": ad_groups.get(home),
            "target_id": targets.get((*home, each.target, each.match_type)),
            "ad_id": ads.get((*home, each.sku)),
        }
        found[each.row] = {name: text for name, text in ids.items() if text}
    return found


def _targets(facts: Facts, account_id: int, campaigns: set[str]) -> dict[tuple[str, ...], str]:
    given = facts.query(
        "SELECT m.thing_id AS target_id, m.external_id AS own FROM marketplace_id m JOIN target t ON t.id = m.thing_id "
        "JOIN ad_group g ON g.id = t.ad_group_id JOIN campaign c ON c.id = g.campaign_id "
        "WHERE m.kind = 'target' AND c.account_id = :account",
        account=account_id,
    )
    if given.is_empty():
        return {}
    named = (
        target_frames.targets(facts, account_id)
        .with_columns(pl.col("campaign", "ad_group", "target", "match_type").cast(pl.String))
        .filter(pl.col("campaign").is_in(list(campaigns)))
        .join(given, on="target_id")
    )
    keys = named.select("campaign", "ad_group", "target", "match_type").rows()
    return dict(zip(keys, named["own"].to_list(), strict=True))


def _ads(facts: Facts, account_id: int, campaigns: set[str]) -> dict[tuple[str, ...], str]:
    given = facts.query(
        "SELECT c.name AS campaign, g.name AS ad_group, p.sku, m.external_id AS own FROM marketplace_id m "
        "JOIN product_ad a ON a.id = m.thing_id JOIN product p ON p.id = a.product_id "
        "JOIN ad_group g ON g.id = a.ad_group_id JOIN campaign c ON c.id = g.campaign_id "
        "WHERE m.kind = 'ad' AND c.account_id = :account",
        account=account_id,
    )
    own = given.filter(pl.col("campaign").is_in(list(campaigns))) if len(given) else given
    return {(row["campaign"], row["ad_group"], row["sku"]): row["own"] for row in own.to_dicts()}
