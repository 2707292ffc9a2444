"""Findings: ranked by money, put away and brought back, accepted from the list."""

import re
from datetime import date, timedelta
from urllib.parse import unquote

import polars as pl
import pytest
from tests.pages import accept, parsed, text_of, values, words
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis import readings
from nimbus_reef.analysis.findings import findings, named
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import checks
from nimbus_reef.core.checks import Money
from nimbus_reef.core.checks.targeting import WINNERS
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import accounts, hidden_findings, plans
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.findings.forms import PutAwayForm

FINDINGS = "/findings/"
TODAY = date(2026, 11, 21)
AIMS = Aims(0.28)
WINDOW = Window(date(2026, 10, 19), date(2026, 11, 17))


@pytest.fixture
def account(demo):
    return accounts.by_key(demo.store, "fernhollow-de")


@pytest.fixture
def found(demo, account):
    """What is found now, worked out anew each time."""
    facts = Facts(demo.store)
    yield lambda: findings(facts, Selection(account, WINDOW, AIMS), hidden_findings.away(demo.store, account.id), TODAY)
    hidden_findings.bring_back(
        demo.store, account.id, 1, [each.id for each in hidden_findings.away(demo.store, account.id)]
    )


def group(found, key):
    return next(each for each in found.groups if each.check.key == key)


def test_groups_come_largest_first_and_the_headline_is_never_more_than_the_spend(found):
    now = found()
    assert now.groups[0].check.urgent, "what broke today is first"
    stakes = [each.stake for each in now.groups if each.check is not WINNERS and not each.check.urgent]
    assert stakes == sorted(stakes, reverse=True)
    wasted = [each.stake for each in now.groups if each.check.money is Money.OVERSPEND]
    assert max(wasted) <= now.overspend <= now.spend


def test_what_is_put_away_for_good_leaves_the_list_and_the_headline(found, demo, account):
    before = found()
    first = group(before, "costly-targets").rows["row_id"][0]
    hidden_findings.put(
        demo.store, account.id, 1, "costly-targets", [first], until_day=None, until_clicks=None, reason="test"
    )
    after = found()
    assert first not in group(after, "costly-targets").rows["row_id"].to_list()
    assert after.overspend < before.overspend
    assert [each.row_id for each in after.hidden] == [first]
    hidden_findings.bring_back(demo.store, account.id, 1, [after.hidden[0].id])
    assert found().overspend == before.overspend


@pytest.mark.parametrize(("days", "gone"), [(1, True), (0, False)])
def test_a_snoozed_finding_comes_back_on_its_day(found, demo, account, days, gone):
    first = group(found(), "costly-targets").rows["row_id"][0]
    until = TODAY + timedelta(days=days)
    hidden_findings.put(
        demo.store, account.id, 1, "costly-targets", [first], until_day=until, until_clicks=None, reason=""
    )
    assert (first not in group(found(), "costly-targets").rows["row_id"].to_list()) is gone


def test_a_finding_snoozed_for_clicks_comes_back_with_them(demo, account):
    """Clicks are counted from the day it was put away on."""
    facts, selection = Facts(demo.store), Selection(account, WINDOW, AIMS)
    row = judged_targets(facts, selection).sort("clicks", descending=True).to_dicts()[0]
    since = WINDOW.first + timedelta(days=3)
    clicks = target_frames.target_rows(facts, account.id, Window(since, WINDOW.last)).filter(
        target_id=row["target_id"]
    )["clicks"][0]
    snoozed = hidden_findings.PutAway(1, "costly-targets", str(row["target_id"]), None, clicks + 1, "", since, "")
    enough = hidden_findings.PutAway(1, "costly-targets", str(row["target_id"]), None, clicks, "", since, "")
    assert findings(facts, selection, [snoozed], TODAY).hidden == (snoozed,)
    assert findings(facts, selection, [enough], TODAY).hidden == ()


@pytest.mark.parametrize("key", ["words-to-shut-out", "wasted-terms"])
def test_words_and_terms_snoozed_for_clicks_come_back_with_theirs(demo, account, found, key):
    """Those that the finding itself tells of the whole window, when it was put away before it began."""
    facts, selection = Facts(demo.store), Selection(account, WINDOW, AIMS)
    row = group(found(), key).rows.to_dicts()[0]

    def hidden(clicks):
        away = hidden_findings.PutAway(1, key, row["row_id"], None, clicks, "", WINDOW.first, "")
        return findings(facts, selection, [away], TODAY).hidden

    assert row["clicks"] > 0
    assert len(hidden(row["clicks"] + 1)) == 1
    assert hidden(row["clicks"]) == ()


