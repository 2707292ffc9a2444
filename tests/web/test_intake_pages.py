"""What Intake and the scope say, without Flask."""

from datetime import date, datetime, timedelta

import polars as pl
import pytest
from werkzeug.datastructures import MultiDict

from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.coverage import Span
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats import mapping
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import LINE, RawTable
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record.loads import HeldReport, Job
from nimbus_reef.web import params
from nimbus_reef.web.intake import choosing, pages, possible

ACCOUNT = Account(
    1, "fern-de", 1, "Fernhollow", "Tidemarkt", "DE", "EUR", "en_IE", "Europe/Berlin", 0.28, 10, 3, BidLimits()
)
NEWEST = date(2026, 10, 19)


def scope(query=""):
    pairs = [pair.split("=", 1) for pair in query.split("&") if pair]
    return params.parse(MultiDict(pairs), ACCOUNT, NEWEST)


def test_an_address_without_words_means_the_defaults():
    found = scope()
    assert found.window == Window(date(2026, 9, 17), date(2026, 10, 16))
    assert found.against == Window(date(2026, 8, 18), date(2026, 9, 16))
    assert (found.target_acos, found.page, found.maturing) == (0.28, 1, 0)
    assert found.link("/x") == "/x?account=fern-de"


def test_a_link_keeps_all_but_what_it_changes_and_reads_back():
    found = scope("window=2026-10&against=none&where=acos:gt:28&where=clicks:ge:10&q=led&sort=-spend&page=3&open=7")
    again = params.parse(MultiDict([tuple(pair) for pair in found.values()]), ACCOUNT, NEWEST)
    assert again == found
    assert found.against is None
    assert "page" not in found.link("/x", page=1)
    assert found.elsewhere("/plan/") == "/plan/?account=fern-de&window=2026-10&against=none"


def test_a_range_from_date_fields_and_a_tried_target():
    found = scope("from=2026-10-01&to=2026-10-18&target_acos=22,5")
    assert found.window == Window(date(2026, 10, 1), date(2026, 10, 18))
    assert found.target_acos == pytest.approx(0.225)
    assert found.maturing == 2


@pytest.mark.parametrize("query", ["window=x", "against=x", "target_acos=x", "judge=x"])
def test_a_part_that_means_nothing_is_an_error_at_once(query):
    with pytest.raises(BadInput):
        scope(query)


def table(**columns):
    frame = pl.DataFrame({LINE: range(2, 2 + len(next(iter(columns.values())))), **columns})
    return RawTable(frame, tuple(columns))


def test_cells_are_shown_as_they_stand_and_as_they_are_read():
    raw = table(
        Tag=["13.10.2026", "14.10.2026"], Kosten=["€ 1.234,50", "x"], Klicks=["1.200", "–"], Art=["Exact match", "odd"]
    )
    chosen = ColumnMap("target_daily", {"date": "Tag", "spend": "Kosten", "clicks": "Klicks", "match_type": "Art"})
    shown = {column.name: column.samples for column in choosing.mapped(raw, chosen)}
    assert shown["date"] == (("13.10.2026", "2026-10-13"), ("14.10.2026", "2026-10-14"))
    assert shown["spend"] == (("€ 1.234,50", "1234.5"), ("x", ""))
    assert shown["clicks"][0] == ("1.200", "1200")
    assert shown["match_type"] == (("Exact match", "exact"), ("odd", ""))
    assert shown["campaign"] == ()


def test_cells_that_say_nothing_are_shown_as_loading_takes_them():
    """In a sum 0, in what may be left out nothing; only where something has to stand they are not readable."""
    raw = table(Tag=["13.10.2026", "–"], Klicks=["n/a", ""], Kampagne=["n/a", ""], Anteil=["–", ""])
    chosen = ColumnMap(
        "target_daily", {"date": "Tag", "clicks": "Klicks", "campaign": "Kampagne", "top_of_search_share": "Anteil"}
    )
    shown = {column.name: column.samples for column in choosing.mapped(raw, chosen)}
    assert shown["clicks"] == (("n/a", "0"), ("", "0"))
    assert shown["top_of_search_share"] == (("–", "nothing"), ("", ""))
    assert shown["date"][1] == ("–", "")
    assert shown["campaign"] == (("n/a", "n/a"), ("", ""))


def test_kinds_come_best_first_with_their_fit():
    raw = table(sku=["A"], item_id=["1"], title=["Lamp"])
    kinds = choosing.kinds_by_fit(mapping.suggest_kind(raw))
    assert kinds[0][0] == "catalog"
    assert kinds[0][2] > kinds[1][2]


def test_a_finished_job_s_summary_has_rows_days_sums_and_rejects():
    job = Job(
        1,
        1,
        1,
        1,
        "load",
        "done",
        1.0,
        "",
        "",
        {},
        {
            "loads": [
                {
                    "account": 1,
                    "batch": 5,
                    "kind": "target_daily",
                    "rows": 1200,
                    "days": 2,
                    "first_day": "2026-10-01",
                    "last_day": "2026-10-02",
                    "rejected": 3,
                    "removed": 600,
                    "sums": {"clicks": 77, "spend": 12_340_000},
                    "warnings": ["w"],
                }
            ]
        },
        1,
        datetime(2026, 10, 3),
    )
    (summary,) = pages.job_summaries(job, {1: ("Fernhollow, DE", Figures("en_IE", "EUR"))})
    assert summary.title == "Targets by day"
    assert pages.job_summaries(job, {}) == [], "what went into an account one may not see is not told"
    facts = {name: value.replace("\xa0", " ") for name, value in summary.facts}
    assert facts == {
        "rows": "1,200",
        "days": "2",
        "from": "2026-10-01",
        "to": "2026-10-02",
        "replaced": "600",
        "rejected": "3",
        "clicks": "77",
        "spend": "€ 12.34",
    }
    assert (summary.warnings, summary.rejected, summary.batch_id) == (("w",), 3, 5)


def test_the_calendar_says_of_every_kind_which_days_are_held():
    held = [
        HeldReport("catalog", NEWEST, NEWEST, 1, 25),
        HeldReport("target_daily", NEWEST - timedelta(9), NEWEST, 9, 1200),
    ]
    span = Span("product", Window(NEWEST - timedelta(9), NEWEST), NEWEST, frozenset({NEWEST - timedelta(5)}))
    made = pages.calendar(held, {"target_daily": [span]}, NEWEST, 3, Figures("en_IE", "EUR"))
    targets, catalog = made.rows
    assert (targets.title, targets.rows, targets.newest) == ("Targets by day", "1,200", NEWEST.isoformat())
    assert targets.says == "5 loaded, 1 missing, 1 loaded before it matured, 3 maturing"
    assert sum(piece.width for piece in targets.pieces if piece.state == "missing") == (made.days - 9) * 5
    assert catalog.pieces == ()
    assert len(made.months) == 4


def test_an_account_without_a_row_is_told_what_can_be_loaded():
    made = pages.calendar([], {}, None, 3, Figures("en_IE", "EUR"))
    assert (made.rows, made.months) == ((), ())
    said = possible.lines(())
    assert {each.kind for each in possible.ORDER} == set(KINDS) - {"placement_adjustments"}
    assert {each.state for each in said} == {"not yet"}


def test_what_is_possible_grows_with_what_is_held():
    said = {each.title: each.state for each in possible.lines({"search_term_daily"})}
    assert said["Search terms by day"] == "possible"
    assert said["Targets by day"] == "in part, from search terms by day"
    assert said["Placements by day"] == "not yet"
