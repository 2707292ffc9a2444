"""People and plans: who sees what, one open change per key, nothing lost."""

from dataclasses import replace

import pytest
from sqlalchemy import text
from tests.planned import BID, PROMISE

from nimbus_reef.core.changes import Action, Change, ChangeState, Entity
from nimbus_reef.core.plan import ReadBack
from nimbus_reef.errors import BadInput, Conflict, NotFound, StoreAway
from nimbus_reef.store.people import accounts, people, plan_steps, plans, sendings
from nimbus_reef.store.people.people import Role
from nimbus_reef.store.record import engine

CHANGE = replace(BID, reason="why")


@pytest.fixture
def owner(store, account):
    return people.add(store, email="Ann@Example.com", name="Ann", password="long enough", role=Role.OWNER)


def test_only_the_right_password_signs_in(store, owner):
    assert people.signed_in(store, "ann@example.com ", "long enough") == owner
    assert people.signed_in(store, "ann@example.com", "wrong") is None
    assert people.signed_in(store, "nobody@example.com", "long enough") is None


def test_accounts_of_one_brand_and_country_keep_their_order(store, account):
    """By key, so that what is looked at when none is named does not change from page to page."""
    for key in ("zz-de", "aa-de"):
        accounts.add(
            store,
            key=key,
            brand_name="Fernhollow",
            marketplace="Tidemarkt",
            country="DE",
            currency="EUR",
            locale="en_IE",
            timezone="Europe/Berlin",
            target_acos=0.28,
        )
    keys = [each.key for each in accounts.all_accounts(store) if each.brand == "Fernhollow" and each.country == "DE"]
    assert keys == sorted(keys)
    assert len(keys) >= 3


def test_a_person_sees_the_brands_given_to_them(store, account):
    viewer = people.add(
        store, email="v@example.com", name="V", password="long enough", role=Role.VIEWER, brand_names=("Fernhollow",)
    )
    other = people.add(store, email="o@example.com", name="O", password="long enough", role=Role.ANALYST)
    assert viewer.sees(account.brand_id)
    assert not viewer.writes
    assert not other.sees(account.brand_id)
    with pytest.raises(BadInput, match="no brand"):
        people.add(store, email="x@example.com", name="X", password="long enough", role=Role.VIEWER, brand_names=("?",))


@pytest.mark.parametrize(("email", "password"), [("nonsense", "long enough"), ("a@example.com", "short")])
def test_bad_people_are_refused(store, email, password):
    with pytest.raises(BadInput):
        people.add(store, email=email, name="", password=password, role=Role.OWNER)


def accept(store, account, owner, wanted):
    (planned,) = plans.accept_packages(store, account.id, owner.id, [[(wanted, PROMISE)]]).planned
    return planned


def test_changes_take_numbers_in_turn_and_one_key_is_open_once(store, account, owner):
    first = accept(store, account, owner, CHANGE)
    assert plans.accept_packages(store, account.id, owner.id, [[(CHANGE, PROMISE)]]).planned == ()
    plans.remove(store, account.id, owner.id, first.id)
    second = accept(store, account, owner, CHANGE)
    assert [each.change.row for each in plans.planned(store, account.id)] == [2]
    plans.remove(store, account.id, owner.id, second.id)
    with pytest.raises(NotFound):
        plans.remove(store, account.id, owner.id, second.id)


OTHER = replace(CHANGE, target="u")


def ids(store, account):
    return [each.id for each in plans.planned(store, account.id)]


def test_every_step_is_undone_in_any_order_until_the_sheet_leaves(store, account, owner):
    first, second = plans.accept_packages(
        store, account.id, owner.id, [[(CHANGE, PROMISE)], [(OTHER, PROMISE)]]
    ).planned
    plans.remove_many(store, account.id, owner.id, [first.id])
    removed, accepted = plan_steps.steps(store, account.id)
    assert (removed.what, removed.changes, accepted.what, accepted.changes) == ("removed", 1, "accepted", 2)
    assert plan_steps.undo(store, account.id, owner.id, removed.id) == 1
    assert ids(store, account) == [first.id, second.id]
    with pytest.raises(NotFound):
        plan_steps.undo(store, account.id, owner.id, removed.id)
    assert plan_steps.undo(store, account.id, owner.id) == 2
    assert ids(store, account) == []
    accept(store, account, owner, CHANGE)
    sendings.send(store, account.id, owner.id, "csv", plans.planned(store, account.id))
    assert plan_steps.steps(store, account.id) == []


def test_what_was_put_in_another_way_since_is_not_put_back(store, account, owner):
    first = accept(store, account, owner, CHANGE)
    plans.remove(store, account.id, owner.id, first.id)
    again = accept(store, account, owner, CHANGE)
    removed = next(each for each in plan_steps.steps(store, account.id) if each.what == "removed")
    assert plan_steps.undo(store, account.id, owner.id, removed.id) == 0
    assert ids(store, account) == [again.id]