def test_what_is_found_of_several_rows_offers_no_clicks_to_wait_for(owner):
    page = owner.get(f"{FINDINGS}?account=fernhollow-de&window={WINDOW.first}..{WINDOW.last}").get_data(as_text=True)
    forms = {form.partition('"')[0]: form for form in page.split('id="bulk-')[1:]}
    assert 'name="clicks"' in forms["costly-targets"].partition("</form>")[0]
    assert 'name="clicks"' not in forms["bottom-quarter"].partition("</form>")[0]


def test_winners_sell_within_target_and_are_promoted_with_a_negative_at_their_source(found, demo, account, owner):
    rows = group(found(), WINNERS.key).rows
    assert (rows["orders"] >= 2).all()
    assert (rows["spend"] <= 0.28 * rows["sales"]).all()
    data = {"findings": rows["row_id"].head(3).to_list(), "back": FINDINGS, "window": f"{WINDOW.first}..{WINDOW.last}"}
    done = accept(owner, "/targeting/terms/accept-many", data, follow_redirects=True)
    assert "added to the plan" in text_of(done)
    assert "Findings" in text_of(done)
    changes = [each.change for each in plans.planned(demo.store, account.id)]
    made = {each.target for each in changes if each.entity == "target"}
    assert made == set(rows["term"].head(3))
    assert all(each.match_type == "exact" and float(each.new_value) > 0 for each in changes if each.entity == "target")
    homes = {each.target: (each.campaign, each.ad_group) for each in changes if each.entity == "target"}
    assert all(homes[each.target] != (each.campaign, each.ad_group) for each in changes if each.entity == "negative")


@pytest.mark.parametrize("key", ["costly-targets", "no-order-targets", "with-its-product"])
def test_a_change_is_filed_under_the_finding_it_was_accepted_from(found, demo, account, owner, key):
    rows = group(found(), key).rows
    data = {
        "findings": rows["members"].explode().to_list(),
        "back": FINDINGS,
        "window": f"{WINDOW.first}..{WINDOW.last}",
    }
    accept(owner, "/targeting/targets/accept-many", data)
    filed = [each.change.finding for each in plans.planned(demo.store, account.id)]
    assert filed
    assert set(filed) == {key}


def test_the_page_puts_away_and_brings_back(owner, found):
    page = owner.get(FINDINGS)
    text = text_of(page)
    assert "wasted above target per 30 days." in text
    row = values(page, "[form=bulk-costly-targets][name=findings]", "value")[0]
    data = {"check": "costly-targets", "findings": row, "until": "good", "reason": "brand term"}
    gone = owner.post("/findings/put-away", data=data, follow_redirects=True)
    assert "1 finding snoozed" in text_of(gone)
    assert "for good brand term Demo" in text_of(gone)
    number = values(gone, "[name=away][value]", "value")[0]
    back = owner.post("/findings/bring-back", data={"away": number}, follow_redirects=True)
    assert "1 finding shown again" in text_of(back)
    assert "brand term" not in text_of(back)
    # Put away anew it has the reason of now, and that is what is brought back.
    anew = owner.post("/findings/put-away", data=data | {"reason": "of ours"}, follow_redirects=True)
    assert "for good of ours Demo" in text_of(anew)
    number = values(anew, "[name=away][value]", "value")[0]
    back = owner.post("/findings/bring-back", data={"away": number}, follow_redirects=True)
    assert "1 finding shown again" in text_of(back)


@pytest.mark.parametrize(
    ("form", "words"),
    [
        ({"until": "good"}, "needs a reason"),
        ({"until": "day", "day": "soon"}, "Not a valid date"),
        ({"until": "day", "day": "2026-11-21"}, "not after"),
        ({"until": "clicks", "clicks": "0"}, "Enter 1 to"),
        ({}, "Choose a date, a number of clicks, or dismiss"),
    ],
)
def test_an_end_that_cannot_be_read_says_why(form, words):
    with pytest.raises(BadInput) as problem:
        PutAwayForm(MultiDict(form), TODAY).checked()
    assert words in str(problem.value)


def test_putting_away_nothing_or_something_unknown_is_refused(owner):
    for data in ({"check": "costly-targets"}, {"check": "mood", "findings": "1"}):
        assert owner.post("/findings/put-away", data=data | {"until": "good", "reason": "x"}).status_code == 400


