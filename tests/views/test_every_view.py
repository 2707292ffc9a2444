"""Every view of every area, made without Flask: frozen, filled, its choices obeyed, its drawer opened."""

from __future__ import annotations

from dataclasses import FrozenInstanceError, fields

import pytest

from nimbus_reef.analysis.judged_tables import VIEWS as TABLES
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.web.catalog.routes import VIEWS as CATALOG
from nimbus_reef.web.delivery.routes import VIEWS as DELIVERY
from nimbus_reef.web.kit.lists import chosen, file_of, listed
from nimbus_reef.web.kit.tables import TableView
from nimbus_reef.web.movement.routes import VIEWS as MOVEMENT
from nimbus_reef.web.plan import pages as plan_pages
from nimbus_reef.web.standing.routes import VIEWS as STANDING
from nimbus_reef.web.targeting import drawer_view, group_pages, table_view
from nimbus_reef.web.targeting.routes import LISTS as TARGETING

AREAS = {"catalog": CATALOG, "delivery": DELIVERY, "movement": MOVEMENT, "standing": STANDING}
EVERY = {f"{area}/{name}": view for area, views in AREAS.items() for name, view in views.items()}
PAGES = (
    {name: view.page for name, view in EVERY.items()}
    | {f"targeting/{name}": lambda ask, view=view: table_view.page(ask, view) for name, view in TABLES.items()}
    | {f"targeting/{name}": lambda ask, of=of: group_pages.page(ask, of) for name, of in group_pages.TABLES.items()}
)
LISTS = {name: view.rows for name, view in EVERY.items() if view.rows} | {
    f"targeting/{name}": rows for name, rows in TARGETING.items()
}
EXPORTED = {name: view.table for name, view in EVERY.items() if view.leaves} | {
    name: lambda ask, rows=rows: file_of(ask, rows) for name, rows in LISTS.items()
}


def tables_of(view):
    return [each for each in (getattr(view, field.name) for field in fields(view)) if isinstance(each, TableView)]


def lines_of(table):
    return [line for lines in table.groups.values() for line in lines]


@pytest.mark.parametrize("name", PAGES)
def test_a_view_is_a_frozen_value_that_says_something(ask, name):
    made = PAGES[name](ask())
    first = fields(made)[0].name
    with pytest.raises(FrozenInstanceError):
        setattr(made, first, None)
    assert any(getattr(made, field.name) for field in fields(made))


@pytest.mark.parametrize("name", PAGES)
def test_the_lines_of_a_table_have_keys_of_their_own_and_links_stay_in_the_account(ask, name):
    for table in tables_of(PAGES[name](ask())):
        keys = [line.key for line in lines_of(table) if hasattr(line, "key")]
        assert len(set(keys)) == len(keys)
        assert table.here.startswith(f"/{name.partition('/')[0]}/")


def values_of(rows, field):
    return rows.select(field.expr.alias("by"))["by"].drop_nulls().to_list()


@pytest.mark.parametrize("name", LISTS)
def test_every_list_is_sorted_by_each_of_its_fields(ask, name):
    whole = listed(ask(), LISTS[name])
    for key, field in whole.fields.items():
        up, down = (listed(ask(sort=f"{way}{key}"), LISTS[name]).found.ordered for way in ("", "-"))
        assert len(up) == len(down) == len(whole.rows)
        first, last = values_of(up, field), values_of(down, field)
        assert first == sorted(first)
        assert last == sorted(last, reverse=True)


