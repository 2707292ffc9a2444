"""What two pages call the same is the same: walked over scopes and windows, as a manager would compare."""

import io
import json
import re
from datetime import date, timedelta

import polars as pl
import pytest
from click.testing import CliRunner
from tests.conftest import LAST_DAY
from tests.pages import found, row_ids, text_of, texts, workbook

from nimbus_reef.analysis.findings import findings
from nimbus_reef.analysis.selection import Part, Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.cli.main import cli
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.reading.facts import Facts

A = "account=fernhollow-de"
WINDOWS = ("", "&window=last-14", "&window=2026-10-20..2026-11-05")
PARTS = (
    "",
    "&format=product",
    "&product=GL-PANEL-25W",
    "&campaign=GL-PANEL%20%C2%B7%20grow%20%C2%B7%20phrase",
    "&holds=grow",
    "&portfolio=Grow%20lights",
)


def number(text):
    return float(re.sub(r"[^\d.]", "", text))


def money(text, pattern):
    found = re.search(pattern, text.replace("\xa0", " "))
    assert found, (pattern, text[:600])
    return number(found[1])


def pulse_row(page):
    """What Pulse says of the brand, in its row of the table."""
    return next(row for row in texts(page, "tbody tr") if "Fernhollow, DE" in row)


@pytest.mark.parametrize("window", WINDOWS)
@pytest.mark.parametrize("part", PARTS)
def test_spend_and_sales_are_the_same_on_pulse_tree_ledger_and_why(owner, window, part):
    scope = f"{A}{window}{part}"
    pulse = owner.get(f"/pulse/?{scope}")
    spend, sales = (number(each) for each in re.findall(r"€ [\d,]+", pulse_row(pulse))[:2])
    tree = text_of(owner.get(f"/standing/tree?{scope}"))
    assert money(tree, r"Spend (€ [\d,]+)") == spend
    assert money(tree, r"Sales (€ [\d,]+)") == sales
    acos = re.search(r"ACOS: spend ÷ sales[^%]*?ACOS ([\d.]+)", tree.replace("\xa0", " "))
    ledger = pl.read_csv(io.BytesIO(owner.get(f"/movement/ledger/export.csv?{scope}&metric=spend").data))
    days = Window(*_days(window)).days
    assert ledger["value1"].sum() * days / 30 == pytest.approx(spend, abs=0.6)
    why = owner.get(f"/movement/why/export.csv?{scope}")
    rows = pl.read_csv(io.BytesIO(why.data))
    assert rows["spend1"].sum() == pytest.approx(spend, abs=0.6)
    if acos:
        assert rows["spend1"].sum() / rows["sales1"].sum() * 100 == pytest.approx(float(acos[1]), abs=0.06)


def _days(window):
    ripe = LAST_DAY - timedelta(days=3)
    if not window:
        return ripe - timedelta(days=29), ripe
    text = window.partition("=")[2]
    if text == "last-14":
        return ripe - timedelta(days=13), ripe
    first, _, last = text.partition("..")
    return date.fromisoformat(first), date.fromisoformat(last)


@pytest.mark.parametrize("window", WINDOWS)
@pytest.mark.parametrize("part", PARTS)
def test_what_is_at_stake_is_the_same_on_rail_findings_pulse_table_and_file(owner, window, part):
    scope = f"{A}{window}{part}"
    found = text_of(owner.get(f"/findings/?{scope}"))
    overspend = money(found, r"(€ [\d,]+) wasted above target per 30 days")
    assert money(owner.get(f"/pulse/at-stake?{scope}").get_data(as_text=True), r"(€ [\d,]+)") == overspend
    rail = text_of(owner.get(f"/scope/rail?{scope}&area=findings"))
    short = re.search(r"Findings (?:, \d+ new )?([\d.]+k?)", rail)[1]
    assert _long(short) == pytest.approx(overspend, rel=0.06, abs=1)
    table = text_of(owner.get(f"/targeting/targets?{scope}"))
    stake = money(table, r"wasted (€ [\d,]+) per 30 days")
    assert _long(re.search(r"Targeting ([\d.]+k?)", rail)[1]) == pytest.approx(stake, rel=0.06, abs=1)
    file = pl.read_csv(io.BytesIO(owner.get(f"/targeting/targets/export.csv?{scope}").data))
    assert file["stake"].sum() == pytest.approx(stake, abs=0.6)
    assert not re.search(
        rb"\d\.\d{7,}", owner.get(f"/targeting/targets/export.csv?{scope}").data.split(b"\n")[1].rsplit(b",", 4)[1]
    )


def _long(text):
    return float(text[:-1]) * 1000 if text.endswith("k") else float(text)


def test_the_rail_s_standing_and_movement_stand_on_their_pages(owner):
    owner.get(f"/findings/?{A}")
    for page in ("/standing/tree", "/movement/drift"):
        assert "per 30 days:" in text_of(owner.get(f"{page}?{A}"))