def stake_beside(page, area):
    """The money that the rail tells of an area."""
    named = next(each for each in parsed(page).select("ol#rail a") if area in words(each))
    return re.fullmatch(r"[\d.]+k?", words(named.select_one(".stake")))


def test_the_rail_s_stake_of_targeting_is_asked_for_after_the_page(owner):
    days = "account=fernhollow-de&window=last-17"
    page = owner.get(f"/movement/drift?{days}")
    rail = owner.get(values(page, "ol#rail", "hx-get")[0])
    assert stake_beside(rail, "Targeting")
    assert values(rail, "li.here > a", "href")[0].startswith("/movement/")
    for known in (rail, owner.get(f"/movement/drift?{days}")):
        assert "hx-get" not in parsed(known).select_one("ol#rail").attrs
    table = owner.get("/targeting/targets?account=fernhollow-de&window=last-16")
    assert "hx-get" not in parsed(table).select_one("ol#rail").attrs, (
        "what the page works out itself is not asked for again"
    )


def test_the_rail_tells_the_headline_once_it_is_known(owner):
    assert stake_beside(owner.get(FINDINGS), "Findings")


def test_a_check_on_a_new_subject_needs_its_rows_and_its_condition_alone(owner, found, monkeypatch):
    """Page, workbook, report and command line show it without knowing of it; it opens what its campaign holds."""
    dear = checks.Reading("dear campaigns", named=True)

    def rows(facts, selection):
        sums = judged_targets(facts, selection).group_by("campaign").agg(pl.col(MEASURES).sum()).head(2)
        named = sums.with_columns(pl.col("campaign").cast(pl.String))
        return named.with_columns(
            row_id="campaign",
            name="campaign",
            where=pl.lit("as a whole"),
            stake=pl.lit(77_000_000),
            ad_group=pl.lit(""),
            target=pl.lit(""),
            match_type=pl.lit(""),
        )

    monkeypatch.setitem(readings.READERS, dear, rows)
    monkeypatch.setitem(
        checks.CHECKS,
        "dear",
        checks.Check(
            "dear",
            checks.AreaKey.CATALOG,
            checks.Subject("campaign"),
            dear,
            checks.Money.OWN,
            "Dear campaigns",
            "Which?",
            "look",
            pl.col("stake") > 0,
        ),
    )
    address = "account=fernhollow-de&window=last-19"
    page = owner.get(f"/findings/?{address}")
    assert "Dear campaigns € 154 wasted" in text_of(page).replace("\xa0", " ")
    name = next(each for each in parsed(page).select("a.name") if "campaign=" in each["href"])
    assert f"campaign={words(name)}" in unquote(name["href"])
    assert "Dear campaigns" in text_of(owner.get(f"/findings/report?{address}&annex=yes"))
    with_it = [group for group in found().groups if group.check.key == "dear"]
    assert [named(group.check, row)[1] for group in with_it for row in group.rows.to_dicts()] == ["as a whole"] * 2


def test_the_overspend_of_a_new_subject_is_in_the_headline_once(demo, account, found, monkeypatch):
    """Of campaigns as a whole: the larger of it and of what is found in their ad groups counts."""
    before = found()
    whole = checks.Reading("whole campaigns", named=True, overlap=checks.Overlap.CAMPAIGN)

    def rows(facts, selection):
        sums = judged_targets(facts, selection).group_by("campaign", "campaign_id").agg(pl.col(MEASURES).sum())
        return readings.register.named_rows(
            sums.with_columns(row_id="campaign", name="campaign", where=pl.lit(""), stake=pl.col("spend")),
            "campaign_id",
        )

    monkeypatch.setitem(readings.READERS, whole, rows)
    overspend = (checks.Subject("whole campaign"), whole, checks.Money.OVERSPEND)
    check = checks.Check(
        "whole", checks.AreaKey.DELIVERY, *overspend, "Whole campaigns", "Which?", "look", pl.lit(True)
    )
    monkeypatch.setitem(checks.CHECKS, "whole", check)
    # All but the same target, since what was found is kept.
    selection = Selection(account, WINDOW, Aims(AIMS.account + 1e-9))
    after = findings(Facts(demo.store), selection, [], TODAY)
    assert after.overspend > before.overspend
    assert after.overspend <= after.spend * 30 / WINDOW.days + 1
