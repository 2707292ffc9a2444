"""What is proposed on phrases that were never bought: an exact keyword each, and what its bid follows from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import bid_response
from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.reach.new_campaigns import NewNames, new_campaign
from nimbus_reef.analysis.reach.pool import pool
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import market_fit
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.reach import PHRASES
from nimbus_reef.core.market_fit import MarketFit, Parts
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.outcome import FIRST_DAYS
from nimbus_reef.core.projection import Projected, Range, total
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
    naming = NewNames(facts, selection)
    made = []
    for (sku, word), rows in groups.items():
        behind = f" · {sku}{' · ' * bool(word)}{word}" if len(groups) > 1 else ""
        own = naming.free(f"{name}{behind}" if name else naming.by_pattern(sku, f"long tail {word}".strip()))
        made.append(_campaign(selection, own, sku, rows, budget))
    return made


def _by_word(rows: Sequence[dict[str, Any]]) -> dict[str, list[dict[str, Any]]]:
    """Rows by a word that several phrases share, those that share none under an empty one."""
    groups: dict[str, list[dict[str, Any]]] = {}
    for row, word in zip(rows, shared_words([row["text"].split() for row in rows]), strict=True):
        groups.setdefault(word, []).append(row)
    return groups


def _campaign(
    selection: Selection, name: str, sku: str, rows: Sequence[dict[str, Any]], budget: float | None
) -> Proposal:
    clicks, spend, gain = (sum(row[each] for row in rows) for each in ("clicks", "spend", "gain"))
    keywords = []
    for row in rows:
        # A campaign of its own has no adjustments yet: its bids are what is offered.
        bid = max(row["floor"], min(row["offered"], row["ceiling"]))
        about = {"ad_group": sku, "target": row["phrase"], "match_type": "exact"}
        made = change(Entity.TARGET, "bid", name, f"{bid:.2f}", "", PHRASES.key, Action.CREATE, **about)
        keywords.append((made, promise(selection, _rests_on(row), VIEW, row["row_id"], _effect(row))))
    return new_campaign(
        selection,
        name,
        sku,
        keywords,
        daily=spend / DAYS,
        budget=budget,
        reasons=(Reason(ReasonKey.PHRASES_TOGETHER, (clicks, spend, gain, FIRST_DAYS)),),
        effect=total([_effect(row) for row in rows]),
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
