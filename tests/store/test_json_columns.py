"""What is kept as JSON comes back as it was, and as an earlier version wrote it."""

import json
from datetime import date

from nimbus_reef.core.promises import Promise
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.values import DateOrder, Style
from nimbus_reef.store.record import json_columns

MAPPING = ColumnMap(
    "search_term_daily",
    {"clicks": "Clicks"},
    DateOrder.DAY_FIRST,
    Style.COMMA,
    Window(date(2026, 10, 1), date(2026, 10, 30)),
    {"match_type": {"genau": "exact"}},
    "Tabelle1",
    "Art",
    ("Begriff",),
)
PROMISE = Promise(
    window=("2026-10-01", "2026-10-30"),
    clicks=60,
    orders=2,
    spend=40.0,
    sales=50.0,
    a=3.0,
    b=97.0,
    aov=25.0,
    target_acos=0.3,
    row_id="7",
    projected={"spend": (-9.0, -8.0, -7.0), "sales": (-3.0, -2.0, -1.0)},
)


def test_values_come_back_as_they_were_kept():
    for value in (MAPPING, ColumnMap("catalog", {"sku": "SKU"}), PROMISE):
        kept = json.loads(json.dumps(json_columns.plain(value)))
        assert json_columns.read(kept, type(value)) == value


def test_what_is_as_usual_is_not_written():
    assert json_columns.plain(ColumnMap("catalog", {"sku": "SKU"})) == {"kind": "catalog", "columns": {"sku": "SKU"}}
    assert "terms" not in json_columns.plain(PROMISE)


def test_a_mapping_of_an_earlier_version_is_read():
    kept = {
        "kind": "target_daily",
        "columns": {"clicks": "Clicks"},
        "date_order": "unknown",
        "decimal": "",
        "days": [],
        "values": {},
        "sheet": "",
        "told_by": "",
        "only": [],
    }
    assert json_columns.read(kept, ColumnMap) == ColumnMap("target_daily", {"clicks": "Clicks"})
    assert json_columns.read(kept | {"days": ["2026-10-01", "2026-10-30"]}, ColumnMap).days == MAPPING.days