def test_a_product_s_targets_are_called_those_of_whole_ad_groups(owner, demo):
    shown = text_of(owner.get(f"/targeting/targets?{A}&product=GL-PANEL-25W")).replace("\xa0", " ")
    own = money(shown, r"GL-PANEL-25W itself spent (€ [\d,]+)")
    account = accounts.by_key(demo.store, "fernhollow-de")
    facts = Facts(demo.store)
    found = totals(facts, Selection(account, Window(*_days("")), Aims(0.28), None, Part(product="GL-PANEL-25W")))
    assert round(summed(found.now)["spend"] / 1e6) == own


def test_overspend_never_exceeds_what_the_totals_report_says_was_spent(owner, demo):
    account = accounts.by_key(demo.store, "fernhollow-de")
    facts, window = Facts(demo.store), Window(*_days(""))
    found = findings(facts, Selection(account, window, target_acos.aims(demo.store, account)), [], LAST_DAY)
    source = facts.total_source(account.id, [window])
    assert found.overspend <= facts.by_day(account.id, source, window, ("spend",))["spend"].sum()


def test_days_compared_with_that_are_not_held_are_no_zeros(owner):
    for page in ("/movement/drift", "/movement/why", "/movement/ledger"):
        shown = text_of(owner.get(f"{page}?{A}&against=2020-01-01..2020-01-30"))
        assert "No data for" in shown
        assert "0 →" not in shown
    row = pulse_row(owner.get(f"/pulse/?{A}&against=2020-01-01..2020-01-30").get_data(as_text=True))
    assert " pt" not in row
    assert "+" not in row


def test_an_audit_closed_on_other_days_is_not_compared(owner, demo):
    owner.post("/findings/close", data={"account": "fernhollow-de", "window": "last-14"})
    shown = text_of(owner.get(f"/findings/?{A}&window=last-30"))
    assert "it covered 14 days, this one 30" in shown
    assert not re.search(r"\d+ findings? new, ", shown)
    again = text_of(owner.get(f"/findings/?{A}&window=last-14"))
    assert "0 gone" in again
    audit_id = found(owner.get(f"/findings/?{A}"), "[name=audit]")["value"]
    owner.post("/findings/reopen", data={"account": "fernhollow-de", "audit": audit_id})


@pytest.mark.parametrize(
    ("address", "status"),
    [("/nowhere", 404), ("/targeting/targets?window=x", 400), ("/standing/nonsense", 404), ("/plan/sheet.doc", 404)],
)
def test_errors_of_the_signed_in_stand_in_the_frame(owner, address, status):
    answer = owner.get(f"{address}{'&' if '?' in address else '?'}{A}")
    assert answer.status_code == status
    shown = answer.get_data(as_text=True)
    assert 'aria-label="The audit, in order"' in shown
    assert 'id="error"' in shown


def test_words_are_found_as_they_are_spelt(owner):
    names = texts(owner.get(f"/targeting/words?{A}"), ".name > .text")
    spelt = next((name for name in names if name.endswith("s")), names[0])
    assert spelt in text_of(owner.get(f"/targeting/words?{A}&q={spelt.replace(' ', '+')}"))


NAMED = (*PARTS, "&said=goal%3Agrow")
"""The whole, and parts of each sort: also one by the pattern that names are built by."""


@pytest.fixture
def named(demo):
    """Names of campaigns read by a pattern, for parts of them."""
    account = accounts.by_key(demo.store, "fernhollow-de")
    accounts.set_naming(demo.store, account.id, None, "{product} · {goal} · {match}")
    yield
    accounts.set_naming(demo.store, account.id, None, "")


def sheets(owner, scope):
    """The audit's workbook, as a spreadsheet program reads it: the rows of each sheet, by the words of its header."""
    book = workbook(owner, f"/findings/workbook.xlsx?{scope}")
    return {name: rows.to_dicts() for name, rows in book.items()}


def csv(owner, address):
    answer = owner.get(address)
    assert answer.status_code == 200, address
    return pl.read_csv(io.BytesIO(answer.data), infer_schema_length=None)


@pytest.mark.parametrize("part", NAMED)
@pytest.mark.usefixtures("named")
def test_the_workbook_and_the_report_say_of_a_part_what_its_pages_say(owner, part):
    scope = f"{A}{part}"
    pulse = pulse_row(owner.get(f"/pulse/?{scope}"))
    spend, sales = (number(each) for each in re.findall(r"€ [\d,]+", pulse)[:2])
    book = sheets(owner, scope)
    told = {row["what"]: row for row in book["Summary"]}
    assert told["spend, now"]["amount"] == pytest.approx(spend, abs=0.6)
    assert told["sales, now"]["amount"] == pytest.approx(sales, abs=0.6)
    assert told["ACOS, now"]["rate"] == pytest.approx(spend / sales, abs=0.001)
    report = text_of(owner.get(f"/findings/report?{scope}&annex=yes")).replace("\xa0", " ")
    assert f"€ {spend:,.0f}" in report
    assert f"€ {sales:,.0f}" in report
    page = text_of(owner.get(f"/findings/?{scope}"))
    overspend = money(page, r"(€ [\d,]+) wasted above target per 30 days")
    assert money(report, r"(€ [\d,]+) wasted above target per 30 days") == overspend
    likely = told["wasted spend per 30 days, the same money counted once"]["amount"]
    assert likely == pytest.approx(overspend, abs=0.6)
    assert told["findings"]["amount"] == len(book["Findings"])


