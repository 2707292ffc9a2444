"""The same thirty days by day, as one sum, without dates, in one sheet: the same rows, verdicts and stakes."""

from datetime import date, timedelta

import polars as pl
import pytest
from sqlalchemy import text

from nimbus_reef.analysis.findings import findings
from nimbus_reef.analysis.judged import judged_ads, judged_targets, judged_terms
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadFile, BadInput, NeedsYes
from nimbus_reef.formats import mapping
from nimbus_reef.jobs import intake
from nimbus_reef.sim import brand, shapes
from nimbus_reef.sim.vocabulary import FERNHOLLOW
from nimbus_reef.store.loading import undo
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.reading import row_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

LAST = date(2026, 10, 20)
WINDOW = Window(LAST - timedelta(days=32), LAST - timedelta(days=3))
TODAY = LAST + timedelta(days=1)
SUMMED = ("search_term_daily", "target_daily", "product_ad_daily")


@pytest.fixture(scope="module")
def frames():
    return brand.simulate(FERNHOLLOW, 7, 34, LAST).frames


def account_of(store, key):
    return accounts.add(
        store,
        key=key,
        brand_name="Fernhollow",
        marketplace="Tidemarkt",
        country="DE",
        currency="EUR",
        locale="en_IE",
        timezone="Europe/Berlin",
        target_acos=FERNHOLLOW.target_acos,
    )


def put(store, account, tmp_path, name, frame, kind=None, days=None, **options):
    path = tmp_path / name
    if name.endswith(".xlsx"):
        shapes.write_workbook(path, frame)
    else:
        frame.write_csv(path)
    looked = intake.inspect(store, account, path, name)
    maps = intake.usual_maps(looked, kind)
    if days is not None:
        maps = [each if each.dated else mapping.replace(each, days=days) for each in maps]
    return intake.load(store, intake.LoadRequest(account, path, name, maps, scope=None, today=TODAY, **options))


def load_in_shape(store, tmp_path, frames, shape):
    account = account_of(store, f"fern-{shape}")
    put(store, account, tmp_path, "catalog.csv", frames["catalog"])
    put(store, account, tmp_path, "targets.csv", shapes.within(frames["targets"], date(2020, 1, 1), LAST))
    put(store, account, tmp_path, "campaigns.csv", frames["campaigns"])
    for kind in SUMMED:
        if shape == "days":
            put(store, account, tmp_path, f"{kind}.csv", shapes.within(frames[kind], WINDOW.first, WINDOW.last))
        elif shape == "sum":
            put(store, account, tmp_path, f"{kind}.csv", shapes.one_sum(frames[kind], WINDOW.first, WINDOW.last))
        else:
            bare = shapes.undated(frames[kind], WINDOW.first, WINDOW.last)
            put(store, account, tmp_path, f"{kind}.csv", bare, kind, WINDOW)
    return account


JUDGED = ("clicks", "orders", "spend", "sales", "verdict", "stake", "own_test", "own_fault", "p_over")
KEYS = {
    "targets": ["campaign", "ad_group", "target", "match_type"],
    "terms": ["campaign", "ad_group", "term"],
    "ads": ["campaign", "ad_group", "sku"],
}


def verdicts(store, account):
    facts = Facts(store)
    selection = Selection(account, WINDOW, target_acos.aims(store, account))
    found = {
        "targets": judged_targets(facts, selection),
        "terms": judged_terms(facts, selection),
        "ads": judged_ads(facts, selection),
    }
    names = {name: pl.col(name).cast(pl.String) for name in ("campaign", "ad_group", "match_type", "sku")}
    tables = {
        what: (
            rows.with_columns(names[n] for n in names if n in rows.columns)
            .select(*KEYS[what], *JUDGED)
            .sort(KEYS[what])
        )
        for what, rows in found.items()
    }
    return tables, findings(facts, selection, [], TODAY)


