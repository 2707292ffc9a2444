"""Bids in performance reports are used until a targets report is loaded."""

from datetime import date

import pytest
from sqlalchemy import text
from tests.jobs.test_labels import TODAY
from tests.pages import text_of
from tests.web.test_odd_files import sent

from nimbus_reef.jobs import intake
from nimbus_reef.store.people import accounts
from nimbus_reef.store.record import loads

MEASURES = "impressions,clicks,spend,orders,sales"
DAILY = f"date,campaign,ad_group,target,match_type,Bid,Suggested bid,{MEASURES}\n"


def load(store, account, tmp_path, content, name="report.csv"):
    path = tmp_path / name
    path.write_text(content)
    looked = intake.inspect(store, account, path, name)
    maps = intake.usual_maps(looked)
    maps += intake.with_settings(looked, maps)
    asked = intake.LoadRequest(account, path, name, maps, scope="all", today=TODAY, confirmed=True)
    return {each.kind: each for each in intake.load(store, asked)}


def rows(bid, days=(1, 2, 3), target="lamp"):
    return "".join(
        f"2026-10-{day:02},C,G,{target},exact,{bid if day != 2 else ''},9.99,900,30,15.00,2,40.00\n" for day in days
    )


def bids(store):
    with store.read() as connection:
        told = connection.execute(text("SELECT day, bid / 1000000, state FROM targets ORDER BY day, bid"))
        return [(day, float(bid), state) for day, bid, state in told]


def test_the_last_bid_of_each_target_is_kept_as_of_the_last_day(store, account, tmp_path):
    done = load(store, account, tmp_path, DAILY + rows("0.60", (1,)) + rows("0.75", (2, 3)))
    assert (done["target_daily"].rows, done["targets"].rows) == (3, 1)
    assert bids(store) == [(date(2026, 10, 3), 0.75, "enabled")]
    assert "A targets report replaces them" in done["targets"].warnings[0]


def test_a_sum_s_bids_are_of_its_last_day_and_a_later_report_tells_newer_ones(store, account, tmp_path):
    header = f"from,to,campaign,ad_group,target,match_type,max bid,{MEASURES}\n"
    load(store, account, tmp_path, f"{header}2026-09-01,2026-09-30,C,G,lamp,exact,0.50,900,30,15.00,2,40.00\n")
    load(store, account, tmp_path, DAILY + rows("0.75"), "later.csv")
    assert bids(store) == [(date(2026, 9, 30), 0.5, "enabled"), (date(2026, 10, 3), 0.75, "enabled")]


def test_a_report_of_targets_is_never_replaced_by_bids_beside_figures(store, account, tmp_path):
    """Nor what it says of states and negatives."""
    settings = (
        "date,campaign,ad_group,target,match_type,state,bid\n"
        "2026-10-01,C,G,lamp,exact,paused,0.40\n2026-10-01,C,G,free,negative_exact,enabled,\n"
    )
    load(store, account, tmp_path, settings, "settings.csv")
    done = load(store, account, tmp_path, DAILY + rows("0.75"))
    assert set(done) == {"target_daily"}
    with store.read() as connection:
        assert connection.execute(text("SELECT COUNT(*) FROM targets")).scalar() == 2


SETTINGS = "date,campaign,ad_group,target,match_type,state,bid\n2026-10-01,C,G,lamp,exact,paused,0.40\n"


def test_each_account_of_a_file_is_judged_by_its_own_reports(store, account, tmp_path):
    other = accounts.add(
        store,
        key="pell-gb",
        brand_name="Pellwick",
        marketplace="Tidemarkt",
        country="GB",
        currency="GBP",
        locale="en_GB",
        timezone="Europe/London",
        target_acos=0.3,
    )
    load(store, account, tmp_path, SETTINGS, "settings.csv")
    lines = [f"{key},{line}\n" for key in ("fern-de", "pell-gb") for line in rows("0.75").splitlines()]
    path = tmp_path / "both.csv"
    path.write_text(f"account,{DAILY}" + "".join(lines))
    looked = intake.inspect(store, other, path, "both.csv")
    maps = intake.usual_maps(looked)
    maps += intake.with_settings(looked, maps)
    request = intake.LoadRequest(
        other, path, "both.csv", maps, scope="all", others=[account, other], today=TODAY, confirmed=True
    )
    assert {(each.account_id, each.kind) for each in intake.load(store, request)} == {
        (account.id, "target_daily"),
        (other.id, "target_daily"),
        (other.id, "targets"),
    }


def test_the_mapping_page_promises_no_bids_that_are_not_taken(visitor, store, account, tmp_path):
    said = "sets each target’s bid as of the last day"
    content = (DAILY + rows("0.75")).encode()
    assert f"“Bid” {said}" in text_of(sent(visitor, content, "first.csv"))
    load(store, account, tmp_path, SETTINGS, "settings.csv")
    page = text_of(sent(visitor, content, "second.csv"))
    assert said not in page
    assert "Not loaded: Bid, Suggested bid" in page


@pytest.mark.parametrize("heading", ["Max. Gebot", "Max bid", "Enchère max.", "Puja máxima"])
def test_a_highest_bid_is_the_bid_in_any_language(store, account, tmp_path, heading):
    done = load(store, account, tmp_path, DAILY.replace("Bid,", f"{heading},") + rows("0.75"))
    assert done["targets"].rows == 1


def test_a_report_without_units_claims_none(visitor):
    page = sent(visitor, (DAILY + rows("0.75")).encode(), "first.csv")
    done = visitor.post(f"{page.request.path}/load", data={"scope": "product"}, follow_redirects=True)
    assert "orders 6 sales" in text_of(done)
    assert "units 0" not in text_of(done)


@pytest.mark.parametrize("heading", ["Suggested bid", "Bid range", "Average bid", "Remark"])
def test_another_bid_is_none(store, account, tmp_path, heading):
    header = DAILY.replace("Bid,Suggested bid", f"Note,{heading}")
    assert set(load(store, account, tmp_path, header + rows("x"))) == {"target_daily"}


def test_a_report_without_a_single_bid_loads_its_figures(store, account, tmp_path):
    assert set(load(store, account, tmp_path, DAILY + rows("", (1, 3)))) == {"target_daily"}
    assert [each.kind for each in loads.batches(store, account.id)] == ["target_daily"]
