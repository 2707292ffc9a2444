"""What the demo's pages look at unless something else is asked for."""

from datetime import timedelta

from nimbus_reef.analysis.delivery import placements, plan_prices
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.reading.facts import Facts
from tests.conftest import LAST_DAY


def account_of(demo, key):
    return accounts.by_key(demo.store, key)


def look_of(demo, key):
    account = account_of(demo, key)
    last = LAST_DAY - timedelta(days=account.maturing_days)
    return Selection(account, Window(last - timedelta(days=29), last), target_acos.aims(demo.store, account))


def campaigns_of(demo, key):
    """The bids in force of a brand's campaigns that were shown, by name."""
    selection = look_of(demo, key)
    names = placements.judged(Facts(demo.store), selection)["campaign"].unique().to_list()
    return plan_prices.campaigns_of(Facts(demo.store), selection, names)


def has_above(bids):
    """Whether anything of a campaign is above target."""
    return any(each.above_target for each in bids.targets.values()) or bool(bids.above_target)


def calm_campaign(demo, key):
    """A campaign with bids in which nothing is above target."""
    return next(name for name, bids in sorted(campaigns_of(demo, key).items()) if bids.targets and not has_above(bids))
