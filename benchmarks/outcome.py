"""
The verdicts of Outcome against what is true in simulated accounts: all that is proposed is accepted, sent and lived with
for two weeks; then each verdict is held against what the change truly did.

Right: kept, and it truly gained; or did not, and it truly gained under half of its promise. Of pauses and negatives: more,
or less, than half of the spend stayed away.

    python benchmarks/outcome.py [--write] [--seeds 5] [--first 71] [--days 14]
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Final

import numpy as np
import polars as pl

from benchmarks.lived import Lived, begun
from nimbus_reef import config
from nimbus_reef.analysis.outcome import judged
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, Outcomes
from nimbus_reef.analysis.outcome.kinds import OutcomeKind
from nimbus_reef.cli import wiring
from nimbus_reef.core.outcome import OutcomeVerdict, SumPart, summed
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import onward
from nimbus_reef.sim.delivery import HOUR_EASE
from nimbus_reef.sim.schedule import PLACES, RESPONSE
from nimbus_reef.sim.trade import EXTRA_UNITS, true_rates
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec
from nimbus_reef.sim.world import World
from nimbus_reef.store.record.engine import Store

LAST: Final = date(2026, 9, 20)
DAYS: Final = 90
FIRST_SEED: Final = 71
MATURES: Final = 3
OUT: Final = Path(__file__).parents[1] / "docs" / "outcome.md"
_PAID: Final = 0.86
_SUM_OF: Final = {OutcomeKind.RAISED: 20}
"""How many changes make a sum; ten where nothing else is said."""
DESIGNED: Final[Mapping[OutcomeKind, str]] = {
    OutcomeKind.LOWERED: "71 / 3.7 / 25",
    OutcomeKind.RAISED: "7 / 0.4 / 92",
    OutcomeKind.ADJUSTMENTS: "68 / 1.2 / 30",
    OutcomeKind.PAUSES: "59 / 2.2 / 39",
    OutcomeKind.NEGATIVES: "49 / 2.3 / 49",
    OutcomeKind.NEW: "20 / 0.9 / 79",
    OutcomeKind.ADS: "–",
}
"""What the design measured after 14 days in its own worlds."""


@dataclass(frozen=True, slots=True)
class Truth:
    """What a target does a day: clicks and spend, its margin a click, and the part of its searches that came back."""

    clicks: float
    spend: float
    value: float

    @property
    def profit(self) -> float:
        """After ads."""
        return self.clicks * self.value - self.spend


def by_target(world: World) -> dict[int, Truth]:
    """What is expected of every target of a world a day, but for season and budgets."""
    assert world.delivery is not None
    target = world.pairs["target_no"].to_numpy().astype(np.int64)
    query = world.pairs["query_no"].to_numpy().astype(np.int64)
    campaign = world.targets["campaign_no"].to_numpy().astype(np.int64)[target]
    bid = world.bids[:, -1]
    eager = (bid / world.targets["bid"].to_numpy()) ** RESPONSE
    shares = world.delivery.shares()
    ctr = np.minimum(0.5, world.queries["ctr"].to_numpy()[query])
    clicks = world.pairs["pull"].to_numpy() * ctr * eager[target] * shares.sum(axis=1)[campaign]
    places = shares / shares.sum(axis=1, keepdims=True)
    price = (places * world.delivery.prices()).sum(axis=1)
    ease = (places * world.delivery.ease).sum(axis=1) * (world.delivery.clock() @ HOUR_EASE)
    spend = clicks * bid[target] * _PAID * price[campaign]
    group = world.targets["ad_group_no"].to_numpy().astype(np.int64)[target]
    worth = (
        world.ad_products.join(
            world.products.select(
                pl.col("product_no").cast(pl.Int64), pl.col("cvr") * pl.Series(world.mood[:, -1]), "price", "margin"
            ),
            on="product_no",
        )
        .group_by("ad_group_no")
        .agg(
            worth=(pl.col("share") * pl.col("fit") * pl.col("cvr") * pl.col("price") * pl.col("margin") / 100).sum()
            / pl.col("share").sum()
        )
    )
    by_group = dict(worth.rows())
    each = np.array([by_group.get(int(number), 0.0) for number in group])
    value = clicks * each * true_rates(world) * ease[campaign] * (1 + EXTRA_UNITS)
    size = len(world.targets)
    sums = [np.bincount(target, part, size) for part in (clicks, spend, value)]
    return {
        number: Truth(float(c), float(s), float(v / c) if c else 0.0)
        for number, (c, s, v) in enumerate(zip(*sums, strict=True))
    }


@dataclass(frozen=True, slots=True)
class Judged:
    """A verdict and what is true: gained (profit a day) or stayed (share of spend)."""

    kind: OutcomeKind
    verdict: OutcomeVerdict
    promised: float
    true: float
    part: SumPart | None

    @property
    def right(self) -> bool:
        """Whether a decided verdict is as it truly was."""
        half = 0.5 if self.kind.stops else self.promised / 2
        return (
            self.true > (0.5 if self.kind.stops else 0.0) if self.verdict is OutcomeVerdict.KEPT else self.true < half
        )


def decisions(lived: Lived) -> list[Proposal]:
    """What is proposed on targets, search terms and placements."""
    worst = [each for each in lived.propose("placements") if each.package]
    return [*lived.propose("targets"), *lived.propose("terms"), *worst]


def account(lived: Lived, days: int) -> tuple[list[Judged], Outcomes]:
    """One audit of an account, lived with and judged."""
    lived.accept(decisions(lived))
    before = onward.grown(lived.own.world, lived.own.settings, lived.own.made.searched, lived.own.seed)
    then = onward.next_days(before, lived.own.settings, days, lived.own.seed)
    lived.send()
    lived.live(days + MATURES)
    now = lived.own.periods[-1].world
    found = judged.outcomes(lived.facts, lived.selection())
    return list(_held_against(found, lived, then, now)), found


def ads_alone(lived: Lived, days: int) -> list[Judged]:
    """Another audit that pauses product ads alone: each ad group against what it truly does without them."""
    lived.accept(lived.propose("ads"))
    before = lived.own.periods[-1].world
    then = onward.next_days(before, lived.own.settings, days, lived.own.seed)
    number = lived.send()
    lived.live(days + MATURES)
    was, became = by_target(then), by_target(lived.own.periods[-1].world)
    held = lived.own.settings.things["target"]
    rows = []
    for each in judged.outcomes(lived.facts, lived.selection()).entries:
        if each.done.sending_id == number and each.whole is not None:
            own = [int(of["no"]) for key, of in held.items() if key[:2] == (each.change.campaign, each.change.ad_group)]
            gained = sum(became[target].profit - was[target].profit for target in own if target in was)
            rows.append(Judged(each.kind, each.verdict, each.promised, gained, each.part))
    return rows


def _held_against(found: Outcomes, lived: Lived, then: World, now: World) -> Iterable[Judged]:
    held = lived.own.settings.things
    was, became = by_target(then), by_target(now)
    lone = _alone(then, now)
    for each in found.entries:
        change = each.change
        key = (change.campaign, change.ad_group, change.target, change.match_type)
        if each.kind in (OutcomeKind.LOWERED, OutcomeKind.RAISED):
            number = int(held["target"][key]["no"])
            old = lone.get(number, was[number])
            gained = became[number].profit - old.profit
            yield Judged(each.kind, each.verdict, each.promised, gained, each.part)
        elif each.kind is OutcomeKind.NEW:
            truth = became[int(held["target"][key]["no"])]
            yield Judged(each.kind, each.verdict, 0.0, truth.profit, each.part)
        elif each.kind.stops:
            yield Judged(each.kind, each.verdict, each.promised, _stayed(each, lived, then, now), each.part)
        elif each.kind is OutcomeKind.ADJUSTMENTS:
            yield Judged(each.kind, each.verdict, each.promised, _placed(each, then, now), each.part)


def _alone(then: World, now: World) -> dict[int, Truth]:
    """Each target at its old price where its searches are those of now: what came back from others is not its own gain."""
    assert then.delivery is not None
    bids = now.bids.copy()
    bids[: len(then.bids), :] = then.bids[:, -1:]
    return by_target(
        replace(now, bids=bids, delivery=then.delivery if len(then.campaigns) == len(now.campaigns) else now.delivery)
    )


def _stayed(each: ChangeOutcome, lived: Lived, then: World, now: World) -> float:
    """The part of the clicks of what was stopped that did not come back under other targets."""
    change = each.change
    numbers = {key: int(own["no"]) for key, own in lived.own.settings.things["target"].items()}
    groups = {key: int(own["no"]) for key, own in lived.own.settings.things["ad_group"].items()}
    texts = then.queries.select(pl.col("query_no").cast(pl.Int64), "text")
    count = len(then.pairs)
    pairs = (
        then.pairs.select(pl.col("target_no"), pl.col("query_no").cast(pl.Int64), before="pull")
        .with_columns(after=now.pairs["pull"][:count])
        .join(texts, on="query_no", maintain_order="left")
        .join(
            then.targets.select(pl.col("target_no").cast(pl.Int64), "ad_group_no"),
            on="target_no",
            maintain_order="left",
        )
    )
    if change.match_type.startswith("negative"):
        same = (
            (pl.lit(" ") + pl.col("text") + " ").str.contains(f" {change.target} ", literal=True)
            if change.match_type == "negative_phrase"
            else pl.col("text") == change.target
        )
        mine = same & (pl.col("ad_group_no") == groups[change.campaign, change.ad_group])
    else:
        mine = pl.col("target_no") == numbers[change.campaign, change.ad_group, change.target, change.match_type]
    own = pairs.filter(mine)
    searched = own.filter(pl.col("before") > 0)["query_no"].unique().implode()
    others = pairs.filter(~mine & pl.col("query_no").is_in(searched))
    lost = float((own["before"] - own["after"]).sum())
    # What else was stopped on the same searches came back too; each has its part of that.
    gone = pairs.filter(pl.col("query_no").is_in(searched) & (pl.col("after") < pl.col("before")))
    share = lost / max(1e-9, float((gone["before"] - gone["after"]).sum()))
    back = float((others["after"] - others["before"]).clip(0).sum()) * min(1.0, share)
    return 1 - back / lost if lost > 0 else 1.0


def _placed(each: ChangeOutcome, then: World, now: World) -> float:
    """Profit a day that a placement gained."""
    number = then.campaigns["campaign"].to_list().index(each.change.campaign)
    place = PLACES.index(each.change.placement)
    return _of_place(now, number, place) - _of_place(then, number, place)


def _of_place(world: World, number: int, place: int) -> float:
    assert world.delivery is not None
    shares, prices = world.delivery.shares()[number], world.delivery.prices()[number]
    ease = world.delivery.ease[number]
    whole, mean_price, mean_ease = (
        shares.sum(),
        float(shares @ prices) / shares.sum(),
        float(shares @ ease) / shares.sum(),
    )
    targets = world.targets.filter(pl.col("campaign_no") == number)["target_no"].to_list()
    truths = by_target(world)
    part = shares[place] / whole
    gained = 0.0
    for target in targets:
        truth = truths[int(target)]
        gained += part * (
            truth.clicks * truth.value * ease[place] / mean_ease - truth.spend * prices[place] / mean_price
        )
    return float(gained)


def sums_of(rows: Sequence[Judged], found: Sequence[Outcomes]) -> list[tuple[bool | None, bool]]:
    """Sums of ten (or so) changes of a kind each: decided right, wrong (None for too early), and whether decided."""
    size = _SUM_OF.get(rows[0].kind, 10) if rows else 10
    parts = [each for each in rows if each.part is not None and each.part.promised > 0]
    told: list[tuple[bool | None, bool]] = []
    for begun_at in range(0, len(parts) - size + 1, size):
        own = parts[begun_at : begun_at + size]
        total = summed([each.part for each in own if each.part], found[0].response)
        if total.verdict is OutcomeVerdict.TOO_EARLY:
            told.append((None, False))
            continue
        stops = own[0].kind.stops
        true = sum(each.true * (each.promised if stops else 1.0) for each in own)
        right = true > 0 if total.verdict is OutcomeVerdict.KEPT else true < total.promised / 2
        told.append((right, True))
    return told


def measured(seeds: Sequence[int], days: int) -> list[tuple[str, list[Judged], Outcomes]]:
    """Each brand of each seed."""
    entries = []
    for seed in seeds:
        for spec in BRANDS:
            began = time.perf_counter()
            with tempfile.TemporaryDirectory() as var:
                conf = config.load({"REEF_VAR": var, "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3666))})
                with wiring.running_store(conf) as store:
                    entries.append((f"{spec.name} {seed}", *_one(store, spec, seed, days, Path(var))))
            print(f"{spec.name} {seed}: {time.perf_counter() - began:.0f} s", file=sys.stderr)
    return entries


def _one(store: Store, spec: BrandSpec, seed: int, days: int, folder: Path) -> tuple[list[Judged], Outcomes]:
    lived = begun(store, account_of(store, spec, f"{spec.key}-{seed}"), spec, seed, DAYS, LAST, folder)
    rows, found = account(lived, days)
    return [*rows, *ads_alone(lived, days)], found


def page(entries: Sequence[tuple[str, list[Judged], Outcomes]], days: int) -> list[str]:
    """The page."""
    lines = [
        "# Outcome, measured",
        "",
        f"Simulated accounts are audited once, all that is proposed on targets, search terms and placements is sent, and {days}",
        f"days later each change is judged. {len(entries)} accounts. Right: kept and it truly gained, or did not and it truly",
        "gained under half of its promise; of pauses and negatives more, or less, than half of the spend stayed away.",
        "`make truth` writes this page.",
        "",
        "| changes | judged | right / wrong / too early, % | the design’s worlds | sums of 10 (raises 20): right / wrong / too early |",
        "|---|---|---|---|---|",
    ]
    for kind in DESIGNED:
        rows = [each for _, own, _ in entries for each in own if each.kind is kind]
        told = [each for each in rows if each.verdict is not OutcomeVerdict.NONE]
        if not told:
            continue
        decided = [each for each in told if each.verdict is not OutcomeVerdict.TOO_EARLY]
        right = sum(each.right for each in decided)
        shares = [100 * part / len(told) for part in (right, len(decided) - right, len(told) - len(decided))]
        sums = [
            each for _, own, found in entries for each in sums_of([one for one in own if one.kind is kind], [found])
        ]
        sure = sum(bool(right) for right, _ in sums)
        wrong = sum(right is False for right, _ in sums)
        totals = f"{sure} / {wrong} / {len(sums) - sure - wrong}" if sums else "–"
        lines.append(
            f"| {kind.value} | {len(told):,} | {shares[0]:.0f} / {shares[1]:.1f} / {shares[2]:.0f} | {DESIGNED[kind]} | {totals} |"
        )
    lines += [
        "",
        "By account, of all kinds together: right / wrong / too early, and what sums came to per 30 days.",
        "",
    ]
    for name, own, found in entries:
        told = [each for each in own if each.verdict is not OutcomeVerdict.NONE]
        decided = [each for each in told if each.verdict is not OutcomeVerdict.TOO_EARLY]
        right = sum(each.right for each in decided)
        bids = [each for each in own if each.part and not each.kind.stops and each.kind is not OutcomeKind.NEW]
        total = summed([each.part for each in bids if each.part], found.response)
        true = sum(each.true for each in bids)
        low, high = total.range
        lines.append(
            f"- {name}: {right} / {len(decided) - right} / {len(told) - len(decided)}; prices promised {30 * total.promised:,.0f},"
            f" came {30 * total.result:,.0f} ({30 * low:,.0f} to {30 * high:,.0f}), truly {30 * true:,.0f}"
        )
    return lines


def main() -> None:
    """Prints the page, or writes it to docs/outcome.md."""

    def asked(name: str, usual: int) -> int:
        return int(sys.argv[sys.argv.index(name) + 1]) if name in sys.argv else usual

    first, days = asked("--first", FIRST_SEED), asked("--days", 14)
    entries = measured(range(first, first + asked("--seeds", 5)), days)
    text = "\n".join(page(entries, days)) + "\n"
    if "--write" in sys.argv:
        OUT.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
