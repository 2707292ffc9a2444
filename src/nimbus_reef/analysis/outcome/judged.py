"""The verdict on every carried-out change: its days, its control, what came of what it promised."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from typing import Any, Final, TypeVar

import polars as pl

from nimbus_reef.analysis import bid_response
from nimbus_reef.analysis.margins import margins_by_home
from nimbus_reef.analysis.outcome import measured
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, Outcomes, bounded, early
from nimbus_reef.analysis.outcome.kinds import OutcomeKind, kind_of
from nimbus_reef.analysis.outcome.measured import AccountMoves, Compared
from nimbus_reef.analysis.outcome.stopped_searches import StoppedSearches
from nimbus_reef.analysis.outcome.wholes import Wholes, promised_profit_of, whole_of
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import outcome
from nimbus_reef.core.boosts import HOURS, weekdays_of
from nimbus_reef.core.change_periods import MOST_BEFORE, NoVerdict
from nimbus_reef.core.changes import Action, Change, Entity, number_of
from nimbus_reef.core.control import Control
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.outcome import ClickWorth, OutcomeVerdict, Sides, SumPart
from nimbus_reef.core.promises import PRICE_DAYS, price_ratio, with_profit, worth_of
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.stopped_spend import StoppedSides, of_stopped, stopped_decided_after
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import sendings
from nimbus_reef.store.people.sendings import CarriedOut
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts

Kept = TypeVar("Kept")
_REACH: Final = timedelta(days=MOST_BEFORE)


def outcomes(facts: Facts, selection: Selection) -> Outcomes:
    """Every carried-out change of an account, judged with what is loaded now. Kept."""
    account = selection.account
    newest = facts.newest_day(account.id)
    if newest is None:
        return Outcomes((), ClickResponse(), None)
    whole = selection.whole.at(Window(newest - timedelta(days=29), newest))

    def make() -> Outcomes:
        done = sendings.carried_out(facts.store, account.id)
        response = bid_response.learned(facts, whole)
        if not done:
            return Outcomes((), response, newest - timedelta(days=account.maturing_days))
        first = min(each.earliest for each in done) - _REACH
        where = measured.moves(facts, whole, Window(min(first, newest), newest))
        judge = _Judge(facts, whole, where, response, done)
        entries = judge.wholes.judged([judge.judged(each) for each in done])
        return Outcomes(tuple(entries), response, where.mature)

    return facts.kept(_OUTCOMES, account.id, make, newest, *_rests_on(facts, selection))


_OUTCOMES: Final = "outcomes"


def _rests_on(facts: Facts, selection: Selection) -> tuple[Hashable, ...]:
    """What verdicts rest on besides what is loaded."""
    account = selection.account
    return sendings.carried_out_generation(facts.store, account.id), selection.aims, account.settings


def known(facts: Facts, selection: Selection) -> Outcomes | None:
    """Outcomes that are in the cache, else None: for pages that must not wait for them."""
    account = selection.account
    found: Outcomes | None = facts.known(
        _OUTCOMES, account.id, facts.newest_day(account.id), *_rests_on(facts, selection)
    )
    return found


@dataclass
class _Judge:
    """Judges changes of one account; what many of them are compared with is made once."""

    facts: Facts
    selection: Selection
    where: AccountMoves
    response: ClickResponse
    done: Sequence[CarriedOut]
    kept: dict[tuple[Any, ...], Any] = field(default_factory=dict)

    @property
    def wholes(self) -> Wholes:
        """Judges what is judged on a whole."""
        return Wholes(self.facts, self.selection, self.where, self._compared, self._until)

    @property
    def stopped(self) -> StoppedSearches:
        """Finds the searches that pauses and negatives stopped."""
        return StoppedSearches(self.facts, self.selection, self.where, self.done, self._once)

    def judged(self, done: CarriedOut) -> ChangeOutcome:
        """The outcome of a change."""
        kind = kind_of(done.change)
        bare = ChangeOutcome(done, kind, OutcomeVerdict.NONE, day=done.earliest)
        if kind is OutcomeKind.NAMES:
            return replace(bare, unjudged=NoVerdict.PROMISED_NOTHING)
        if not self.where.by_day:
            return early(bare, NoVerdict.NO_DAYS)
        made = self._made_with(done.change)
        if made not in (None, done.change.row) and kind is not OutcomeKind.NEW:
            return replace(bare, unjudged=NoVerdict.WITH_ANOTHER, with_row=made or 0)
        if kind in (OutcomeKind.LOWERED, OutcomeKind.RAISED):
            return self._bid(bare)
        if kind is OutcomeKind.ADJUSTMENTS:
            return self._placement(bare)
        if kind.stops:
            return self._stopped(bare)
        if kind is OutcomeKind.NEW:
            return self._new(bare)
        if kind is OutcomeKind.CAMPAIGNS:
            return self._new_home(bare)
        return self._boost(bare) if kind is OutcomeKind.BOOSTS else bare

    def _made_with(self, change: Change) -> int | None:
        """The row of the change that made the campaign that this one was made with; None for one made by itself."""
        if change.action is not Action.CREATE or not change.package:
            return None

        def make() -> Mapping[int, int]:
            made = [each.change for each in self.done if each.change.action is Action.CREATE]
            return {each.package: each.row for each in made if each.entity is Entity.CAMPAIGN}

        return self._once(("made campaigns",), make).get(change.package)

    # --- prices --------------------------------------------------------------------------

    def _bid(self, bare: ChangeOutcome) -> ChangeOutcome:
        change = bare.change
        number = self.where.id_of(change)
        if number is None:
            return early(bare, NoVerdict.NO_CLICKS)
        bid = number_of(change.new_value)
        assert bid is not None
        assert bare.day is not None
        steps = [(day, str(held)) for day, held in self.where.bids.get(number, [])]
        day, known = self.where.seen(steps, str(round(bid * MICRO)), bare.day)
        if day is None and known:
            return replace(bare, unjudged=NoVerdict.NOT_APPLIED)
        day = day or bare.day
        found = self._sides(replace(bare, day=day), number)
        if found.unjudged is not None or found.sides is None:
            return found
        assert found.before is not None
        assert found.after is not None
        pair = self._compared(found.before, found.after)
        campaign, _ = self.where.homes[number]
        moved = measured.price_moves(self.facts, self.selection, found.before, day).get(campaign, 1.0)
        ratio = (price_ratio(change) or 1.0) * moved
        product = pair.of(number).get("product", "")
        control = pair.control(campaign, product, whole_campaign=abs(moved - 1) > 1e-9)
        return self._priced(found, ratio, control, campaign, number)

    def _sides(self, bare: ChangeOutcome, number: int) -> ChangeOutcome:
        """A target's days and figures before and after its change."""
        day = bare.day
        assert day is not None
        bare = self._bounded(bare, self.where.moved.get(number, ()))
        before, after = bare.before, bare.after
        if before is None or after is None:
            return bare
        figures = self._compared(before, after).of(number)
        gone = self.stopped.shut_out(day, before).get(number, (0.0, 0.0))
        sides = Sides(
            before.days,
            max(0.0, figures.get("clicks_before", 0.0) - gone[0]),
            max(0.0, figures.get("spend_before", 0.0) - gone[1]),
            after.days,
            figures.get("clicks_after", 0.0),
            figures.get("spend_after", 0.0),
            figures.get("orders_after", 0.0),
        )
        whole = figures.get("clicks_before", 0.0)
        kept = sides.clicks_before / whole if whole else 1.0
        return replace(bare, sides=sides, kept=kept)

    def _once(self, key: tuple[Any, ...], make: Callable[[], Kept]) -> Kept:
        """Made once for all changes."""
        if key not in self.kept:
            self.kept[key] = make()
        found: Kept = self.kept[key]
        return found

    def _placement(self, bare: ChangeOutcome) -> ChangeOutcome:
        change = bare.change
        campaign = self.where.campaigns.get(change.campaign)
        ratio = price_ratio(change)
        if campaign is None or ratio is None or bare.day is None:
            return early(bare, NoVerdict.NO_CLICKS)
        day = bare.day
        bare = self._bounded(bare, self.where.adjusted.get(campaign, ()))
        before, after = bare.before, bare.after
        if before is None or after is None:
            return bare
        key = (campaign, change.placement)
        nothing = (0.0, 0.0, 0.0)
        was = measured.placements(self.facts, self.selection, before).get(key, nothing)
        now = measured.placements(self.facts, self.selection, after).get(key, nothing)
        sides = Sides(before.days, was[0], was[1], after.days, now[0], now[1], now[2])
        pair = self._compared(before, after)
        bids = self._mean_bid_move(campaign, pair, day)
        control = pair.control(campaign, "", whole_campaign=True)
        return self._priced(replace(bare, sides=sides), ratio * bids, control, campaign)

    def _boost(self, bare: ChangeOutcome) -> ChangeOutcome:
        """A boost of bids, on its weekdays and hours before and after."""
        change = bare.change
        campaign = self.where.campaigns.get(change.campaign)
        if campaign is None:
            return early(bare, NoVerdict.NO_CLICKS)
        days = [each.earliest for each in self.done if _moves_bids_of(each.change, change.campaign)]
        bare = self._bounded(bare, days)
        before, after = bare.before, bare.after
        if before is None or after is None:
            return bare
        hours = range(int(change.from_hour or 0), int(change.to_hour or HOURS))
        was, now = (
            measured.boosted_hours(self.facts, self.selection, window, campaign, weekdays_of(change.days), hours)
            for window in (before, after)
        )
        sides = Sides(before.days, was[0], was[1], after.days, now[0], now[1], now[2])
        adjusted = measured.mean_adjustment(self.facts, self.selection, before, campaign)
        old, new = (float(number_of(value or "0") or 0) / 100 for value in (change.old_value, change.new_value))
        pair = self._compared(before, after)
        control = pair.control(campaign, "", whole_campaign=True)
        return self._priced(replace(bare, sides=sides), (1 + adjusted + new) / (1 + adjusted + old), control, campaign)

    def _mean_bid_move(self, campaign: int, pair: Compared, day: date) -> float:
        """By what a campaign's bids moved on a day, weighed by clicks before."""
        moved, weight = 0.0, 0.0
        rows = pair.rows.filter((pl.col("campaign_id") == campaign) & (pl.col("clicks_before") > 0))
        for number, clicks in rows.select("target_id", "clicks_before").rows():
            steps = self.where.bids.get(number, [])
            past = [bid for at, bid in steps if at < day]
            new = [bid for at, bid in steps if at == day]
            weight += clicks
            if past and new and past[-1] > 0 and new[0] > 0:
                moved += clicks * math.log(new[0] / past[-1])
        return math.exp(moved / weight) if weight else 1.0

    def _priced(
        self, bare: ChangeOutcome, ratio: float, control: Control, campaign: int, target: int = 0
    ) -> ChangeOutcome:
        """The verdict on another price, of what had clicks before; else as on a new target."""
        sides = bare.sides
        assert sides is not None
        known = self._kept(bare)
        worth = worth_of(known.promise)
        if not worth.order_value and bare.day is not None:
            # Accepted without figures of its own, as a boost is.
            worth = self.wholes.usual_worth(known.promise, bare.day)
        bare = replace(bare, worth=worth, control=control, ratio=ratio, margin_known=known.promise.margin is not None)
        if abs(ratio - 1) < 1e-9:
            return replace(bare, unjudged=NoVerdict.PROMISED_NOTHING)
        if not sides.clicks_before and not sides.clicks_after:
            return early(bare, NoVerdict.NO_CLICKS)
        assert bare.before is not None
        assert bare.after is not None
        if why := self._compared(bare.before, bare.after).hindered(campaign, target):
            return early(bare, why)
        if not sides.compared:
            return self._as_new(bare, sides, worth, max(0.0, known.promise.profit or 0.0) * bare.kept)
        result = outcome.of_price(sides, worth, ratio, self.response, control)
        promised = (known.promise.profit or 0.0) * bare.kept
        low, high = result.range
        found = replace(
            bare,
            price=result,
            promised=promised,
            result=result.profit,
            low=low,
            high=high,
            part=SumPart(promised, result.profit, result.spread, result.slope) if promised > 0 else None,
        )
        if promised <= 0:
            if ratio <= 1:
                return replace(found, unjudged=NoVerdict.PROMISED_NOTHING)
            return replace(self._by_chance(found, sides, worth, known.promise.target_acos), within=True)
        verdict = outcome.by_range(result.range, promised)
        if verdict is not OutcomeVerdict.TOO_EARLY:
            return replace(found, verdict=verdict)
        days = outcome.price_decided_after(sides, worth, ratio, self.response, control, promised)
        return replace(found, verdict=verdict, until=self._until(bare, days))

    def _kept(self, bare: ChangeOutcome) -> CarriedOut:
        """The change with the profit that it promised, worked out now where it was accepted before that was kept."""
        done = bare.done
        if done.promise.profit is not None:
            return done
        first, last = (date.fromisoformat(day) for day in done.promise.window)
        margins = margins_by_home(self.facts, self.selection.account.id, Window(first, last))
        margin = margins.of(done.change.campaign, done.change.ad_group)
        return replace(done, promise=with_profit(done.change, done.promise, margin))

    def _by_chance(self, bare: ChangeOutcome, sides: Sides, worth: ClickWorth, limit: float) -> ChangeOutcome:
        """The verdict by the chance that clicks cost more than a part of what they sell."""
        if not sides.clicks_after:
            return early(bare, NoVerdict.NO_CLICKS)
        chance = outcome.chance_over(sides, worth, limit)
        verdict = outcome.verdict_by_chance(chance)
        days = None
        if verdict is OutcomeVerdict.TOO_EARLY:
            days = outcome.chance_decided_after(sides, worth, limit)
        return replace(bare, chance=chance, verdict=verdict, until=self._until(bare, days))

    def _bounded(self, bare: ChangeOutcome, moved: Iterable[date]) -> ChangeOutcome:
        """One with its days before and after, else with why it has none."""
        found = bounded(bare, moved, self.where.first, self.where.mature)
        return self._waits(found, PRICE_DAYS) if found.before is not None and found.after is None else found

    def _waits(self, bare: ChangeOutcome, days: int) -> ChangeOutcome:
        """One that has too few mature days yet: until it has so many."""
        return replace(early(bare, NoVerdict.FEW_DAYS), until=self._until(bare, days))

    def _until(self, bare: ChangeOutcome, days: int | None) -> date | None:
        """The day on which so many days after a change are mature."""
        if days is None or bare.day is None:
            return None
        return bare.day + timedelta(days=days + self.selection.account.maturing_days)

    def _compared(self, before: Window, after: Window) -> Compared:
        def make() -> Compared:
            # What a change made has no before: it is no control.
            near = self.stopped.receivers(before, after) | frozenset(self._new_ids())
            return measured.compared(self.facts, self.selection, self.where, before, after, self.response, near)

        return self._once(("compared", before, after), make)

    # --- new targets ---------------------------------------------------------------------

    def _new(self, bare: ChangeOutcome) -> ChangeOutcome:
        change = bare.change
        number = self.where.id_of(change)
        if bare.day is None or number is None:
            return early(bare, NoVerdict.NO_CLICKS)
        days = (self.where.mature - bare.day).days + 1
        if days < outcome.FIRST_DAYS:
            return self._waits(bare, outcome.FIRST_DAYS)
        after = Window(bare.day, self.where.mature)
        known = self._kept(bare)
        worth = worth_of(known.promise)
        figures = self._sums(after).get(number, (0.0, 0.0, 0.0))
        sides = Sides(0, 0.0, 0.0, days, *figures)
        found = replace(bare, after=after, sides=sides, worth=worth, margin_known=known.promise.margin is not None)
        return self._as_new(found, sides, worth, promised_profit_of(known.promise))

    def _as_new(self, bare: ChangeOutcome, sides: Sides, worth: ClickWorth, promised: float) -> ChangeOutcome:
        """What had no clicks before: all that its clicks since cost and bring is the change's."""
        own = worth.after(sides)
        profit = (sides.clicks_after * own.value - sides.spend_after) / sides.days_after
        spread = sides.clicks_after * own.value_spread / sides.days_after
        low, high = outcome.range_around(profit, spread)
        return replace(
            self._by_chance(bare, sides, worth, worth.margin),
            promised=promised,
            result=profit,
            low=low,
            high=high,
            # What got no click brought nothing of what it promised.
            part=SumPart(promised, profit, spread),
        )

    def _new_home(self, bare: ChangeOutcome) -> ChangeOutcome:
        """A new campaign or product ad, against what clicks of the account bring."""
        assert bare.day is not None
        days = (self.where.mature - bare.day).days + 1
        if days < outcome.FIRST_DAYS:
            return self._waits(bare, outcome.FIRST_DAYS)
        after = Window(bare.day, self.where.mature)
        own = self.wholes.figures(whole_of(bare.done), after)
        worth = self.wholes.usual_worth(bare.done.promise, bare.day)
        sides = Sides(0, 0.0, 0.0, days, own.clicks, own.spend, own.orders)
        margin_known = bare.done.promise.margin is not None
        promised = sum(
            promised_profit_of(each.promise)
            for each in self.done
            if each.change == bare.change or self._made_with(each.change) == bare.change.row
        )
        bare = replace(bare, after=after, sides=sides, worth=worth, margin_known=margin_known)
        return self._as_new(bare, sides, worth, promised)

    def _sums(self, window: Window) -> Mapping[int, tuple[float, float, float]]:
        """Clicks, spend and orders by target."""

        def make() -> Mapping[int, tuple[float, float, float]]:
            rows = target_frames.target_sums(self.facts, self.selection.account.id, window)
            return {
                row[0]: (float(row[1]), row[2] / MICRO, float(row[3]))
                for row in rows.select("target_id", "clicks", "spend", "orders").rows()
            }

        return self.facts.kept("outcome sums", self.selection.account.id, make, window)

    # --- pauses and negatives --------------------------------------------------------------

    def _stopped(self, bare: ChangeOutcome) -> ChangeOutcome:
        change, day = bare.change, bare.day
        assert day is not None
        number = self.where.id_of(change)
        moved = () if number is None else self.where.moved.get(number, ())
        bare = bounded(bare, moved, self.where.first, self.where.mature)
        before, after = bare.before, bare.after
        if before is None:
            return bare
        bare = replace(bare, worth=worth_of(self._kept(bare).promise))
        if after is None or after.days < outcome.FIRST_DAYS:
            return self._waits(bare, outcome.FIRST_DAYS)
        was, now = (measured.searches(self.facts, self.selection, window) for window in (before, after))
        if was.is_empty():
            return early(bare, NoVerdict.NO_TERMS)
        own = self.stopped.of(change, was)
        if not own["clicks"].sum():
            return early(bare, NoVerdict.NO_CLICKS)
        # What several stops of a day took of the same searches comes back to all of them together.
        same = pl.col("normal_id").is_in(own["normal_id"].unique().implode())
        gone = self.stopped.on(day, before).filter(same)
        keys = ["target_id", "normal_id"]
        then = was.filter(same).join(gone, on=keys, how="anti")
        # What a new target gets of them is its own clicks, not theirs that came back.
        later = now.filter(same & ~pl.col("target_id").is_in(self._new_ids())).join(gone, on=keys, how="anti")
        eased = sum(
            clicks / self._answered(target, before, after)
            for target, clicks in later.select("target_id", "clicks").rows()
        )
        sides = StoppedSides(
            before.days,
            float(gone["clicks"].sum()),
            float(own["spend"].sum()),
            float(then["clicks"].sum()),
            after.days,
            float(eased),
        )
        pair = self._compared(before, after)
        campaign = self.where.campaigns.get(change.campaign, 0)
        control = pair.control(campaign, "", whole_campaign=False)
        result = of_stopped(sides, control)
        spend, spread = result.spend
        low, high = outcome.range_around(spend, spread)
        until = None
        if result.verdict is OutcomeVerdict.TOO_EARLY:
            until = self._until(bare, stopped_decided_after(sides, control))
        return replace(
            bare,
            stopped=result,
            stopped_sides=sides,
            control=control,
            verdict=result.verdict,
            promised=result.promised,
            result=spend,
            low=low,
            high=high,
            until=until,
            part=SumPart(result.promised, spend, spread),
        )

    def _new_ids(self) -> list[int]:
        """Targets that were made by a change."""
        made = [each.change for each in self.done if kind_of(each.change) is OutcomeKind.NEW]
        return [number for number in map(self.where.id_of, made) if number is not None]

    def _answered(self, target: int, before: Window, after: Window) -> float:
        """By how much another target's clicks are expected to have moved for its own bid."""
        steps = self.where.bids.get(target, [])
        then = [bid for day, bid in steps if day <= before.last]
        now = [bid for day, bid in steps if day <= after.first]
        if not then or not now or then[-1] <= 0 or now[-1] <= 0 or then[-1] == now[-1]:
            return 1.0
        return float((now[-1] / then[-1]) ** self.response.e)


def _moves_bids_of(change: Change, campaign: str) -> bool:
    """Whether a change moves what all of a campaign's clicks cost."""
    return change.campaign == campaign and change.entity in (Entity.BID_BOOST, Entity.PLACEMENT)
