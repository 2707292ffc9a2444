"""Every view of every area, made without Flask: frozen, filled, its choices obeyed, its drawer opened."""

from __future__ import annotations

from dataclasses import FrozenInstanceError, fields

import pytest

from nimbus_reef.analysis.judged_tables import VIEWS as TABLES
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.web.catalog.routes import VIEWS as CATALOG
from nimbus_reef.web.delivery.routes import VIEWS as DELIVERY
from nimbus_reef.web.kit.tables import TableView
from nimbus_reef.web.movement.routes import VIEWS as MOVEMENT
from nimbus_reef.web.plan import pages as plan_pages
from nimbus_reef.web.standing.routes import VIEWS as STANDING
from nimbus_reef.web.targeting import drawer_view, table_view

AREAS = {"catalog": CATALOG, "delivery": DELIVERY, "movement": MOVEMENT, "standing": STANDING}
EVERY = {f"{area}/{name}": view for area, views in AREAS.items() for name, view in views.items()}
PAGES = {name: view.page for name, view in EVERY.items()} | {
    f"targeting/{name}": lambda ask, view=view: table_view.page(ask, view) for name, view in TABLES.items()
}
EXPORTED = {name: view.file for name, view in EVERY.items() if view.file}


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


@pytest.mark.parametrize("name", [name for name in PAGES if name.startswith(("targeting", "standing/products"))])
def test_what_is_searched_for_narrows_and_nothing_fits_nonsense(ask, name):
    def lines(**said):
        (table,) = tables_of(PAGES[name](ask(**said)))
        return lines_of(table)

    whole = lines()
    assert whole
    assert not lines(q="nothing is called this")
    with pytest.raises(BadInput):
        lines(sort="no such column")


@pytest.mark.parametrize("name", [name for name, view in EVERY.items() if view.drawer])
def test_every_row_of_a_view_opens(ask, facts, look, name):
    view, own = EVERY[name], name.partition("/")[2]
    if own in PROPOSERS:
        keys = all_keys(facts, look, own)
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
        assert drawer_view.made(context, TABLES[name], line.key)


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
    ("standing/products", "as"),
)


@pytest.mark.parametrize(("name", "choice"), CHOICES)
def test_a_choice_that_is_not_offered_is_refused_in_words(ask, name, choice):
    with pytest.raises(BadInput, match="nothing"):
        PAGES[name](ask(**{choice: "nothing"}))


def test_an_empty_plan_says_so(ask):
    made = plan_pages.page(ask(), [])
    assert (made.waiting, made.campaigns, list(made.conflicts), list(made.steps)) == (0, 0, [], [])