PLACE = Change(
    row=0,
    action=Action.UPDATE,
    entity=Entity.PLACEMENT,
    campaign=CHANGE.campaign,
    placement="top_of_search",
    field="adjustment",
    old_value="0",
    new_value="139",
)


def package(bid):
    return [(replace(CHANGE, new_value=bid), PROMISE), (replace(OTHER, new_value=bid), PROMISE), (PLACE, PROMISE)]


def values(store, account):
    return [
        (each.change.target or each.change.placement, each.change.new_value)
        for each in plans.planned(store, account.id)
    ]


def test_a_package_is_taken_whole_and_replaces_what_it_contradicts_or_not_at_all(store, account, owner):
    """Its bids are in the plan already, with other values: it does not go in beside them, nor without them."""
    alone = accept(store, account, owner, CHANGE)
    with pytest.raises(Conflict, match="another change of this in row 1"):
        plans.accept_packages(store, account.id, owner.id, [package("0.50")])
    assert values(store, account) == [(CHANGE.target, CHANGE.new_value)]
    done = plans.accept_packages(store, account.id, owner.id, [package("0.50")], replacing=[alone.change.row])
    assert (len(done.planned), len(done.taken.replaced)) == (3, 1)
    assert values(store, account) == [(CHANGE.target, "0.50"), (OTHER.target, "0.50"), ("top_of_search", "139")]
    assert {each.change.package for each in done.planned} == {2}
    again = plans.accept_packages(store, account.id, owner.id, [package("0.50")])
    assert (again.planned, again.taken.already) == ((), (0,))
    plan_steps.undo(store, account.id, owner.id)
    assert ids(store, account) == [alone.id], "what it had replaced is back"


def test_a_package_is_taken_out_and_put_back_as_one(store, account, owner):
    done = plans.accept_packages(store, account.id, owner.id, [package("0.50")]).planned
    assert plans.remove_many(store, account.id, owner.id, [done[1].id]) == 3
    assert ids(store, account) == []
    step = plan_steps.steps(store, account.id)[0]
    assert plan_steps.undo(store, account.id, owner.id, step.id) == 3
    plans.remove_many(store, account.id, owner.id, [done[2].id])
    step = plan_steps.steps(store, account.id)[0]
    accept(store, account, owner, OTHER)
    assert plan_steps.undo(store, account.id, owner.id, step.id) == 0, "not in part: the plan changes one by now"


def test_a_sheet_read_back_is_undone_with_its_values_and_what_it_took_out(store, account, owner):
    first, second = plans.accept_packages(
        store, account.id, owner.id, [[(CHANGE, PROMISE)], [(OTHER, PROMISE)]]
    ).planned
    seen = plans.planned(store, account.id)
    edited = replace(first.change, new_value="0.55")
    plans.take(store, account.id, owner.id, seen, ReadBack((edited,), (second.change,), 0, ()))
    step = plan_steps.steps(store, account.id)[0]
    assert (step.what, step.changes) == ("read back", 2)
    assert plan_steps.undo(store, account.id, owner.id, step.id) == 2
    now = plans.planned(store, account.id)
    assert [(each.id, each.change.new_value, each.change.reason) for each in now] == [
        (first.id, "0.70", "why"),
        (second.id, "0.70", "why"),
    ]


def test_a_sheet_is_taken_over_whole_or_not_at_all(store, account, owner):
    planned = accept(store, account, owner, CHANGE)
    seen = plans.planned(store, account.id)
    answer = ReadBack((replace(planned.change, new_value="0.80"),), (), 0, ())
    plans.take(store, account.id, owner.id, seen, answer)
    (edited,) = (each.change for each in plans.planned(store, account.id))
    assert edited.new_value == "0.80"
    assert edited.reason == f"{CHANGE.new_value} was proposed, 0.80 chosen instead. {CHANGE.reason}"
    back = ReadBack((replace(edited, new_value=CHANGE.new_value),), (), 0, ())
    plans.take(store, account.id, owner.id, plans.planned(store, account.id), back)
    assert plans.planned(store, account.id)[0].change.reason == CHANGE.reason
    plans.take(store, account.id, owner.id, plans.planned(store, account.id), answer)
    with pytest.raises(Conflict, match="changed since"):
        plans.take(store, account.id, owner.id, seen, ReadBack((), (planned.change,), 0, ()))
    assert len(plans.planned(store, account.id)) == 1


