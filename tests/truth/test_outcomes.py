"""What came of changes, judged on an account that was audited, sent and lived with; and on one that has sums alone."""

from dataclasses import replace
from datetime import date, timedelta

import pytest
from benchmarks import outcome as bench
from benchmarks.lived import begun
from tests.planned import BID, PROMISE

from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.analysis.outcome.kinds import OutcomeKind, kind_of
from nimbus_reef.analysis.outcome.measured import AccountMoves
from nimbus_reef.analysis.outcome.wholes import whole_of
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs import intake
from nimbus_reef.sim.vocabulary import FERNHOLLOW
from nimbus_reef.store.people import people, plans, sendings, target_acos
from nimbus_reef.store.people.sendings import CarriedOut
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.outcome import wording
from nimbus_reef.web.outcome.money_axis import axis

NOTHING = replace(PROMISE, clicks=0, orders=0, spend=0.0, sales=0.0, a=1.0, b=1.0, aov=0.0, projected={})
EURO = Figures("en_IE", "EUR")


@pytest.fixture
def lived(store, account, tmp_path):
    """An account with its history."""
    return begun(store, account, FERNHOLLOW, 71, 60, date(2026, 9, 20), tmp_path)


def test_an_audit_is_judged_by_what_it_truly_did(lived):
    """One simulation; each of what follows has its own sentence."""
    rows, found = bench.account(lived, 14)
    verdicts_are_mostly_right(rows)
    every_change_has_a_verdict_or_a_reason_and_a_sentence(found)
    sums_count_each_change_once(found)
    a_bid_is_judged_without_the_searches_that_a_negative_took(found)
    what_moves_a_whole_is_judged_on_it(lived)


def verdicts_are_mostly_right(rows):
    decided = [each for each in rows if each.verdict in (OutcomeVerdict.KEPT, OutcomeVerdict.DID_NOT)]
    assert len(decided) > 150
    assert sum(each.right for each in decided) / len(decided) > 0.85
    lowered = [each for each in rows if each.kind is OutcomeKind.LOWERED]
    came = sum(each.part.result for each in lowered if each.part)
    true = sum(each.true for each in lowered if each.part)
    assert came == pytest.approx(true, rel=0.25), "together they come to what they truly did"


def every_change_has_a_verdict_or_a_reason_and_a_sentence(found):
    for each in found.entries:
        bold, _ = wording.sentence(each, EURO)
        assert bold.endswith(".")
        if each.verdict is OutcomeVerdict.NONE:
            assert each.unjudged is not None
        if each.verdict in (OutcomeVerdict.KEPT, OutcomeVerdict.DID_NOT):
            assert each.low <= each.result <= each.high
            assert each.after.days >= 7
    assert {each.verdict for each in found.entries} >= {OutcomeVerdict.KEPT, OutcomeVerdict.TOO_EARLY}


def sums_count_each_change_once(found):
    lines = {line.name: line for line in listed.sums(found)}
    for whole, stops in ((listed.PROFIT, False), (listed.AWAY, True)):
        parts = [line for name, line in lines.items() if not line.whole and OutcomeKind(name).stops is stops]
        assert lines[whole].changes == sum(line.changes for line in parts)
        assert lines[whole].total.result == pytest.approx(sum(line.total.result for line in parts))
    assert sum(len(own) for own in listed.by_sheet(found).values()) == len(found.entries)
    frame = listed.rows(found)
    assert len(frame) == len(found.entries)
    assert frame["row_id"].n_unique() == len(frame)
    assert listed.table(frame).rows.height == len(frame)


def a_bid_is_judged_without_the_searches_that_a_negative_took(found):
    bids = [each for each in found.entries if each.kind in (OutcomeKind.LOWERED, OutcomeKind.RAISED) and each.sides]
    assert any(each.kept < 1 for each in bids)
    for each in bids:
        assert 0 <= each.kept <= 1
        if each.kept < 1 and each.part and each.done.promise.profit > 0:
            assert each.promised < each.done.promise.profit


def what_moves_a_whole_is_judged_on_it(lived):
    """Budgets, ads, a boost and a campaign of one's own, two weeks after the audit; changes of a day count once."""
    for view in ("budgets", "ads"):
        lived.accept(lived.propose(view)[:6])
    campaigns = lived.own.settings.things["campaign"]
    one, other = [name for (name,), held in campaigns.items() if held["state"] == "enabled"][:2]
    own = [
        Change(
            0, Action.CREATE, Entity.BID_BOOST, one, "percent", "40", from_hour="18", to_hour="22", reason="evening"
        ),
        Change(0, Action.UPDATE, Entity.CAMPAIGN, other, "bidding", "down_only", "up_and_down"),
        Change(0, Action.UPDATE, Entity.CAMPAIGN, other, "portfolio", "Own", ""),
    ]
    plans.accept_packages(lived.store, lived.account.id, lived.person_id, [[(each, NOTHING)] for each in own])
    day = lived.own.today
    lived.send()
    lived.live(17)
    found = [each for each in judged.outcomes(lived.facts, lived.selection()).entries if each.done.sent >= day]
    kinds = {each.kind for each in found}
    assert kinds >= {OutcomeKind.BUDGETS, OutcomeKind.ADS, OutcomeKind.BOOSTS, OutcomeKind.SETTINGS, OutcomeKind.NAMES}
    for each in found:
        bold, _ = wording.sentence(each, EURO)
        assert bold.endswith(".")
    wholes = [each for each in found if each.whole is not None]
    assert wholes
    assert len({(whole_of(each.done), each.day) for each in wholes}) == len(wholes)
    for each in wholes:
        assert each.low < each.result < each.high
        assert (each.part is not None) is (each.promised > 0)
    (boost,) = [each for each in found if each.kind is OutcomeKind.BOOSTS]
    assert 1.2 < boost.ratio <= 1.4
    assert boost.worth.order_value > 0, "a boost is accepted without figures: what the account's clicks bring stands in"


