"""What is live and enabled at a window's end, with rows or without; what that means for negatives and winners."""

from datetime import date

import polars as pl
import pytest

from nimbus_reef.core.windows import Window
from nimbus_reef.formats import files, mapping, reports
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.loading import ingest
from nimbus_reef.store.loading.ingest import FilePart, Source
from nimbus_reef.store.reading import product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

WINDOW = Window(date(2026, 10, 1), date(2026, 10, 10))
PLACE = {"date": "2026-10-05", "campaign": "C", "state": "enabled"}


@pytest.fixture
def load(store, account, tmp_path):
    def go(kind, rows):
        path = tmp_path / f"{kind}.csv"
        pl.DataFrame(rows).write_csv(path)
        table = files.read_table(path, path.name)
        chosen = mapping.suggest(table, KINDS[kind]).mapping
        parsed = reports.parse(table, chosen, path.name)
        part = FilePart(account.id, parsed, date(2026, 10, 20), chosen, "sig", "all")
        ingest.load(store, [part], Source(path.name, "00"), confirmed=True)

    return go


def ads(facts, account):
    return sorted(product_frames.enabled_ads(facts, account.id, WINDOW)["sku"].to_list())


def figures(sku):
    return {**PLACE, "ad_group": "G", "sku": sku, "impressions": 9, "clicks": 1, "spend": 1, "orders": 0, "sales": 0}


def test_a_product_is_enabled_by_its_settings_with_rows_or_without(load, store, account):
    load("product_ad_daily", [figures("OLD"), figures("RUNS")])
    assert ads(Facts(store), account) == ["OLD", "RUNS"], "settings are not held: whatever has rows"
    load(
        "product_ads",
        [
            {**PLACE, "ad_group": "G", "sku": sku, "state": state}
            for sku, state in (("OLD", "paused"), ("RUNS", "enabled"), ("FRESH", "enabled"))
        ],
    )
    assert ads(Facts(store), account) == ["FRESH", "RUNS"]


def test_a_target_is_live_only_with_its_ad_group_and_campaign(load, store, account):
    def target(group, text, state="enabled", match="exact"):
        return {**PLACE, "ad_group": group, "target": text, "match_type": match, "state": state, "bid": 0.5}

    load(
        "targets",
        [
            target("G", "lamp"),
            target("G", "off", "paused"),
            target("H", "lamp"),
            target("G", "TM0040117", match="item"),
            target("G", "wide", match="broad"),
        ],
    )
    load(
        "ad_groups",
        [{**PLACE, "ad_group": "G", "default_bid": 1}, {**PLACE, "ad_group": "H", "state": "paused", "default_bid": 1}],
    )
    facts = Facts(store)
    live = target_frames.live_own(facts, account.id, WINDOW)
    names = target_frames.targets(facts, account.id).join(
        live, left_on=["ad_group_id", "target_normal_id"], right_on=["ad_group_id", "normal_id"], how="semi"
    )
    assert sorted(names["target"].to_list()) == ["TM0040117", "lamp"]
    assert product_frames.item_shapes(facts, account.id) == {"a2d7"}
    settings = {**PLACE, "format": "product", "targeting": "manual", "daily_budget": 9, "state": "paused"}
    load("campaigns", [settings])
    assert target_frames.live_own(Facts(store), account.id, WINDOW).is_empty()