def test_three_shapes_of_the_same_days_end_in_the_same_verdicts_and_stakes(store, tmp_path, frames):
    told = {shape: verdicts(store, load_in_shape(store, tmp_path, frames, shape)) for shape in ("days", "sum", "bare")}
    tables, found = told["days"]
    assert len(tables["terms"]) > 1_000
    assert found.overspend > 0
    for shape in ("sum", "bare"):
        other, findings = told[shape]
        for what, rows in tables.items():
            exact = [*KEYS[what], *(name for name in JUDGED if name != "p_over")]
            assert other[what].select(exact).equals(rows.select(exact)), (shape, what)
            assert (other[what]["p_over"] - rows["p_over"]).abs().max() < 1e-9
        assert findings.overspend == found.overspend
        overs = ("costly-targets", "no-order-targets", "wasted-terms", "with-its-product")
        assert {g.check.key: (len(g.rows), g.stake) for g in findings.groups if g.check.key in overs} == {
            g.check.key: (len(g.rows), g.stake) for g in found.groups if g.check.key in overs
        }


def test_a_sum_is_what_is_looked_at_and_is_left_out_of_days_that_cut_it(store, tmp_path, frames):
    account = account_of(store, "fern-de")
    (loaded,) = put(
        store, account, tmp_path, "t.csv", shapes.one_sum(frames["target_daily"], WINDOW.first, WINDOW.last)
    )
    assert (loaded.blocks, loaded.days) == ((WINDOW,), 30)
    facts = Facts(store)
    assert facts.usual_span(account.id, account.maturing_days) == WINDOW
    part = Window(WINDOW.first + timedelta(days=1), LAST)
    assert facts.held_days(account.id, "target_daily", part) == 0
    assert facts.cut(account.id, part) == {"target_daily": [WINDOW]}
    assert facts.held_days(account.id, "target_daily", Window(WINDOW.first, LAST)) == 30
    assert list(verify(store, account.id)) == []
    rows = row_frames.named_rows(facts, account.id, "target_daily", WINDOW)
    assert rows["from"].unique().to_list() == [WINDOW.first]
    assert rows["spend"].sum() == pytest.approx(loaded.sums["spend"] / 1e6)


def test_days_and_sums_take_each_other_s_place_only_after_a_yes_and_undo_puts_both_back(store, tmp_path, frames):
    account = account_of(store, "fern-de")
    daily = shapes.within(frames["target_daily"], WINDOW.first, WINDOW.last)
    summed = shapes.one_sum(frames["target_daily"], WINDOW.first, WINDOW.last)
    put(store, account, tmp_path, "days.csv", daily)
    with pytest.raises(NeedsYes) as asked:
        put(store, account, tmp_path, "sum.csv", summed)
    assert "30 days of these are loaded by day" in asked.value.questions[0]
    (block,) = put(store, account, tmp_path, "sum.csv", summed, confirmed=True)
    assert held(store) == [(WINDOW.first, WINDOW.last)]
    one_day = daily.filter(pl.col("date") == WINDOW.last)
    with pytest.raises(NeedsYes) as asked:
        put(store, account, tmp_path, "day.csv", one_day)
    assert "only a part of the sum that is loaded" in asked.value.questions[0]
    (day,) = put(store, account, tmp_path, "day.csv", one_day, confirmed=True)
    assert held(store) == [(WINDOW.last, WINDOW.last)]
    spans = Facts(store).spans(account.id)["target_daily"]
    assert [(span.days, span.block) for span in spans if not span.without] == [
        (Window(WINDOW.last, WINDOW.last), False)
    ]
    undo.undo(store, account.id, day.batch_id)
    assert held(store) == [(WINDOW.first, WINDOW.last)]
    undo.undo(store, account.id, block.batch_id)
    assert len(held(store)) == 30
    assert list(verify(store, account.id)) == []
    # The days again over the sum: it is covered whole, so nobody is asked.
    put(store, account, tmp_path, "sum.csv", summed, confirmed=True)
    put(store, account, tmp_path, "days.csv", daily)
    assert len(held(store)) == 30


def held(store):
    with store.read() as connection:
        rows = connection.execute(text("SELECT DISTINCT COALESCE(first_day, day), day FROM target_daily ORDER BY day"))
        return [tuple(row) for row in rows]


