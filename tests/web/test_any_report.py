"""Any report is enough to begin: every kind alone, every kind left out once; pages say what they lack."""

from datetime import date, datetime, timedelta

import polars as pl
import pytest
from sqlalchemy import update
from tests.analysis.test_products_and_shop import days, listings
from tests.jobs.test_labels import put
from tests.pages import accept, row_ids, sent_by, text_of, texts, values

from nimbus_reef.analysis.findings import SOURCES
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.jobs import intake
from nimbus_reef.sim import brand, shapes
from nimbus_reef.sim.vocabulary import FERNHOLLOW
from nimbus_reef.store.loading import undo
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading.facts import TARGET_SOURCES, TOTAL_SOURCES, Facts
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.models import put_away

LAST = date(2026, 10, 20)
TODAY = LAST + timedelta(days=1)
NEEDS = {
    "/pulse/": (),
    "/intake/": (),
    "/plan/": (),
    "/standing/shape": (),
    "/standing/peers": (),
    "/standing/tree": TOTAL_SOURCES,
    "/standing/products": ("product_ad_daily",),
    "/standing/formats": ("product_ad_daily",),
    "/standing/path": ("query_funnel",),
    "/standing/queries": ("query_funnel",),
    "/movement/drift": TOTAL_SOURCES,
    "/movement/ledger": TOTAL_SOURCES,
    "/movement/why": TOTAL_SOURCES,
    "/movement/trends": TOTAL_SOURCES,
    "/movement/drift?by=product": ("product_ad_daily",),
    "/movement/drift?by=keyword": TARGET_SOURCES,
    "/targeting/targets": TARGET_SOURCES,
    "/targeting/targets?cols=prices&where=over_price:is:yes": TARGET_SOURCES,
    "/targeting/terms": ("search_term_daily",),
    "/targeting/words": ("search_term_daily",),
    "/findings/": SOURCES,
    "/findings/report": SOURCES,
    "/scope/rail": (),
    "/pulse/mover": (),
    "/pulse/at-stake": (),
    "/catalog/families": ("product_ad_daily",),
    "/catalog/ads": ("product_ad_daily",),
    "/catalog/eligibility": ("product_ad_daily", "product_sales_daily"),
    "/catalog/gaps": ("product_sales_daily",),
    "/catalog/listings": ("listings",),
    "/catalog/structure": TARGET_SOURCES,
    "/catalog/duplicates": TARGET_SOURCES,
    "/targeting/campaigns": TARGET_SOURCES,
    "/targeting/ad-groups": TARGET_SOURCES,
    "/catalog/names": (),
    "/catalog/catch-all": TARGET_SOURCES,
    "/reach/phrases": ("keyword_ranks", "query_funnel", "phrase_lists"),
    "/reach/top-of-search": TARGET_SOURCES,
    "/reach/small-shares": ("search_term_daily",),
    "/reach/ranks": ("keyword_ranks",),
    "/reach/ranks?by=rival": ("keyword_ranks",),
    "/reach/rival-ads": ("keyword_ranks",),
    "/reach/rivals": ("keyword_ranks", "rivals"),
    "/reach/coverage": ("keyword_ranks",),
    "/reach/own-against-own": ("keyword_ranks",),
    "/reach/two-phrases": ("keyword_ranks", "query_funnel", "phrase_lists"),
    "/delivery/placements": ("placement_daily",),
    "/delivery/hours": ("hourly",),
    "/delivery/budgets": ("campaign_daily", "placement_daily", "hourly"),
    "/delivery/boosts": (),
}
"""Pages, and the reports of which any one is enough."""
MONEY = frozenset(TOTAL_SOURCES)
_ONE = {"date": str(LAST), "campaign": "PLANT · grow · phrase", "ad_group": "G", "state": "enabled"}
FURTHER = {
    "ad_groups": {**_ONE, "default_bid": 0.5},
    "product_ads": {**_ONE, "sku": "A"},
    "boosts": {
        "name": "b",
        "campaign": "C",
        "what": "bid",
        "from": str(LAST),
        "to": str(LAST),
        "from_hour": 1,
        "to_hour": 2,
        "percent": 20,
    },
    "sales_hourly": {"date": str(LAST), "hour": 3, "total_orders": 2, "total_sales": 9.5},
    "keyword_ranks": {"date": str(LAST), "keyword": "lamp", "search_volume": 90, "item_id": "TM1"},
    "rivals": {"item_id": "TM0000009", "brand": "Other", "title": "A lamp"},
    "events": {"name": "spring", "from": str(LAST), "to": str(LAST)},
}


