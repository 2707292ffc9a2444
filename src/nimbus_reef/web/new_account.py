"""A brand account from the form that describes it, at the first start and later."""

from __future__ import annotations

from dataclasses import replace

from nimbus_reef.store.people import account_settings, accounts
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web.kit.account_forms import AccountForm


def check(form: AccountForm) -> None:
    """BadInput for what no account can have, before anything else is made."""
    values = form.values()
    accounts.must_be_good("x", values["country"], values["currency"], values["locale"], values["timezone"])


def add(store: Store, form: AccountForm, person_id: int) -> Account:
    """The account, with the margin that its target follows from where one was given."""
    values = form.values()
    key = accounts.free_key(store, values["brand_name"], values["country"])
    account = accounts.add(store, key=key, person_id=person_id, **values)
    if form.own_margin is not None:
        after = replace(account.settings, margin=form.own_margin)
        account_settings.change(store, account.id, person_id, account.settings, after)
    return account
