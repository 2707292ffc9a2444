"""What is proposed on phrases that were never bought: an exact keyword each, and what its bid follows from."""

from __future__ import annotations

import itertools
import math
from collections.abc import Collection, Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import bid_response
from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.reach.pool import pool
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import market_fit, naming
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.reach import PHRASES
from nimbus_reef.core.market_fit import MarketFit, Parts
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.projection import NOTHING, Projected, Range, total
from nimbus_reef.core.promises import FIRST_DAYS
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Figure, Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.unbought import DAYS
from nimbus_reef.core.windows import month_factor
from nimbus_reef.core.word_groups import shared_words
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import market_frames
from nimbus_reef.store.reading.facts import Facts

VIEW: Final = "phrases"
_PLAIN: Final = (0.95, 1.05)
"""Factors within are not worth a word."""


def rows_of(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[dict[str, Any]]:
    """The rows of the pool with these keys, in their order; NotFound for one that is not there."""
    found = pool(facts, selection)
    order = pl.DataFrame({"row_id": list(keys)}, schema={"row_id": pl.String})
    rows = order.join(found.rows, on="row_id", maintain_order="left") if found else order.clear()
    if len(rows) < len(keys):
        raise NotFound("This phrase is not in the pool: it is bought now, or was left out.", remedy="Reload the list.")
    return rows.to_dicts()


def proposals(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[Proposal]:
    """An exact keyword for each phrase that would pay; else why there is none."""
    rows = rows_of(facts, selection, keys)
    fit = market.fitted(facts, selection.whole)
    if fit is None or not rows:
        return []
    texts = dict(market_frames.word_texts(facts).rows())
    response = bid_response.learned(facts, selection)
    made = []
    for row in rows:
        words = [(word_id, texts[word_id]) for word_id in dict.fromkeys(row["words"])]
        parts = market_fit.parts(fit, row["sku"], words, row["rank"], row["rivals"])
        made.append(_proposal(selection, row, reasons(row, fit, parts), response.is_own))
    return made


def reasons(row: Mapping[str, Any], fit: MarketFit, parts: Parts) -> tuple[Reason, ...]:
    """What a phrase is expected to convert and why, what came without ads, whether it pays and what it would bring."""
    telling: list[Figure] = []
    for name, factor in (*parts.words, ("", parts.rank), ("rivals", parts.rivals)):
        if factor is None and name not in ("", "rivals"):
            telling += [f"“{name}”", None]
        elif factor is not None and not _PLAIN[0] <= factor <= _PLAIN[1]:
            telling += [_called(name, row), factor]
    own = parts.product
    found = [Reason(ReasonKey.PHRASE_PARTS, (row["sku"], fit.mean, own, row["mean"], *telling))]
    if row["free_clicks"]:
        due = row["free_clicks"] * row["mean"]
        found.append(Reason(ReasonKey.PHRASE_FREE, (row["free_clicks"], row["free_orders"], due, row["cvr"])))
    if row["price"] is not None:
        found.append(Reason(ReasonKey.PHRASE_PAYS, (row["price"], row["pays"])))
    if row["gain"] is not None and row["bid"] is not None:
        bare = None if row["multiplier"] == 1 else row["bid"]
        found.append(Reason(ReasonKey.PHRASE_BRINGS, (row["offered"], bare, row["clicks"], row["gain"])))
    return tuple(found)


def _called(name: str, row: Mapping[str, Any]) -> str:
    if name == "rivals":
        return f"{row['rivals_seen']} of {row['rivals_asked']} rivals rank"
    if name:
        return f"“{name}”"
    return "your rank beyond 40" if row["own_rank"] is None or row["rank"] == 3 else f"your rank {row['own_rank']:.0f}"


def _proposal(selection: Selection, row: Mapping[str, Any], why: tuple[Reason, ...], own_answer: bool) -> Proposal:
    subject = EntityKey(
        Subject.NEW_PHRASE, str(row["campaign"] or ""), str(row["ad_group"] or ""), row["phrase"], "exact"
    )
    if row["stays"] is not None:
        held = Reason(ReasonKey.PHRASE_HELD, (row["stays"],))
        return Proposal(subject, row["row_id"], Headline(HeadlineKey.LEAVE), reasons=(held, *why), name=row["phrase"])
    if not row["campaign"]:
        lacks = Reason(ReasonKey.NO_DESTINATION)
        return Proposal(subject, row["row_id"], Headline(HeadlineKey.NO_AD_GROUP), reasons=(lacks, *why))
    effect, rests = _effect(row), _rests_on(row)
    made = change(
        Entity.TARGET,
        "bid",
        row["campaign"],
        f"{row['bid']:.2f}",
        "",
        PHRASES.key,
        Action.CREATE,
        ad_group=row["ad_group"],
        target=row["phrase"],
        match_type="exact",
    )
    usual = () if own_answer else (Reason(ReasonKey.USUAL_ANSWER),)
    return Proposal(
        subject,
        row["row_id"],
        Headline(HeadlineKey.BUY, (row["bid"], row["campaign"], row["ad_group"])),
        ((made, promise(selection, rests, VIEW, row["row_id"], effect)),),
        (*why, *usual),
        effect=effect,
        name=row["phrase"],
        context=Reason(ReasonKey.IN_AD_GROUP, (row["campaign"], row["ad_group"])),
    )


_BUDGET_ROOM: Final = 1.5
"""A campaign's budget leaves so much room over what it is expected to spend."""
_LEAST_BUDGET: Final = 5.0


def campaigns(
    facts: Facts,
    selection: Selection,
    keys: Sequence[str],
    name: str = "",
    budget: float | None = None,
    *,
    by_word: bool = False,
) -> list[Proposal]:
    """
    Phrases that would pay as campaigns of their own, one a product, each taken whole or not at all: exact keywords with
    their bids in an ad group with its product ad. name: of the campaign (with its product behind where they are
    several), else by the naming pattern; budget: a day, else by what they are expected to spend; by_word: one a
    product and shared word.

    Exact keywords of different phrases meet no search together, so nothing has to be kept apart by negatives.
    """
    paying = [row for row in rows_of(facts, selection, keys) if row["stays"] is None]
    if not paying:
        none = Reason(ReasonKey.NONE_WOULD_PAY)
        return [Proposal(EntityKey(Subject.CAMPAIGN), "", Headline(HeadlineKey.LEAVE), reasons=(none,))]
    groups: dict[tuple[str, str], list[dict[str, Any]]] = {}
    for row in paying:
        groups.setdefault((row["sku"], ""), []).append(row)
    if by_word:
        groups = {(sku, word): part for (sku, _), rows in groups.items() for word, part in _by_word(rows).items()}
    taken = set(names.campaign_names(facts, selection))
    made = []
    for (sku, word), rows in groups.items():
        behind = f" · {sku}{' · ' * bool(word)}{word}" if len(groups) > 1 else ""
        called = f"{name}{behind}" if name else _named(facts, selection, sku, word)
        own = _free(called, taken)
        taken.add(own)
        made.append(_campaign(selection, own, sku, rows, budget))
    return made


def _by_word(rows: Sequence[dict[str, Any]]) -> dict[str, list[dict[str, Any]]]:
    """Rows by a word that several phrases share, those that share none under an empty one."""
    groups: dict[str, list[dict[str, Any]]] = {}
    for row, word in zip(rows, shared_words([row["text"].split() for row in rows]), strict=True):
        groups.setdefault(word, []).append(row)
    return groups


def _named(facts: Facts, selection: Selection, sku: str, word: str) -> str:
    """A campaign's name by the account's pattern, what that does not ask for left as it is usual there."""
    pattern = naming.pattern(selection.account.naming)
    told = {"product": sku, "purpose": f"long tail {word}".strip(), "match": "exact"}
    if pattern is None:
        return " · ".join(told.values())
    found = names.parsed(facts, selection)
    usual = {part: values[0][0] for part, values in found.counts.items() if values} if found else {}
    return pattern.written({part: told.get(part, usual.get(part, part)) for part in pattern.parts})


def _free(called: str, taken: Collection[str]) -> str:
    """A name that no campaign has yet."""
    if called not in taken:
        return called
    return next(text for number in itertools.count(2) if (text := f"{called} {number}") not in taken)


def _campaign(
    selection: Selection, name: str, sku: str, rows: Sequence[dict[str, Any]], budget: float | None
) -> Proposal:
    clicks, spend, gain = (sum(row[each] for row in rows) for each in ("clicks", "spend", "gain"))
    usual = max(_LEAST_BUDGET, math.ceil(_BUDGET_ROOM * spend / DAYS))
    amount = usual if budget is None else budget
    typical = sorted(row["offered"] for row in rows)[len(rows) // 2]

    def row_of(entity: Entity, field: str, value: str, **of: str) -> Change:
        return change(entity, field, name, value, "", PHRASES.key, Action.CREATE, **of)

    nothing = promise(selection, NO_BASIS, VIEW, "", NOTHING)
    package = [
        (row_of(Entity.CAMPAIGN, "daily_budget", f"{amount:.2f}"), nothing),
        (row_of(Entity.CAMPAIGN, "targeting", "manual"), nothing),
        (row_of(Entity.CAMPAIGN, "bidding", "fixed"), nothing),
        (row_of(Entity.CAMPAIGN, "offsite_limited", "yes"), nothing),
        (row_of(Entity.AD_GROUP, "default_bid", f"{typical:.2f}", ad_group=sku), nothing),
        (row_of(Entity.PRODUCT_AD, "state", "enabled", ad_group=sku, sku=sku), nothing),
    ]
    effects = []
    for row in rows:
        # A campaign of its own has no adjustments yet: its bids are what is offered.
        bid = max(row["floor"], min(row["offered"], row["ceiling"]))
        about = {"ad_group": sku, "target": row["phrase"], "match_type": "exact"}
        effects.append(_effect(row))
        package.append(
            (
                row_of(Entity.TARGET, "bid", f"{bid:.2f}", **about),
                promise(selection, _rests_on(row), VIEW, row["row_id"], effects[-1]),
            )
        )
    return Proposal(
        EntityKey(Subject.CAMPAIGN, name),
        name[:64],
        Headline(HeadlineKey.BUY_GROUP, (len(rows), amount)),
        tuple(package),
        (Reason(ReasonKey.PHRASES_TOGETHER, (clicks, spend, gain, FIRST_DAYS)),),
        effect=total(effects),
        name=name,
    )


def _effect(row: Mapping[str, Any]) -> Projected:
    """What an exact keyword adds in 30 days."""
    monthly = month_factor(DAYS)
    spend, low, middle, high = (monthly * row[name] for name in ("spend", "sales_low", "sales", "sales_high"))
    return Projected(Range(spend, spend, spend), Range(low, middle, high))


def _rests_on(row: Mapping[str, Any]) -> dict[str, Any]:
    """What the promise of a phrase rests on: no clicks of its own, and its posterior."""
    return NO_BASIS | {
        "prior_a": row["a"],
        "prior_b": row["b"],
        "n": 0,
        "k": 0,
        "shrunk_aov": row["aov"] * MICRO,
        "target_acos": row["target_acos"],
    }
