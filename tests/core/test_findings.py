"""Findings: the same money counted once, shared causes gathered, winners told."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import findings
from nimbus_reef.core.checks import AreaKey, Check, Money, Reading, Subject
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.windows import month_factor

UNIT = 1_000_000
TARGET_COLUMNS = {
    "target_id": pl.Int64,
    "campaign_id": pl.Int64,
    "ad_group_id": pl.Int64,
    "spend": pl.Int64,
    "stake": pl.Int64,
    "verdict": pl.String,
}
TERM_COLUMNS = {"normal_id": pl.Int64, **{k: v for k, v in TARGET_COLUMNS.items() if k != "target_id"}}
SHARES = {"ad_group_id": pl.Int64, "normal_id": pl.Int64, "target_id": pl.Int64, "spend": pl.Int64}


def targets(*rows):
    """target, campaign, ad group, spend, stake, verdict."""
    return pl.DataFrame(rows, schema=TARGET_COLUMNS, orient="row")


def terms(*rows):
    return pl.DataFrame(rows, schema=TERM_COLUMNS, orient="row")


def shares(*rows):
    return pl.DataFrame(rows, schema=SHARES, orient="row")


NO_TERMS, NO_SHARES, NO_ADS = terms(), shares(), targets()


def total(targets_, terms_=NO_TERMS, ads=NO_ADS, shares_=NO_SHARES, days=30):
    capped = caps(targets_, terms_, ads, days)
    return findings.overspend(targets_, terms_, shares_, 30 / days, capped, ad_groups=over(ads)).total


def over(*views):
    """The overspend of other readings, as the headline takes it."""
    return [view.filter(flagged()) for view in views]


def caps(targets_, terms_, ads, days):
    """What each campaign spends a month by the first of the reports that knows it."""
    known = targets_.select("campaign_id", "spend")
    for other in (terms_, ads):
        rest = other.select("campaign_id", "spend").join(known, on="campaign_id", how="anti")
        known = pl.concat([known, rest])
    return known.group_by("campaign_id").agg(cap=(pl.col("spend").sum() * 30 / days).floor().cast(pl.Int64))


def test_targets_and_the_terms_under_them_are_the_same_money():
    """A flagged term counts only where the target that paid for it is not flagged itself."""
    rows = targets((1, 1, 1, 100, 60, "above target"), (2, 1, 1, 100, 20, "within target"))
    term = terms((7, 1, 1, 90, 50, "above target"))
    assert total(rows) == 60
    assert total(rows, term, shares_=shares((1, 7, 1, 90))) == 60
    assert total(rows, term, shares_=shares((1, 7, 2, 90))) == 110
    assert total(rows, term, shares_=shares((1, 7, 1, 45), (1, 7, 2, 45))) == 85


def test_terms_of_a_target_are_capped_at_its_spend():
    rows = targets((2, 1, 1, 30, 0, "within target"))
    many = terms((7, 1, 1, 90, 25, "above target"), (8, 1, 1, 90, 25, "above target"))
    assert total(rows, many, shares_=shares((1, 7, 2, 90), (1, 8, 2, 90))) == 30


def test_product_ads_and_targets_of_an_ad_group_are_two_views_of_its_money():
    rows = targets((1, 1, 1, 100, 60, "above target"), (2, 1, 2, 100, 10, "above target"))
    ads = targets(
        (1, 1, 1, 100, 40, "above target"),
        (2, 1, 2, 100, 30, "likely above target"),
        (3, 1, 2, 9, 9, "too early to tell"),
    )
    assert total(rows, ads=ads) == 60 + 30


def test_a_campaign_is_capped_at_its_spend_and_all_is_per_30_days():
    rows = targets((1, 1, 1, 100, 500, "above target"), (2, 2, 2, 100, 50, "above target"))
    assert total(rows) == 100 + 50
    assert total(rows, days=15) == 200 + 50


@st.composite
def accounts(draw):
    verdicts = st.sampled_from(["above target", "likely above target", "too early to tell", "within target"])
    money = st.integers(0, 50 * UNIT)
    groups = draw(st.integers(1, 4))
    rows = [
        (number, 1 + group % 2, group, draw(money), draw(money), draw(verdicts))
        for number, group in enumerate(draw(st.lists(st.integers(1, groups), min_size=1, max_size=12)))
    ]
    term_rows = [(n, r[1], r[2], draw(money), draw(money), draw(verdicts)) for n, r in enumerate(rows[:6])]
    share_rows = [(r[2], n, r[0], draw(money)) for n, r in enumerate(rows[:6])]
    ads = [(n, r[1], r[2], r[3], draw(money), draw(verdicts)) for n, r in enumerate(rows[:5])]
    return targets(*rows), terms(*term_rows), targets(*ads), shares(*share_rows)


@given(accounts(), st.sampled_from([7, 30, 60]))
def test_overspend_never_exceeds_spend_and_never_counts_less_than_the_largest_view(account, days):
    rows, term_rows, ads, share_rows = account
    most = caps(rows, term_rows, ads, days)
    found = findings.overspend(rows, term_rows, share_rows, month_factor(days), most, ad_groups=over(ads))
    assert 0 <= found.total <= rows["spend"].sum() * month_factor(days)
    shuffled = findings.overspend(
        rows.reverse(),
        term_rows.reverse(),
        share_rows.reverse(),
        month_factor(days),
        most,
        ad_groups=over(ads.reverse()),
    )
    assert shuffled.total == pytest.approx(found.total, abs=len(rows))
    uncapped = rows.filter(flagged()).group_by("campaign_id").agg(pl.col("stake").sum())
    both = found.by_campaign.join(uncapped, on="campaign_id")
    spend = rows.group_by("campaign_id").agg(pl.col("spend").sum())
    for row in both.join(spend, on="campaign_id").to_dicts():
        assert row["stake"] >= min(row["stake_right"], int(row["spend"] * month_factor(days)))


def test_placements_and_hours_are_further_views_of_a_campaign_s_money():
    rows = targets((1, 1, 1, 100, 30, "above target"), (2, 2, 2, 100, 50, "above target"))
    placed = targets(
        (1, 1, 0, 60, 45, "above target"), (2, 1, 0, 40, 9, "above target"), (3, 2, 0, 99, 99, "within target")
    )
    by_hour = targets((1, 1, 0, 9, 7, "above target"), (2, 2, 0, 99, 60, "likely above target"))
    capped = caps(rows, NO_TERMS, NO_ADS, 30)

    def headline(*views, away=None):
        return findings.overspend(rows, NO_TERMS, NO_SHARES, 1, capped, campaigns=over(*views), away=away).total

    assert headline() == 80
    assert headline(placed) == 54 + 50
    assert headline(placed, by_hour) == 54 + 60
    away = pl.DataFrame({"campaign_id": [1], "stake": [20]})
    assert headline(placed, away=away) == 34 + 50, "what is put away is in its placements too"


views = st.lists(
    st.tuples(
        st.integers(0, 99),
        st.integers(1, 2),
        st.just(0),
        st.integers(0, 50 * UNIT),
        st.integers(0, 50 * UNIT),
        st.sampled_from(["above target", "likely above target", "too early to tell", "within target"]),
    ),
    max_size=8,
).map(lambda rows: targets(*rows))


@given(accounts(), views, views, st.sampled_from([7, 30, 60]))
def test_money_is_counted_once_over_terms_targets_ads_placements_and_hours(account, placed, by_hour, days):
    rows, term_rows, ads, share_rows = account
    most = caps(rows, term_rows, ads, days)

    def counted(*views, away=None):
        base = (rows, term_rows, share_rows, month_factor(days), most)
        return findings.overspend(*base, ad_groups=over(ads), campaigns=over(*views), away=away)

    alone, found = counted(), counted(placed, by_hour)
    assert alone.total <= found.total <= rows["spend"].sum() * month_factor(days)
    largest = {
        row[0]: row[1]
        for row in (
            pl.concat(
                view.filter(flagged()).group_by("campaign_id").agg(pl.col("stake").sum()) for view in (placed, by_hour)
            )
            .group_by("campaign_id")
            .agg(pl.col("stake").max())
            .rows()
        )
    }
    spent, before = dict(most.rows()), dict(alone.by_campaign.rows())
    for campaign, stake in found.by_campaign.rows():
        assert stake == min(spent.get(campaign, 0), max(before.get(campaign, 0), largest.get(campaign, 0)))
    whole = pl.concat([placed, by_hour]).select("campaign_id", "stake")
    assert counted(placed, by_hour, away=whole).total == alone.total


def with_cohort(**changes):
    base = {
        "row_id": "1",
        "ad_group_id": 4,
        "main_product": "LAMP",
        "family": "F",
        "category": "C",
        "own_campaign": 1,
        "name_part": None,
        "own_portfolio": None,
        "target": "lamp",
        "impressions": 10,
        "clicks": 5,
        "spend": 30,
        "orders": 1,
        "units": 1,
        "sales": 9,
        "stake": 12,
    }
    return base | changes


def test_rows_costly_with_their_product_are_one_line_per_product():
    lines = findings.gathered(
        pl.DataFrame(
            [
                with_cohort(),
                with_cohort(row_id="2", target="light", stake=20),
                with_cohort(row_id="3", main_product=None, stake=50),
                with_cohort(row_id="4", main_product=None, name_part="Lamps", stake=5),
            ],
            infer_schema_length=None,
        )
    )
    assert lines.select("cohort_level", "cohort", "stake", "clicks").rows() == [
        ("ad_group_id", "4", 50, 5),
        ("main_product", "LAMP", 32, 10),
        ("name_part", "Lamps", 5, 5),
    ]
    assert lines["members"].to_list()[1] == ["2", "1"]
    assert lines["target"].to_list()[1] == "light", "the largest one's name"


WINNER = {"ad_group_id": 1, "normal_id": 7, "orders": 2, "spend": 20, "sales": 100, "target_acos": 0.25}
KIN = pl.DataFrame({"ad_group_id": [1, 1, 2], "kin_id": [1, 2, 2]})


def won(change, exact):
    live = pl.DataFrame(exact, schema={"ad_group_id": pl.Int64, "normal_id": pl.Int64}, orient="row")
    return len(findings.winners(pl.DataFrame([WINNER | change]), live, KIN))


def test_a_winner_sells_within_target_and_is_not_bought_exactly_yet():
    assert won({}, []) == 1
    assert won({"orders": 1}, []) == 0
    assert won({"spend": 26}, []) == 0
    assert won({"spend": 25}, []) == 1
    assert won({}, [(1, 7)]) == 0
    assert won({}, [(2, 7)]) == 0, "an ad group with the same product buys it"
    assert won({}, [(3, 7), (2, 8)]) == 1


def test_sales_missed_on_the_same_thing_count_once_the_largest():
    def check(key, money=Money.MISSED, subject=Subject.CAMPAIGN):
        return Check(key, AreaKey.DELIVERY, subject, Reading.BUDGETS, money, "", "", "", pl.lit(True))

    rows = pl.DataFrame({"row_id": ["1", "2"], "stake": [40, 7]})
    more = pl.DataFrame({"row_id": ["1", "3"], "stake": [50, 1]})
    assert findings.missed([]) == 0
    assert findings.missed([(check("a"), rows)]) == 47
    assert findings.missed([(check("a"), rows), (check("b"), more)]) == 50 + 7 + 1
    assert findings.missed([(check("a"), rows), (check("b", subject=Subject.PRODUCT), more)]) == 47 + 51
    assert findings.missed([(check("a", money=Money.OWN), rows)]) == 0
