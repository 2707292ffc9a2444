"""
Columns prove each other: header sets in ten languages with look-alikes, headings that say nothing, and the traps of
single words.
"""

from collections import Counter
from itertools import islice

import polars as pl
import pytest
from benchmarks.mapping import sheets, told
from tests.formats.test_reports import csv_text, read

from nimbus_reef.formats import headings, mapping
from nimbus_reef.formats.column_roles import Witnesses
from nimbus_reef.formats.raw import LINE, RawTable


@pytest.mark.slow
def test_with_headings_of_ten_languages_no_look_alike_is_taken_for_a_measure():
    """
    Every third of 140 header sets, so that all languages come up; nine look-alike columns beside the measures of most.
    `make truth` looks at all.
    """
    every = sheets(seed=72, rows=20, look_alikes=True, headed=True)
    found = [told(each) for each in islice(every, 0, None, 3)]
    assert len(found) == 47
    assert [
        (each.sheet.name, each.kind, each.wrong) for each in found if each.wrong or each.kind != each.sheet.kind
    ] == []
    counts = Counter(how for each in found for how in each.columns.values())
    assert counts["right"] > 0.97 * counts.total()


@pytest.mark.slow
def test_where_headings_say_nothing_the_cells_say_it_or_it_is_asked():
    found = [
        told(each)
        for look_alikes, rows in ((False, 120), (True, 50))
        for each in sheets(seed=73, rows=rows, look_alikes=look_alikes, headed=False)
    ]
    assert len(found) > 25
    counts = Counter(how for each in found for how in each.columns.values())
    assert counts["wrong"] <= 0.005 * counts.total()
    assert counts["right"] > 0.6 * counts.total()
    assert sum(each.kind == each.sheet.kind for each in found) > 0.95 * len(found)


@pytest.mark.parametrize("broken", ["#DIV/0!", "NaN"])
def test_a_column_with_errors_in_some_rows_is_still_the_one_that_it_is_headed(broken):
    """Errors are no evidence against a column; loading reports them with their rows."""
    rows = [
        f"{1 + n % 28:02}.10.2026|Lampen|{40 * (5 + n)}|{5 + n}|{broken if n % 4 == 0 else f'{3 + n},50 €'}"
        f"|{n % 3}|{n % 3 * 24},90 €|{400 + n},10 €|0,6{n % 9} €"
        for n in range(60)
    ]
    head = "Tag|Kampagne|Einblendungen|Klicks|Kosten|Bestellungen|Umsatz|Organischer Umsatz|Gebot"
    found = mapping.suggest_kind(table(head, *rows))[0]
    assert found.mapping.columns["spend"] == "Kosten"
    assert "spend" not in found.asked


def table(head, *rows):
    cells = [[cell.strip() for cell in row.split("|")] for row in rows]
    headers = tuple(name.strip() for name in head.split("|"))
    frame = {name: [row[place] for row in cells] for place, name in enumerate(headers)}
    return RawTable(pl.DataFrame(frame | {LINE: range(2, len(rows) + 2)}), headers)


@pytest.mark.parametrize(
    ("head", "rows", "meant"),
    [
        (
            "Clicks|Orders|Cost per click|Cost (EUR)|Sales per click|Sales (EUR)|Campaign|Date|Impressions",
            ("10|1|1.00|10.00|2.00|20.00|A x|2026-10-01|400", "5|0|0.80|4.00|0.00|0.00|B y|2026-10-02|300"),
            {"spend": "Cost (EUR)", "sales": "Sales (EUR)"},
        ),
        (
            "Date|Campaign|Impr.|Clicks|Spend|Orders|Organic sales|Ad revenue",
            ("2026-10-01|A|100|4|2.10|1|90.00|20.00", "2026-10-02|B|200|6|3.10|0|80.00|0.00"),
            {"sales": "Ad revenue"},
        ),
        (
            "Date|Campaign|Impressions|Clicks|Spend|Orders|New customer sales|Sales",
            ("2026-10-01|A|100|4|2.10|1|9.00|20.00", "2026-10-02|B|200|6|3.10|1|0.00|10.00"),
            {"sales": "Sales"},
        ),
        (
            "Date|Campaign|Ad group|Advertised SKU|Purchased SKU|Impressions|Clicks|Spend|Orders|Sales",
            ("2026-10-01|A|g|AB-1|CD-2|100|4|2.10|1|20.00", "2026-10-02|B|h|AB-3|AB-3|200|6|3.10|1|10.00"),
            {"sku": "Advertised SKU"},
        ),
        (
            "Tag|Kampagne|Impressionen|Klicks|Kosten|Käufe|Menge|Erlös",
            ("2026-10-01|A|100|4|2.10|1|2|20.00", "2026-10-02|B|200|6|3.10|1|1|10.00"),
            {"orders": "Käufe", "units": "Menge", "sales": "Erlös"},
        ),
        (
            "What shoppers typed|Shown|Clicked|Cost|Bought|Turnover|Campaign|Ad group|Keyword|Match type|Day",
            (
                "blue jug|100|4|2.10|1|20.00|A|g|jug|broad|2026-10-01",
                "red jug|200|6|3.10|1|10.00|A|g|jug|broad|2026-10-01",
            ),
            {"search_term": "What shoppers typed", "orders": "Bought", "impressions": "Shown"},
        ),
        (
            "Día|Campaña|Impresiones|Clics|Gasto|Pedidos|Ventas|Tasa de clics",
            ("01/10/2026|A|100|4|2.10|1|20.00|4%", "13/10/2026|B|200|6|3.10|1|10.00|3%"),
            {"date": "Día", "spend": "Gasto"},
        ),
        (
            "Dag|Campagne|Vertoningen|Klikken|Kosten|Bestellingen|Omzet|Kosten per klik",
            ("2026-10-01|A|100|4|2.10|1|20.00|0.53", "2026-10-02|B|200|6|3.10|1|10.00|0.52"),
            {"date": "Dag", "spend": "Kosten"},
        ),
    ],
)
def test_a_word_inside_a_heading_is_not_the_column(head, rows, meant):
    best = mapping.suggest_kind(table(head, *rows))[0]
    assert best.missing == ()
    for name, header in meant.items():
        assert best.mapping.columns[name] == header
        assert name not in best.asked