def test_a_file_without_dates_says_what_to_do_and_suggests_the_days_of_its_name(store, tmp_path, frames):
    account = account_of(store, "fern-de")
    bare = shapes.undated(frames["target_daily"], WINDOW.first, WINDOW.last)
    with pytest.raises(BadInput) as problem:
        put(store, account, tmp_path, "targets.csv", bare)
    assert "--from YYYY-MM-DD --to YYYY-MM-DD" in problem.value.remedy
    name = f"targets {WINDOW.first}_{WINDOW.last}.csv"
    (loaded,) = put(store, account, tmp_path, name, bare)
    assert loaded.blocks == (WINDOW,)


def test_sums_that_overlap_for_the_same_thing_are_refused(store, tmp_path, frames):
    account = account_of(store, "fern-de")
    whole = shapes.one_sum(frames["target_daily"], WINDOW.first, WINDOW.last)
    week = shapes.one_sum(frames["target_daily"], WINDOW.first, WINDOW.first + timedelta(days=6))
    with pytest.raises(BadFile, match="would count twice"):
        put(store, account, tmp_path, "both.csv", pl.concat([whole, week]))


def test_a_mixed_sheet_without_dates_feeds_settings_and_sums_in_one_load(store, tmp_path, frames):
    """Campaign, ad group, product, keyword, negative and placement rows; ids where names are missing."""
    account = account_of(store, "fern-de")
    put(store, account, tmp_path, "catalog.csv", frames["catalog"])
    sheet = shapes.mixed(frames, WINDOW.first, WINDOW.last)
    name = f"everything {WINDOW.first}_{WINDOW.last}.xlsx"
    done = put(store, account, tmp_path, name, {"all rows": sheet})
    kinds = {each.kind: each for each in done}
    assert set(kinds) == {"campaigns", "ad_groups", "product_ads", "product_ad_daily", "targets", "target_daily"}
    daily = shapes.within(frames["target_daily"], WINDOW.first, WINDOW.last)
    assert kinds["target_daily"].sums["clicks"] == int(daily["clicks"].sum())
    assert kinds["target_daily"].blocks == (WINDOW,)
    assert kinds["target_daily"].rejected == 0
    facts = Facts(store)
    campaigns = setting_frames.campaign_settings(facts, account.id, WINDOW)
    assert campaigns["format"].null_count() == 0
    assert set(campaigns["campaign"].to_list()) == set(frames["campaigns"]["campaign"].to_list())
    with store.read() as connection:
        negatives = connection.execute(
            text(
                "SELECT t.match_type, g.name FROM target t JOIN ad_group g ON g.id = t.ad_group_id "
                "WHERE t.match_type LIKE 'negative%' ORDER BY g.name"
            )
        ).all()
        adjusted = connection.execute(text("SELECT COUNT(*) FROM campaigns WHERE adj_top_of_search = 25")).scalar()
    assert [row.match_type for row in negatives] == ["negative_exact"] * 4
    assert negatives[0].name == "", "one is kept from a whole campaign"
    assert adjusted == 5
    rows = judged_targets(facts, Selection(account, WINDOW, target_acos.aims(store, account)))
    assert (rows["main_product"].is_not_null()).all(), "verdicts know the products"
    undone = undo.undo(store, account.id, done[0].batch_id)
    assert {each.kind for each in undone} == set(kinds), "one file is undone together"
    assert list(verify(store, account.id)) == []
    assert all(batch.undone_at for batch in loads.batches(store, account.id)[: len(kinds)])


def test_a_workbook_s_sheets_are_read_together_and_others_named(store, tmp_path, frames):
    account = account_of(store, "fern-de")
    day = WINDOW.last
    book = {
        "notes": pl.DataFrame({"about": ["made by hand"], "for": ["nobody"]}),
        "terms": shapes.within(frames["search_term_daily"], day, day),
        "ads": shapes.within(frames["product_ad_daily"], day, day),
    }
    done = put(store, account, tmp_path, "book.xlsx", book)
    assert {each.kind for each in done} == {"search_term_daily", "product_ad_daily"}
    assert any("not read: notes" in warning for each in done for warning in each.warnings)
    again = intake.inspect(store, account, tmp_path / "book.xlsx", "book.xlsx", "x")
    assert {each.sheet for each in again.known} == {"terms", "ads"}, "remembered sheet by sheet"
