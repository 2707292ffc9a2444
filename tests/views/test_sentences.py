"""Sentences with figures, by their text: one, several, none, negative, missing, huge."""

from __future__ import annotations

from datetime import date
from types import SimpleNamespace

import polars as pl
import pytest

from nimbus_reef.analysis.pulse import Agenda
from nimbus_reef.core.checks import CHECKS
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.catalog import catch_all_pages
from nimbus_reef.web.findings import pages as findings_pages
from nimbus_reef.web.findings import report_pages
from nimbus_reef.web.kit.planned import PlanStrip
from nimbus_reef.web.plan import pages as plan_pages
from nimbus_reef.web.pulse import pages as pulse_pages

EURO = Figures("en_IE", "EUR")
TODAY = date(2026, 11, 30)


def said(*texts):
    return " ".join(texts).replace("\xa0", " ").replace("\u2060", "").replace("\u202f", " ")


@pytest.mark.parametrize(
    ("groups", "money", "words"),
    [
        (
            (),
            (0, 0, 0, 0),
            "No problems found in this period. Every target and search term is within target, too "
            "early to tell, or snoozed.",
        ),
        (
            (1,),
            (9e6, 90e6, 300e6, 0),
            "€ 9 wasted above target per 30 days. 10.0 % of spend, 3.0 % of sales, in 1 finding.",
        ),
        (
            (2, 3),
            (9e6, 90e6, 0, 40e6),
            "€ 9 wasted above target per 30 days. 10.0 % of spend, – of sales, in 5 findings. Missed sales: € 40.",
        ),
        (
            (1,),
            (9e15, 9e16, 9e16, 0),
            "€ 9,000,000,000 wasted above target per 30 days. 10.0 % of spend, 10.0 % of sales, in 1 finding.",
        ),
    ],
)
def test_the_headline_of_findings(groups, money, words):
    overspend, spend, sales, missed = money
    found = SimpleNamespace(
        groups=groups, overspend=overspend, spend=spend, sales=sales, missed=missed, count=lambda: sum(groups)
    )
    answer = findings_pages.answer(found, 30, EURO)
    assert said(answer.bold, answer.rest) == words


def test_what_was_not_checked_is_said_with_the_headline():
    found = SimpleNamespace(groups=(), overspend=0, spend=0, sales=0, missed=0, count=lambda: 0)
    assert findings_pages.answer(found, 30, EURO, ["placements"]).rest.endswith(
        "Placements: not checked, no report loaded."
    )


@pytest.mark.parametrize(
    ("strip", "campaigns", "words"),
    [
        (
            PlanStrip(1, "−€ 3", "€ 0", "", 0),
            1,
            "1 change in 1 campaign. Together −€ 3 spend and € 0 sales per 30 days (80 % range).",
        ),
        (
            PlanStrip(1200, "+€ 3", "+€ 9", "30 % → 28 %", 1),
            12,
            "1,200 changes in 12 campaigns. Together +€ 3 spend and +€ 9 sales per 30 days (80 % "
            "range). ACOS 30 % → 28 %. The effect of 1 change is unknown.",
        ),
    ],
)
def test_the_summary_of_a_plan(strip, campaigns, words):
    answer = plan_pages.summary(strip, campaigns, EURO)
    assert said(answer.bold, answer.rest) == words


def beat(spend=None, sales=0, acos=None, moved=(None, None)):
    now = None if spend is None else SimpleNamespace(spend=spend * 10**6, sales=sales * 10**6, acos=acos)
    return SimpleNamespace(now=now, moved=dict(zip(("spend", "sales"), moved, strict=True)).get)


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({}, "No data for this period."),
        ({"spend": 40}, "Ads cost € 40 and brought no sales."),
        (
            {"spend": 40, "sales": 100, "acos": 0.4},
            "Ads cost € 40 and brought € 100 of sales. That is 40.0 % of the sales they brought "
            "(ACOS). The target is 28 %.",
        ),
        (
            {"spend": 40, "sales": 100, "acos": 0.4, "moved": (0.2, -0.3)},
            "Ads cost € 40 and brought € 100 of sales. That is 40.0 % of the sales they brought "
            "(ACOS). The target is 28 %. Per day, spend rose by 20 % and sales fell by 30 %.",
        ),
    ],
)
def test_what_happened_in_a_client_s_report(given, words):
    assert said(*report_pages.happened(beat(**given), 0.28, EURO, assumed=False)) == words


@pytest.mark.parametrize(
    ("parts", "words"),
    [
        (None, "There is no earlier period to compare with."),
        ({"cpc": 0.0, "cvr": 0.0001}, "ACOS did not change."),
        (
            {"cpc": 0.05, "cvr": -0.081, "aov": 0.0},
            "The share of clicks that become orders lowered ACOS by 8.1 points. The price per click "
            "raised ACOS by 5.0 points.",
        ),
    ],
)
def test_why_in_a_client_s_report(parts, words):
    assert said(*report_pages.why(parts, EURO)) == words