def test_our_own_name_beside_another_word_for_it_is_asked_or_taken_and_windows_are_asked():
    rows = ("2026-10-01|A|100|4|2.10|9.00|1|2|20.00", "2026-10-02|B|200|6|3.10|8.00|1|1|10.00")
    best = mapping.suggest_kind(table("date|campaign|impressions|clicks|spend|cost|orders|units|sales", *rows))[0]
    assert best.mapping.columns["spend"] == "spend"
    windows = "Date|Campaign|Impressions|Clicks|Spend|7 day orders|14 day orders|7 day sales|14 day sales"
    best = mapping.suggest_kind(table(windows, *rows))[0]
    assert set(best.asked["orders"]) == {"7 day orders", "14 day orders"}
    assert set(best.asked["sales"]) == {"7 day sales", "14 day sales"}


def test_what_tells_a_column_is_said_in_words():
    rows = [
        f"2026-10-0{n}|A{n}|{100 * n}|{4 * n}|{(2 + n) * n / 10:.2f}|{(2 + n) / 40:.2f}|{n % 3}|{(n % 3) * 20:.2f}"
        for n in range(1, 9)
    ]
    seen = mapping.suggest_kind(table("c1|c2|c3|c4|c5|c6|c7|c8", *rows))[0]
    assert seen.mapping.columns["spend"] == "c5"
    assert "“c6” is “c5” ÷ “c4” in 8 of 8 rows" in seen.why["spend"]
    assert [each.r for each in Witnesses(table("c1|c2|c3|c4|c5|c6|c7|c8", *rows)).figures.quotients]


@pytest.mark.parametrize(
    ("header", "phrases", "nats"),
    [
        ("Cost", ("cost",), headings.WHOLE),
        ("COST (EUR)", ("cost",), headings.WHOLE),
        ("Cost whatever", ("cost",), headings.BESIDE_UNKNOWN),
        ("Cost per click", ("cost",), -5.0),
        ("Klickrate", ("klicks",), -5.0),
        ("7 day sales", ("sales",), headings.BESIDE_WINDOW),
        ("Impresions", ("impressions",), headings.NEARLY),
        ("Spalte 4", ("cost",), 0.0),
        ("", ("cost",), 0.0),
        ("Sales of ads", ("sales",), headings.BESIDE_NEUTRAL),
    ],
)
def test_what_a_heading_is_worth(header, phrases, nats):
    assert headings.nats(header, phrases) == nats


def test_a_quotient_is_barred_where_headings_alone_tell(tmp_path):
    """Of settings too: a column that is spend ÷ clicks is no bid, though it is headed “Bid”."""
    head = ["Date", "Campaign", "Ad group", "Target", "Match type", "State", "Bid paid", "Spend", "Clicks"]
    rows = [
        [
            "2026-10-01",
            "A",
            "g",
            f"t{n}",
            "exact",
            "enabled",
            f"{1.5 + n / 10:.2f}",
            f"{(1.5 + n / 10) * n:.2f}",
            str(n),
        ]
        for n in range(2, 12)
    ]
    _, best = read(tmp_path / "a.csv", csv_text(rows, headers=head))
    assert best.mapping.columns.get("bid") != "Bid paid"


def test_a_headed_column_that_cannot_be_read_leaves_its_place_to_no_other():
    """A spend column of odd cells is refused as spend; organic sales do not become it."""
    head = "Kampagne|Einblendungen|Klicks|Kosten (EUR)|Käufe|Umsatz|Organischer Umsatz"
    for cells in (("1,2,3", "$4.00", "x"), ("", "", ""), ("#DIV/0!", "NaN", "")):
        rows = [f"K{n}|{900 + n}|{20 + n}|{cell}|{n}|{20 * n},00|{7 * n},00" for n, cell in enumerate(cells, 1)]
        best = mapping.suggest_kind(table(head, *rows))[0]
        assert best.mapping.columns["spend"] == "Kosten (EUR)", cells
        assert "Organischer Umsatz" in best.unused
