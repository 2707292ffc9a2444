"""The settings of an account: kept where they differ, refused where they cannot be meant, and in force at once."""

from dataclasses import fields, replace

import pytest

from nimbus_reef.core.settings import USUAL, Holds, Settings, problem, register
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import account_settings, accounts
from nimbus_reef.store.reading.facts import Facts


def changed(store, account, **values):
    now = accounts.by_key(store, account.key).settings
    return account_settings.change(store, account.id, None, now, replace(now, **values))


def test_every_setting_is_kept_and_read_back(store, account):
    others = {
        each.name: {
            Holds.COUNT: lambda s: int(s.least) + 4,
            Holds.RATE: lambda s: s.least + 0.01,
            Holds.MONEY: lambda s: s.least + 1.5,
            Holds.FIGURE: lambda s: s.least + 0.25,
            Holds.WORDS: lambda _: ("one 3", "two three 4"),
            Holds.TEXT: lambda _: "AB12CD34",
            Holds.CHOICE: lambda s: s.options[-1],
        }[register()[each.name].holds](register()[each.name])
        for each in fields(Settings)
    } | {"bid_ceiling": 7.5, "longest_title": 300}
    assert set(changed(store, account, **others)) == set(others)
    read = accounts.by_key(store, account.key)
    assert read.settings == Settings(**others)
    assert read.bid_limits.step_up == others["step_up"]
    assert read.min_clicks == others["min_clicks"]


def test_what_is_usual_is_not_kept(store, account):
    changed(store, account, most_targets=20)
    changed(store, account, most_targets=60)
    with store.read() as connection:
        assert account_settings.kept(connection, account.id) == {}
    assert accounts.by_key(store, account.key).settings == USUAL


@pytest.mark.parametrize(
    "values",
    [
        {"min_clicks_of": ("SW-20",)},
        {"most_targets": 0},
        {"step_up": 50},
        {"bid_floor": 5.0, "bid_ceiling": 4.0},
        {"shortest_title": 400},
    ],
)
def test_what_cannot_be_meant_changes_nothing(store, account, values):
    with pytest.raises(BadInput):
        changed(store, account, margin=0.4, **values)
    assert accounts.by_key(store, account.key).settings == USUAL


def test_a_changed_setting_makes_all_results_new(store, account):
    facts = Facts(store)
    before = facts.generation(account.id)
    assert facts.kept("asked", account.id, lambda: 1) == 1
    changed(store, account, own_words=("fern",))
    assert facts.generation(account.id) != before
    assert facts.kept("asked", account.id, lambda: 2) == 2


def test_the_usual_values_can_be_meant():
    for setting in register().values():
        assert problem(setting, setting.default) is None, setting.key
        assert setting.changes, setting.key


def test_an_account_at_rest_is_shown_only_where_it_is_asked_for(store, account):
    accounts.rest(store, account.id, None, resting=True)
    assert account.key not in {each.key for each in accounts.all_accounts(store)}
    assert account.key in {each.key for each in accounts.all_accounts(store, resting=True)}
    accounts.rest(store, account.id, None, resting=False)
    assert account.key in {each.key for each in accounts.all_accounts(store)}


def test_a_new_account_gets_a_key_of_its_own(store, account):
    assert accounts.free_key(store, "Fern", "DE") == "fern-de-2"
    assert accounts.free_key(store, "Müller & Söhne", "AT") == "muller-sohne-at"
    assert accounts.free_key(store, "海", "JP") == "brand-jp"