def test_what_we_do_and_what_it_should_bring():
    blocks = [SimpleNamespace(title="Wasted search terms", to_do="add a negative", gain=False)]
    assert report_pages.doing([], blocks, EURO) == ["Wasted search terms: add a negative."]
    assert report_pages.doing([], [], EURO) == []
    assert report_pages.brings(PlanStrip(0, "", "", "", 0)) == ["No changes are planned yet."]
    told = report_pages.brings(PlanStrip(3, "−€ 30", "+€ 9", "28 %", 2))
    assert told == [
        "Per 30 days: −€ 30 spend and +€ 9 sales (80 % range).",
        "ACOS: 28 %.",
        "The effect of 2 changes is unknown.",
    ]


@pytest.mark.parametrize(
    ("expected", "fits", "words"),
    [
        (None, None, "Effect unknown: the account has no clicks this cheap."),
        (
            SimpleNamespace(clicks=120.0, orders=4.0, acos=0.333),
            0.31,
            "At € 0.25 a click: about 120 clicks, 4 orders a month, ACOS 33 %.",
        ),
    ],
)
def test_the_catch_all_says_what_it_brings(expected, fits, words):
    answer = catch_all_pages.answer(SimpleNamespace(bid=0.25, expected=expected, fits_at=fits), EURO)
    assert said(answer.bold) == words
    assert ("stays within target up to € 0.31" in said(answer.rest)) is bool(fits)


def account(brand="Fernhollow", currency="EUR"):
    return SimpleNamespace(
        key=brand.lower(),
        brand=brand,
        country="DE",
        marketplace="Tidemarkt",
        currency=currency,
        locale="en_IE",
        settings=SimpleNamespace(audit_days=14),
    )


def entry(newest=TODAY, groups=None, planned=0, closed=TODAY, hidden=(), failed=(), of=None):
    found = None if groups is None else SimpleNamespace(groups=groups)
    return Agenda(of or account(), newest, found, hidden, closed, planned, failed)


def group(key, stake, names=("A",)):
    return SimpleNamespace(check=CHECKS[key], stake=int(stake * 10**6), rows=pl.DataFrame({"name": list(names)}))


def test_what_is_due():
    def due(**given):
        return [line.words for line in pulse_pages.agenda([entry(**given)], TODAY).due]

    assert due() == []
    assert due(newest=None) == ["Load a first report."]
    assert due(newest=date(2026, 11, 1)) == ["Load newer days: the newest is 29 days old."]
    assert due(planned=1) == ["Send 1 planned change."]
    assert due(closed=None) == ["Close a first audit."]
    assert due(closed=date(2026, 11, 1)) == ["Audit: the last one is 29 days old."]
    soon = [SimpleNamespace(until_day=day) for day in (date(2026, 12, 2), date(2026, 12, 1), date(2027, 1, 1), None)]
    assert due(hidden=soon) == ["2 snoozed findings return from 1 Dec 2026."]


def test_this_week_is_by_money_in_each_currency_and_says_what_is_not_calculated():
    pounds = account("Pellwick", "GBP")
    week = [group("costly-targets", 50), group("dry-budgets", 80), group("page-lost", 900), group("winners", 0)]
    found = pulse_pages.agenda([entry(groups=week), entry(groups=[group("off-site", 9)], of=pounds), entry()], TODAY)
    assert [(line.words, said(line.amount)) for line in found.week["EUR"]] == [
        ("Campaigns out of budget during selling hours", "€ 80 missed sales"),
        ("Targets above target ACOS", "€ 50 wasted"),
    ]
    assert [(line.brand, said(line.amount)) for line in found.week["GBP"]] == [("Pellwick, DE", "£ 9 wasted")]
    assert found.waiting == 1
    assert [line.words for line in found.broke] == ["Product pages that lost content, stock or the main offer: A"]


def test_what_broke_counts_further_pages_and_names_a_failed_load():
    failed = [(SimpleNamespace(kind="load", message="The file is empty."), "may.csv")]
    found = pulse_pages.agenda([entry(groups=[group("page-broke", 4, ("A", "B", "C"))], failed=failed)], TODAY)
    assert [line.words for line in found.broke] == [
        "Conversion drops after a listing change: A and 2 more",
        "Load failed: may.csv. The file is empty.",
    ]


def test_brands_are_searched_and_sorted():
    def one(brand, currency, spend):
        sums = SimpleNamespace(spend=spend, sales=spend * 3, acos=0.3, tacos=None, days=30)
        return SimpleNamespace(
            account=SimpleNamespace(**vars(account(brand, currency)), target_acos=0.28),
            newest=TODAY,
            trouble="",
            window=None,
            source=None,
            days=None,
            now=sums,
            then=None,
            overspend=spend,
            planned=0,
            loaded_at=TODAY,
            unread=False,
            lost=None,
            cut=(),
            moved=lambda _: None,
        )

    beats = [one("Aster", "EUR", 5 * 10**6), one("Birch", "EUR", 9 * 10**6), one("Cedar", "EUR", 7 * 10**6)]
    names = lambda **how: [line.name for purse in pulse_pages.purses(beats, TODAY, **how) for line in purse.lines]  # noqa: E731
    assert names() == ["Aster, DE", "Birch, DE", "Cedar, DE"]
    assert names(sort="-spend") == ["Birch, DE", "Cedar, DE", "Aster, DE"]
    assert names(sort="name") == ["Aster, DE", "Birch, DE", "Cedar, DE"]
    assert names(query="tide ced") == ["Cedar, DE"]
    assert names(query="nothing") == []
    with pytest.raises(BadInput, match="not sorted by"):
        names(sort="mood")