def test_an_account_that_has_sums_of_a_month_alone_says_what_it_lacks(store, account, tmp_path):
    path = tmp_path / "month.csv"
    path.write_text(
        "from,to,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,units,sales\n"
        "2026-10-01,2026-10-30,C,G,t,broad,900,60,48.00,2,2,60.00\n"
    )
    intake.take(store, account, path, path.name, "target_daily", today=date(2026, 11, 1))
    who = people.add(store, email="a@example.com", name="A", password="a long password", role=people.Role.OWNER)
    planned = plans.accept_packages(store, account.id, who.id, [[(BID, PROMISE)]]).planned
    number = sendings.send(store, account.id, who.id, "csv", planned)
    sendings.answer(store, account.id, who.id, number, {})
    window = Window(date(2026, 10, 1), date(2026, 10, 30))
    found = judged.outcomes(Facts(store), Selection(account, window, target_acos.aims(store, account)))
    (one,) = found.entries
    assert (one.verdict, one.unjudged) == (OutcomeVerdict.TOO_EARLY, NoVerdict.NO_DAYS)
    assert wording.sentence(one, EURO)[0] == "It needs targets by day, not as a sum of several days."


def test_a_change_is_of_the_kind_that_it_is_judged_by():
    made = replace(BID, action=Action.CREATE, old_value="")
    assert kind_of(BID) is OutcomeKind.LOWERED
    assert kind_of(replace(BID, new_value="2.00")) is OutcomeKind.RAISED
    assert kind_of(replace(BID, field="state", new_value="paused")) is OutcomeKind.PAUSES
    assert kind_of(replace(BID, field="state", new_value="enabled")) is OutcomeKind.SETTINGS
    assert kind_of(made) is OutcomeKind.NEW
    assert kind_of(replace(made, entity=Entity.NEGATIVE)) is OutcomeKind.NEGATIVES
    assert kind_of(replace(BID, entity=Entity.CAMPAIGN, field="daily_budget")) is OutcomeKind.BUDGETS


@pytest.mark.parametrize(
    ("changed", "kind", "level"),
    [
        ({"entity": Entity.CAMPAIGN, "field": "daily_budget"}, OutcomeKind.BUDGETS, "campaign"),
        (
            {"entity": Entity.CAMPAIGN, "field": "offsite_limited", "new_value": "yes"},
            OutcomeKind.SETTINGS,
            "placement",
        ),
        ({"entity": Entity.AD_GROUP, "field": "default_bid"}, OutcomeKind.SETTINGS, "ad group"),
        ({"entity": Entity.PRODUCT_AD, "field": "state", "new_value": "paused"}, OutcomeKind.ADS, "ad group"),
        ({"entity": Entity.CAMPAIGN, "field": "state", "action": Action.CREATE}, OutcomeKind.CAMPAIGNS, "campaign"),
        ({"entity": Entity.PRODUCT_AD, "field": "state", "action": Action.CREATE}, OutcomeKind.CAMPAIGNS, "ad"),
    ],
)
def test_what_moves_a_whole_is_of_its_kind_and_judged_on_it(changed, kind, level):
    change = replace(BID, sku="A", **changed)
    done = CarriedOut(1, change, PROMISE, 1, date(2026, 10, 1), None)
    assert (kind_of(change), whole_of(done).level) == (kind, level)
    family = replace(done, promise=replace(PROMISE, view="families", row_id="F"))
    assert whole_of(family) == ("family", ("F",)), "a family's shift is judged on the family, whatever it changes"


def test_the_axis_holds_everything_and_zero():
    money = axis([(-120.0, 40.0), (10.0, 560.0)])
    assert money.low < -120 < 0 < 560 < money.high
    places = [money.place(amount) for amount in (-120, 0, 40, 560)]
    assert places == sorted(places)
    assert all(0 <= place <= money.width for place, _ in money.ticks())
    assert 0.0 in [amount for _, amount in money.ticks()]
    mark = money.mark(100.0, 50.0, -10.0, 110.0, "too early")
    assert mark.hollow
    assert mark.low < mark.result < mark.high
    assert axis([]).zero > 0


def test_days_that_were_seen_tell_whether_a_change_was_applied():
    day = date(2026, 10, 20)
    moves = AccountMoves({}, {}, {}, {}, {}, {}, {}, [day + timedelta(days=n) for n in (0, 1, 7)], day, day, True)
    steps = [(day - timedelta(days=30), "100"), (day + timedelta(days=1), "70")]
    assert moves.seen(steps, "70", day) == (day + timedelta(days=1), True)
    assert moves.seen(steps, "80", day) == (None, True)
    assert moves.seen(steps, "70", day + timedelta(days=30)) == (None, False)