def test_what_people_do_leaves_a_trail(store, account, owner):
    planned = accept(store, account, owner, CHANGE)
    plans.remove(store, account.id, owner.id, planned.id)
    with store.read() as connection:
        lines = connection.execute(text("SELECT what, person_id FROM trail ORDER BY id")).all()
    assert [tuple(row) for row in lines][1:] == [("accepted", owner.id), ("removed", owner.id)]


def test_a_database_that_is_away_says_so(tmp_path):
    away = engine.connect("mysql://x:y@127.0.0.1:9/none", tmp_path / "s", tmp_path / "t")
    with pytest.raises(StoreAway) as problem, away.read():
        pass
    assert problem.value.remedy


def test_the_application_s_user_cannot_change_tables(store):
    """Least rights: rows, not tables."""
    from sqlalchemy.exc import DBAPIError

    with pytest.raises(DBAPIError, match="denied"), store.engine.begin() as connection:
        connection.execute(text("DROP TABLE trail"))


def test_models_and_migrations_agree(database, tmp_path):
    """A model that was changed without a migration is a mistake."""
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from nimbus_reef.store.record.models import metadata

    owner = engine.connect(database.owner_url, tmp_path / "s", tmp_path / "t")
    with owner.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []
    owner.engine.dispose()


def test_a_sheet_is_one_sending_however_often_it_is_taken(store, account, owner):
    accept(store, account, owner, CHANGE)
    planned = plans.planned(store, account.id)
    first = sendings.send(store, account.id, owner.id, "csv", planned)
    assert sendings.send(store, account.id, owner.id, "csv", planned) == first
    assert sendings.send(store, account.id, owner.id, "xlsx", planned) != first
    assert [each.state for each in plans.planned(store, account.id)] == [ChangeState.SENT]
    assert [(each.sheet, each.changes, each.waiting) for each in sendings.sendings(store, account.id)] == [
        ("xlsx", 1, 1),
        ("csv", 1, 1),
    ]
    edited = replace(planned[0].change, new_value="0.33")
    plans.take(store, account.id, owner.id, planned, ReadBack((edited,), (), 0, ()))
    assert plans.planned(store, account.id)[0].state is ChangeState.PLANNED
    with pytest.raises(Conflict):
        sendings.send(store, account.id, owner.id, "own", planned)


def test_what_was_carried_out_leaves_the_plan_and_what_failed_stays(store, account, owner):
    accept(store, account, owner, CHANGE)
    accept(store, account, owner, OTHER)
    first, second = plans.planned(store, account.id)
    sheet = sendings.send(store, account.id, owner.id, "csv", [first, second])
    assert sendings.answer(store, account.id, owner.id, sheet, {second.change.row: "the bid is too low"}) == 1
    (left,) = plans.planned(store, account.id)
    assert (left.id, left.state) == (second.id, ChangeState.FAILED)
    (told,) = sendings.sendings(store, account.id)
    assert told.results == {ChangeState.DONE: 1, ChangeState.FAILED: 1}
    with pytest.raises(Conflict):
        sendings.answer(store, account.id, owner.id, sheet, {})
    with pytest.raises(NotFound):
        sendings.answer(store, account.id, owner.id, sheet + 1, {})
    done = plan_steps.steps(store, account.id)[0]
    assert (done.what, done.changes) == ("carried out", 1)
    assert plan_steps.undo(store, account.id, owner.id, done.id) == 1
    assert {each.id for each in plans.planned(store, account.id)} == {first.id, second.id}


def test_a_package_of_which_one_change_failed_failed_whole(store, account, owner):
    plans.accept_packages(store, account.id, owner.id, [[(CHANGE, PROMISE), (OTHER, PROMISE)]])
    planned = plans.planned(store, account.id)
    sheet = sendings.send(store, account.id, owner.id, "csv", planned)
    assert sendings.answer(store, account.id, owner.id, sheet, {planned[0].change.row: "no"}) == 0
    assert {each.state for each in plans.planned(store, account.id)} == {ChangeState.FAILED}


def test_a_new_campaign_is_a_tree_under_its_first_row(store, account, owner):
    def made(entity, field, **of):
        return Change(0, Action.CREATE, entity, "New", field, "1.00", **of)

    package = [
        made(Entity.CAMPAIGN, "daily_budget"),
        made(Entity.CAMPAIGN, "targeting"),
        made(Entity.AD_GROUP, "default_bid", ad_group="G"),
        made(Entity.PRODUCT_AD, "state", ad_group="G", sku="S"),
        replace(CHANGE, campaign="Other"),
    ]
    plans.accept_packages(store, account.id, owner.id, [[(each, PROMISE) for each in package]])
    first, *rows = [each.change for each in plans.planned(store, account.id)]
    assert [each.parent - first.row + 1 for each in rows[:3]] == [1, 1, 3]
    assert (first.parent, rows[3].parent) == (0, 0)
