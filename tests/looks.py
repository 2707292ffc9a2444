"""What the demo's pages look at unless something else is asked for."""

from datetime import timedelta

from nimbus_reef.analysis.look import Look
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts, aims
from tests.conftest import LAST_DAY


def account_of(demo, key):
    return accounts.by_key(demo.store, key)


def look_of(demo, key):
    account = account_of(demo, key)
    last = LAST_DAY - timedelta(days=account.maturing_days)
    return Look(account, Window(last - timedelta(days=29), last), aims.aims(demo.store, account))
