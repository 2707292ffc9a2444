"""The scope bar: every part narrows what is looked at, targets of one's own are judged by."""

import re

import polars as pl
import pytest
from tests.pages import row_ids, text_of, values

from nimbus_reef.core.targeting import Aims
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

TARGETS = "/targeting/targets"


@pytest.fixture
def account(demo):
    made = accounts.by_key(demo.store, "fernhollow-de")
    yield made
    now = target_acos.aims(demo.store, made)
    for level, named in (("campaign", now.campaigns), ("portfolio", now.portfolios), ("product", now.products)):
        for name, _ in named:
            target_acos.set_aim(demo.store, made, None, level, name, None)
    target_acos.set_aim(demo.store, made, None, "account", "", 0.28)


def rows(owner, query):
    """All rows that the table holds, by its export."""
    text = owner.get(f"{TARGETS}/export.csv?{query}").get_data(as_text=True)
    return pl.read_csv(text.encode(), infer_schema=False)


def offered(owner, what):
    return [each for each in values(owner.get(f"/scope/options/{what}"), "[value]", "value") if each]


def a_campaign(owner):
    """One that did something in the window, as the bar offers it."""
    found = rows(owner, "")["campaign"].sort()[0]
    assert found in offered(owner, "campaign")
    return found


def test_formats_part_the_account(owner):
    counts = [len(rows(owner, f"format={each}")) for each in ("product", "brand", "display")]
    assert min(counts) > 0
    assert sum(counts) == len(rows(owner, ""))
    assert len(rows(owner, "format=brand&format=display")) == counts[1] + counts[2]
    assert owner.get(f"{TARGETS}?format=radio").status_code == 400


def test_campaign_portfolio_and_name_narrow(owner):
    campaign = a_campaign(owner)
    own = rows(owner, f"campaign={campaign}")
    assert set(own["campaign"]) == {campaign}
    family = campaign.split(" ")[0]
    named = rows(owner, f"holds={family.lower()}")
    assert all(family in name for name in named["campaign"])
    assert len(named) > len(own)
    portfolios = offered(owner, "portfolio")
    assert sum(len(rows(owner, f"portfolio={each}")) for each in portfolios) == len(rows(owner, ""))


def test_a_product_shows_the_ad_groups_that_advertise_it(owner):
    sku = offered(owner, "product")[0]
    groups = set(rows(owner, f"product={sku}")["ad_group"])
    assert 0 < len(groups) < len(set(rows(owner, "")["ad_group"]))


def test_a_verdict_is_the_same_however_narrowly_it_is_looked_at(owner):
    campaign = a_campaign(owner)
    key = ["campaign", "ad_group", "target", "match_type"]
    narrow = rows(owner, f"campaign={campaign}").sort(key)
    wide = rows(owner, "").join(narrow.select(key), on=key, how="semi").sort(key)
    assert narrow["p_over"].to_list() == wide["p_over"].to_list()


def test_the_bar_is_in_the_address_and_findings_follow_it(owner):
    page = owner.get("/findings/?format=brand&window=last-30").get_data(as_text=True)
    assert "<b>brand</b>" in page
    assert "format=brand" in page
    narrow = float(
        re.search(r"€\s([\d,]+) wasted above", text_of(owner.get("/findings/?format=brand")))[1].replace(",", "")
    )
    wide = float(re.search(r"€\s([\d,]+) wasted above", text_of(owner.get("/findings/")))[1].replace(",", ""))
    assert narrow < wide


def test_months_and_any_days_compared_are_chosen_by_form_fields(owner):
    assert "1 Nov – 30 Nov 2026" in text_of(owner.get(f"{TARGETS}?month=2026-11"))
    compared = text_of(owner.get(f"{TARGETS}?against_from=2026-10-10&against_to=2026-10-12"))
    assert "10 Oct – 12 Oct 2026" in compared