@pytest.fixture(scope="module")
def paths(tmp_path_factory):
    """A small account's reports, one file a kind, all that the simulator makes."""
    folder = tmp_path_factory.mktemp("reports")
    few = pl.col("campaign").str.contains("^(MM-|GL-P|GL-S|catch)")
    made = {
        kind: frame.filter(few) if "campaign" in frame.columns else frame
        for kind, frame in brand.simulate(FERNHOLLOW, 5, 66, LAST).frames.items()
    }
    by_campaign = made["target_daily"].group_by("date", "campaign").agg(pl.col(MEASURES).sum()).sort("date", "campaign")
    made["campaign_daily"] = by_campaign
    made["placement_daily"] = by_campaign.with_columns(placement=pl.lit("top_of_search"))
    made["hourly"] = by_campaign.with_columns(hour=pl.lit(12))
    made |= {kind: pl.DataFrame([row]) for kind, row in FURTHER.items()}
    for kind, frame in made.items():
        frame.write_csv(folder / f"{kind}.csv")
    return {kind: folder / f"{kind}.csv" for kind in made}


def load(store, account, paths, kinds):
    for kind in kinds:
        looked = intake.inspect(store, account, paths[kind], f"{kind}.csv")
        intake.load(
            store,
            intake.LoadRequest(
                account,
                paths[kind],
                f"{kind}.csv",
                intake.usual_maps(looked, kind),
                scope="all",
                today=TODAY,
                confirmed=True,
            ),
        )


def check(visitor, held, pages=None):
    """
    Every page answers in its frame, and says that it has no figures exactly where it has none.
    pages: these alone.
    """
    for page, needed in NEEDS.items():
        if pages is not None and page not in pages:
            continue
        answer = visitor.get(page)
        shown = answer.get_data(as_text=True)
        assert answer.status_code == 200, (page, held)
        if page in ("/scope/rail", "/pulse/mover", "/pulse/at-stake"):
            continue
        if page != "/findings/report" or 'class="paper"' not in shown:
            assert 'aria-label="The audit, in order"' in shown, (page, "stands outside the frame")
        lacks = 'id="lacking"' in shown or "yet" in shown
        if needed and not held & set(needed):
            assert lacks, (page, held, "has nothing and does not say so")
            assert "No problems found" not in shown
        elif needed and held & MONEY:
            assert 'id="lacking"' not in shown, (page, held, "says it lacks what is held")


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_single_report_is_enough_for_every_page_to_answer(visitor, store, account, paths, kind):
    load(store, account, paths, [kind])
    check(visitor, {kind})


def test_every_page_answers_with_one_report_left_out(visitor, store, account, paths):
    """All are loaded; each in turn is undone, looked at, and loaded again."""
    assert set(paths) == set(KINDS)
    load(store, account, paths, sorted(paths))
    for number, kind in enumerate(sorted(KINDS)):
        newest = next(batch for batch in loads.batches(store, account.id, 100) if batch.kind == kind)
        undo.undo(store, account.id, newest.id)
        # All pages that are made of it, and of the others every fifteenth, in turn.
        check(
            visitor,
            set(paths) - {kind},
            {
                page
                for place, (page, needed) in enumerate(NEEDS.items())
                if kind in (needed or ()) or place % 15 == number % 15
            },
        )
        load(store, account, paths, [kind])


def test_what_no_report_tells_is_not_called_well(visitor, store, account, paths):
    """
    Ads and placements alone: no budget is known, no product is said to be in order, and findings are made of what there
    is.
    """
    load(store, account, paths, ["product_ad_daily", "placement_daily"])
    shown = {
        page: text_of(visitor.get(page))
        for page in ("/delivery/budgets", "/catalog/eligibility", "/catalog/families", "/findings/")
    }
    assert "No campaign’s budget is known" in shown["/delivery/budgets"]
    assert "ran out of budget" not in shown["/delivery/budgets"]
    assert "Eligibility is unknown" in shown["/catalog/eligibility"]
    assert "is unknown." not in shown["/catalog/eligibility"].replace("Eligibility is unknown.", "")
    assert "No families known" in shown["/catalog/families"]
    assert "– of spend" not in shown["/findings/"]