@pytest.mark.parametrize("part", NAMED)
@pytest.mark.usefixtures("named")
def test_delivery_and_catalog_say_of_a_part_what_findings_and_the_rail_say(owner, part):
    scope = f"{A}{part}"
    listed = csv(owner, f"/delivery/placements/export.csv?{scope}&by=campaign")
    assert listed["spend"].sum() == pytest.approx(
        csv(owner, f"/delivery/placements/export.csv?{scope}&by=account")["spend"].sum()
    )
    # A placement is judged among the whole account, however narrowly it is looked at.
    whole = csv(owner, f"/delivery/placements/export.csv?{A}&by=campaign")
    both = listed.join(whole, on=["whose", "placement"], suffix="_of_all")
    assert len(both) == len(listed)
    assert both["verdict"].to_list() == both["verdict_of_all"].to_list()
    flagged = listed["verdict"].is_in(["above target", "likely above target"])
    assert listed.filter(~flagged)["stake"].sum() == 0
    found_there = text_of(owner.get(f"/findings/?{scope}")).replace("\xa0", " ")
    off = listed.filter(
        (pl.col("placement") == "off_site")
        & (pl.col("verdict") == "above target")
        & (pl.col("offsite_limited") != "yes")
    )
    if len(off):
        there = money(found_there, r"Off-site spend without return (€ [\d,]+)")
        assert off["stake"].sum() == pytest.approx(there, abs=0.6)
    rail = text_of(owner.get(f"/scope/rail?{scope}&area=findings"))
    for area, page in (("Delivery", "/delivery/placements"), ("Catalog", "/catalog/families")):
        said = re.search(rf"{area} ([\d.]+k?)\b", rail)
        shown = text_of(owner.get(f"{page}?{scope}")).replace("\xa0", " ")
        if said:
            on_page = money(shown, r"(€ [\d,]+) per 30 days:")
            assert _long(said[1]) == pytest.approx(on_page, rel=0.06, abs=1)


@pytest.mark.parametrize("by", ["product", "campaign"])
def test_drift_says_of_the_parts_of_acos_what_why_says(owner, by):
    scope = f"{A}&by={by}"
    why = text_of(owner.get(f"/movement/why?{scope}")).replace("\xa0", " ")
    drift = text_of(owner.get(f"/movement/drift?{scope}")).replace("\xa0", " ")
    parts = r"(price per click|conversion|order value|mix)[^.;,]*?(added|took) ([\d.]+)"
    said = {name: (how, much) for name, how, much in re.findall(parts, drift)}
    told = {name: (how, much) for name, how, much in re.findall(parts, why)}
    assert said
    assert all(told[name] == both for name, both in said.items() if name in told)


def test_figures_of_the_workbook_are_figures_under_headers_in_words(owner):
    row = row_ids(owner.get(f"/targeting/targets?{A}&where=verdict:is:costly&where=orders:gt:0"))[0]
    owner.post("/targeting/targets/accept", data={"account": "fernhollow-de", "row": row})
    book = sheets(owner, A)
    (planned,) = book["Plan"]
    assert 0 < planned["to"] < planned["from"]
    assert planned["found as"] in {row["finding"] for row in book["Findings"]}
    headers = {header for rows in book.values() if rows for header in rows[0]}
    assert not [header for header in headers if "_" in header]
    told = {row["what"]: row for row in book["Summary"]}
    assert isinstance(told["first day"]["day"], date)
    listings = book["Listings"]
    assert {type(row["changed"]) for row in listings} <= {date, type(None)}
    targets = book["Targets"][0]
    assert {type(targets[name]) for name in ("clicks", "spend", "ACOS")} <= {int, float, type(None)}


def test_commands_say_what_the_pages_and_files_say(owner, demo):
    def reef(*arguments):
        environment = {"REEF_VAR": str(demo.config.var), "REEF_LOG_LEVEL": "ERROR"}
        done = CliRunner().invoke(cli, [*arguments, "--account", "fernhollow-de"], env=environment)
        assert done.exit_code == 0, done.output
        return done.output

    page = text_of(owner.get(f"/findings/?{A}"))
    told = reef("findings", "--format", "json")
    assert number(re.search(r"([\d,.]+) EUR per 30 days likely", told)[1]) == pytest.approx(
        money(page, r"(€ [\d,]+) wasted above target per 30 days"), abs=0.6
    )
    table = pl.read_csv(io.StringIO(reef("table", "--view", "targets")), infer_schema_length=None)
    file = csv(owner, f"/targeting/targets/export.csv?{A}")
    for measure in ("spend", "sales", "clicks", "stake"):
        assert table[measure].sum() == pytest.approx(file[measure].sum())
    placements = pl.DataFrame(json.loads(reef("delivery", "--view", "placements", "--format", "json")))
    assert placements["spend"].sum() == pytest.approx(
        csv(owner, f"/delivery/placements/export.csv?{A}&by=campaign")["spend"].sum()
    )