def test_the_nearest_target_wins():
    frame = pl.DataFrame(
        {"campaign": ["c", "d", "d", "d"], "portfolio": ["p", "p", None, None], "main_product": ["s", "s", "s", None]}
    )
    own = Aims(0.3, (("c", 0.1),), (("p", 0.2),), (("s", 0.25),))
    assert frame.select(own.expr(frame.columns))["target_acos"].to_list() == [0.1, 0.2, 0.25, 0.3]
    assert frame.select(Aims(0.3).expr(frame.columns))["target_acos"].to_list() == [0.3]


def test_a_target_set_is_judged_by_until_it_is_taken_back(owner, account):
    campaign = a_campaign(owner)
    before = rows(owner, f"campaign={campaign}")
    data = {"level": "campaign", "of": campaign, "percent": "3", "back": TARGETS}
    done = owner.post("/scope/aims", data=data, follow_redirects=True)
    assert f"Target of the campaign {campaign}: 3 %." in text_of(done).replace("\xa0", " ")
    after = rows(owner, f"campaign={campaign}")
    assert after["excess"].cast(pl.Float64).sum() > before["excess"].cast(pl.Float64).sum()
    others = rows(owner, "").filter(pl.col("campaign") != campaign)
    assert "and own" in text_of(owner.get(TARGETS))
    assert campaign in owner.get("/scope/aims").get_data(as_text=True)
    owner.post("/scope/aims", data=data | {"percent": ""})
    assert rows(owner, f"campaign={campaign}")["excess"].to_list() == before["excess"].to_list()
    assert rows(owner, "").filter(pl.col("campaign") != campaign)["excess"].to_list() == others["excess"].to_list()


def test_an_account_without_a_target_is_offered_the_middle_peer_s_and_break_even(owner, account, demo):
    """The peers' median and break-even, each set with one click."""
    target_acos.set_aim(demo.store, account, None, "account", "", None)
    assert "30 % assumed" in text_of(owner.get(TARGETS)).replace("\xa0", " ")
    assert "The target is 30 %, assumed until one is set." in text_of(owner.get("/findings/report")).replace(
        "\xa0", " "
    )
    assert "assumed" not in text_of(owner.get("/findings/report?target_acos=30"))
    asked = owner.get("/scope/aims")
    assert "No target set yet: 30 % is assumed" in text_of(asked).replace("\xa0", " ")
    assert "the median ACOS of peers" in text_of(asked)
    peers, margins = [float(each) for each in values(asked, "input[name=percent]", "value")]
    assert 5 < peers < 60
    known = product_frames.catalog(Facts(demo.store), account.id)["margin"].drop_nulls()
    assert known.min() < margins < known.max()
    data = {"level": "account", "percent": str(margins), "back": TARGETS}
    done = owner.post("/scope/aims", data=data, follow_redirects=True)
    assert f"Target of the account: {margins:g} %." in text_of(done).replace("\xa0", " ")
    assert target_acos.aims(demo.store, accounts.by_key(demo.store, account.key)).account == pytest.approx(
        margins / 100
    )
    assert "is assumed" not in text_of(owner.get("/scope/aims"))


def test_the_account_s_own_target_is_set_and_tried_ones_are_not_kept(owner, account):
    owner.get(f"{TARGETS}?target_acos=5")
    assert accounts.by_key(account_store(owner), account.key).target_acos == 0.28
    owner.post("/scope/aims", data={"level": "account", "percent": "31", "back": TARGETS})
    assert accounts.by_key(account_store(owner), account.key).target_acos == pytest.approx(0.31)


def account_store(owner):
    return owner.application.extensions["reef"].store


@pytest.mark.parametrize(
    "data",
    [
        {"level": "shop", "percent": "3"},
        {"level": "campaign", "of": "", "percent": "3"},
        {"level": "account", "percent": ""},
        {"level": "account", "percent": "much"},
        {"level": "account", "percent": "900"},
    ],
)
def test_a_target_that_cannot_be_meant_is_refused(owner, data):
    assert owner.post("/scope/aims", data=data).status_code == 400


def test_a_viewer_looks_at_targets_and_sets_none(viewer):
    assert viewer.get("/scope/aims").status_code == 200
    assert viewer.post("/scope/aims", data={"level": "account", "percent": "3"}).status_code == 403
    assert len(row_ids(viewer.get(f"{TARGETS}?format=brand"))) > 0