@pytest.mark.parametrize("name", LISTS)
def test_every_list_is_filtered_by_each_of_its_fields(ask, name):
    whole = listed(ask(), LISTS[name])
    assert len(whole.rows)
    for key, field in whole.fields.items():
        rows = listed(ask(sort=key), LISTS[name]).found.rows
        values = [each for each in values_of(rows, field) if each not in ("", float("inf"))]
        if not values:
            continue
        value = values[0] if field.options or field.text else sorted(values)[len(values) // 2]
        text = f"{value:.3f}" if isinstance(value, float) else value
        ways = ("is", "not") if field.options else ("has", "lacks") if field.text else ("ge", "le")
        assert set(ways) <= set(field.operators)
        kept, others = (listed(ask(where=f"{key}:{way}:{text}"), LISTS[name]).found.rows for way in ways)
        if field.options or field.text:
            assert len(kept) + len(others) == len(whole.rows), key
            assert all(value == each if field.options else str(value) in str(each) for each in values_of(kept, field))
        elif isinstance(value, float):
            assert min([*values_of(kept, field), value]) > value - 0.001, key
            assert max([*values_of(others, field), value]) < value + 0.001, key
        else:
            assert min([*values_of(kept, field), value]) == max([*values_of(others, field), value]) == value, key


@pytest.mark.parametrize("name", LISTS)
def test_every_list_is_searched_selected_from_and_leaves_as_it_is_narrowed(ask, name):
    spec = LISTS[name]
    whole = listed(ask(), spec)
    text = str(whole.rows[spec.searched[0]].drop_nulls()[0])
    some = listed(ask(q=f'"{text}"'), spec).found.ordered
    assert 0 < len(some) <= len(whole.rows)
    assert listed(ask(q="nothing is called this"), spec).found.rows.is_empty()
    for refused in ({"sort": "no such column"}, {"where": "no_such:gt:3"}):
        with pytest.raises(BadInput):
            listed(ask(**refused), spec)
    keys = some[spec.key].unique().to_list()
    assert set(chosen(ask(q=f'"{text}"'), spec, None)[spec.key]) == set(keys)
    assert set(chosen(ask(), spec, keys[:1])[spec.key]) == {keys[0]}
    with pytest.raises(BadInput, match="No row is selected"):
        chosen(ask(), spec, [])
    if spec.file is not None:
        assert len(file_of(ask(q=f'"{text}"'), spec).rows) <= len(file_of(ask(), spec).rows)


@pytest.mark.parametrize("name", [name for name, view in EVERY.items() if view.drawer])
def test_every_row_of_a_view_opens(ask, facts, selection, name):
    view, own = EVERY[name], name.partition("/")[2]
    if own in PROPOSERS:
        keys = all_keys(facts, selection, own)
    else:
        keys = [line.key for table in tables_of(view.page(ask())) for line in lines_of(table)]
    assert keys
    for key in keys[:: max(1, len(keys) // 8)]:
        assert view.drawer(ask(), key).id == key
    with pytest.raises(NotFound):
        view.drawer(ask(), "nothing like this")


@pytest.mark.parametrize("name", TABLES)
def test_every_row_of_targeting_opens_with_its_evidence(ask, name):
    context = ask()
    (table,) = tables_of(table_view.page(context, TABLES[name]))
    for line in lines_of(table)[::12]:
        assert drawer_view.row_drawer(context, TABLES[name], line.key)


@pytest.mark.parametrize("name", EXPORTED)
def test_a_file_has_the_rows_of_its_view(ask, name):
    table = EXPORTED[name](ask())
    assert len(table.rows)


CHOICES = (
    ("movement/drift", "by"),
    ("movement/drift", "show"),
    ("movement/ledger", "metric"),
    ("movement/trends", "metric"),
    ("movement/changes", "which"),
    ("movement/changes", "day"),
    ("standing/tree", "by"),
)


@pytest.mark.parametrize(("name", "choice"), CHOICES)
def test_a_choice_that_is_not_offered_is_refused_in_words(ask, name, choice):
    with pytest.raises(BadInput, match="nothing"):
        PAGES[name](ask(**{choice: "nothing"}))


def test_an_empty_plan_says_so(ask):
    made = plan_pages.page(ask(), [])
    assert (made.waiting, made.table.shown, list(made.conflicts), list(made.steps)) == (0, "0", [], [])