def test_search_terms_alone_claim_nothing_of_products_bids_or_states(visitor, store, account, paths):
    """
    What only other reports tell is called unknown, with the report that tells it; nothing is offered that could not be
    done.
    """
    load(store, account, paths, ["search_term_daily"])
    shape = text_of(visitor.get("/standing/shape"))
    assert "Load the catalog and product ads by day to see which products are advertised." in shape
    assert "Load the targets report to see which targets are live." in shape
    assert "without one" not in shape
    visitor.get("/targeting/targets")
    structure = text_of(visitor.get("/catalog/structure"))
    assert "Duplicates unknown. Load product ads by day." in text_of(visitor.get("/catalog/duplicates"))
    assert "Load product ads by day to see mixed families" in structure
    assert "Structure is clean" not in structure
    catch_all = visitor.get("/catalog/catch-all")
    assert "eligibility comes from the catalog report" in text_of(catch_all)
    assert not texts(catch_all, "form[action*=build]")
    opened = visitor.get("/findings/costly-targets")
    assert "their bid is unknown. Load the targets report" in text_of(opened)
    assert len(row_ids(opened)) > 0, "what is costly stands there all the same"
    sent = {"account": account.key, "where": "verdict:is:costly", "all": "yes"}
    accept(visitor, "/targeting/targets/accept-many", sent)
    planned = [each.change for each in plans.planned(store, account.id)]
    assert {(each.entity, each.new_value) for each in planned} == {("target", "paused")}, "a pause needs no bid"


def test_a_page_that_broke_is_done_by_hand_and_watched(visitor, store, account, tmp_path):
    """It opens as itself; ticked off, its conversion since then is told beside that of the period before."""
    ads = days(lambda day: 1 if date(2026, 10, 1) <= day < date(2026, 10, 10) else 5)
    put(store, account, tmp_path, "ads.csv", ads, "product_ad_daily", scope="all")
    put(store, account, tmp_path, "pages.csv", listings(date(2026, 10, 1)), "listings")
    row = row_ids(visitor.get("/findings/page-broke"))[0]
    page = visitor.get(f"/findings/page-broke?row={row}")
    assert "images 7 → 3" in text_of(page)
    sent = sent_by(page, "form.sheet") | {"note": "pictures are back"}
    told = visitor.post("/findings/tick-off", data=sent, follow_redirects=True)
    assert "no clicks yet on complete days" in text_of(told)
    assert not values(told, "a[href*='page-broke']", "href")
    with store.engine.begin() as connection:
        connection.execute(update(put_away).values(at=datetime(2026, 10, 10)))
    told = texts(visitor.get("/findings/"), ".block tr:has(input[name=away])")[0]
    assert "pictures are back" in told
    assert "converts 10.0 % of 100 clicks, before 2.0 % of 450 clicks: better" in told.replace("\u202f", " ").replace(
        "\xa0", " "
    )


def test_a_month_of_hours_as_one_sum_has_hours_and_no_weekdays(visitor, store, account, tmp_path):
    first = LAST - timedelta(days=32)
    last = LAST - timedelta(days=3)
    block = pl.DataFrame({"hour": list(range(24)), "clicks": [40] * 24, "orders": [1] * 9 + [8] * 15}).with_columns(
        campaign=pl.lit("C"),
        impressions=900,
        spend=20.0,
        units="orders",
        sales=pl.col("orders") * 20.0,
        start_date=pl.lit(str(first)),
        end_date=pl.lit(str(last)),
    )
    block.write_csv(tmp_path / "hours.csv")
    load(store, account, {"hourly": tmp_path / "hours.csv"}, ["hourly"])
    shown = text_of(visitor.get("/delivery/hours"))
    assert "all days" in shown
    assert "Mon" not in shown
    assert "9–24 h" in shown
    assert "out of budget" not in shown
    assert "no campaign is out of budget" not in shown
    assert "Out-of-budget days need the hourly report by day." in shown
    assert "by day" in text_of(visitor.get("/movement/trends?whose=hours:9-12"))


@pytest.mark.parametrize(
    ("kinds", "opens"),
    [
        ([], "/intake/"),
        (["catalog"], "/intake/"),
        (["product_ad_daily"], "/pulse/"),
        (["placement_daily", "hourly"], "/pulse/"),
        (["product_ad_daily", "search_term_daily"], "/targeting/"),
        (["target_daily"], "/targeting/"),
    ],
)
def test_who_has_one_brand_begins_where_its_reports_say_most(visitor, store, account, paths, kinds, opens):
    load(store, account, paths, kinds)
    assert visitor.get("/").headers["Location"].startswith(opens)


def test_an_account_with_nothing_answers_too(visitor):
    check(visitor, set())
    refused = visitor.get("/targeting/terms/export.csv")
    assert refused.status_code == 404
    assert "Nothing is loaded for Fernhollow yet." in text_of(refused)
    assert "2000" not in text_of(refused)


def test_one_sum_of_each_report_opens_everywhere(visitor, store, account, paths, tmp_path):
    """Pages, drawers, the rows behind, files and accepting, where nothing is known by day."""
    first, last = LAST - timedelta(days=32), LAST - timedelta(days=3)
    load(store, account, paths, ["catalog", "campaigns", "targets", "peer_benchmarks"])
    for kind in ("target_daily", "search_term_daily", "product_ad_daily"):
        whole = pl.read_csv(paths[kind], try_parse_dates=True)
        path = tmp_path / f"{kind}.csv"
        shapes.one_sum(whole, first, last).write_csv(path)
        load(store, account, {kind: path}, [kind])
    check(visitor, {"target_daily", "search_term_daily", "product_ad_daily"})
    for view in ("targets", "terms", "words"):
        row = row_ids(visitor.get(f"/targeting/{view}"))[0]
        drawer = visitor.get(f"/targeting/{view}/evidence", query_string={"open": row})
        assert drawer.status_code == 200
        assert "by day. One total is loaded" in drawer.get_data(as_text=True)
        behind = visitor.get(f"/targeting/{view}/rows", query_string={"open": row})
        assert behind.status_code == 200
        assert str(first) in behind.get_data(as_text=True)
        assert visitor.get(f"/targeting/{view}/export.csv").status_code == 200
        done = accept(visitor, f"/targeting/{view}/accept-many", {"rows": row})
        assert done.status_code in (200, 302)
    assert "Totals of several days are left out" in visitor.get("/movement/trends").get_data(as_text=True)
    assert "€ 0 a day" not in visitor.get("/movement/trends").get_data(as_text=True).replace("\xa0", " ")
    assert visitor.get("/findings/workbook.xlsx").status_code in (200, 302)


def test_the_search_term_report_alone_is_named_as_such(visitor, store, account, paths):
    load(store, account, paths, ["search_term_daily"])
    tree = visitor.get("/standing/tree").get_data(as_text=True)
    assert "Search terms only: clicks without a term are missing" in tree
    assert "needs product ads by day" in tree
    found = visitor.get("/findings/").get_data(as_text=True)
    assert "wasted above target" in found


def test_daily_targets_do_not_hide_what_a_month_s_sum_of_terms_tells(visitor, store, account, tmp_path):
    """The default window contains the whole total, plus the mature days after it."""
    terms = "from,to,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n" + "".join(
        "2026-09-01,2026-09-30,C,G,lamp,broad,term"
        f" {n},4000,120,{60 + n}.00,{0 if n < 3 else 9},{0 if n < 3 else 300}.00\n"
        for n in range(8)
    )
    put(store, account, tmp_path, "terms.csv", terms, scope="all")
    before = text_of(visitor.get("/targeting/terms"))
    assert "term 1" in before
    for last, shown in ((30, "2026-09-01 to 2026-09-30"), (19, "2026-09-01 to 2026-10-16")):
        days = [date(2026, 9, 1) + timedelta(days=n) for n in range(last if last == 30 else 30 + last)]
        rows = "".join(f"{day},C,G,lamp,broad,900,30,18.00,2,60.00\n" for day in days)
        put(
            store,
            account,
            tmp_path,
            "targets.csv",
            "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n" + rows,
            scope="all",
            confirmed=True,
        )
        after = text_of(visitor.get("/targeting/terms"))
        assert "term 1" in after
        selection = asked(Facts(store), account, Aims(0.28))
        assert f"{selection.window.first} to {selection.window.last}" == shown
