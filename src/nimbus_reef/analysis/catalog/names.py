"""Names of campaigns by the account's own pattern: what fits, what breaks it, what breaking names would be called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.delivery.placements import main_products
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import naming
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.naming import ParsedNames
from nimbus_reef.core.projection import NOTHING
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.store.reading import setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "names"


def campaign_names(facts: Facts, selection: Selection) -> list[str]:
    """All campaigns of the account, in order of the alphabet."""
    known = setting_frames.campaign_settings(facts, selection.account.id, selection.window)
    return sorted(known["campaign"].cast(pl.String).to_list())


def suggestion(facts: Facts, selection: Selection) -> str:
    """The pattern that most names keep."""
    return naming.suggested(campaign_names(facts, selection))


def parsed(facts: Facts, selection: Selection, text: str | None = None) -> ParsedNames | None:
    """All names by a pattern, the account's own when none is given; None without one that can be read."""
    pattern = selection.account.naming if text is None else text

    def make() -> ParsedNames | None:
        found = naming.pattern(pattern)
        return None if found is None else naming.parse(found, campaign_names(facts, selection))

    return facts.kept("parsed names", selection.account.id, make, selection.window.last, pattern)


@dataclass(frozen=True, slots=True)
class Rename:
    """A campaign that breaks the pattern and what it might be called; free: no other campaign is called so."""

    name: str
    proposed: str
    free: bool


def renames(facts: Facts, selection: Selection) -> list[Rename]:
    """What breaking names would be called by what is known of the campaign: its main product, its match types."""
    found = naming.pattern(selection.account.naming)
    read = parsed(facts, selection)
    if found is None or read is None:
        return []
    known = {part: [value for value, _ in values] for part, values in read.counts.items()}
    by_key = _told(facts, selection, read.breaks, known)
    taken = set(campaign_names(facts, selection))
    entries = []
    for name in read.breaks:
        proposed = naming.rename(found, name, known, by_key.get(name, {}))
        entries.append(Rename(name, proposed, proposed not in taken))
        taken.add(proposed)
    return entries


def _told(
    facts: Facts, selection: Selection, names: Sequence[str], known: Mapping[str, Sequence[str]]
) -> dict[str, dict[str, str]]:
    """
    By campaign, parts that its reports tell: the match type where it has one; the product whose code starts its main
    SKU.
    """
    targets = target_frames.targets(facts, selection.account.id).filter(
        pl.col("campaign").cast(pl.String).is_in(list(names))
    )
    products = main_products(facts, selection.account.id, selection.window)
    settings = setting_frames.campaign_settings(facts, selection.account.id, selection.window)
    main = dict(
        settings.select("campaign_id", pl.col("campaign").cast(pl.String))
        .join(products, on="campaign_id")
        .select("campaign", "main_product")
        .rows()
    )
    found: dict[str, dict[str, str]] = {}
    for name in names:
        own = targets.filter(pl.col("campaign").cast(pl.String) == name)
        matches = {match for match in own["match_type"].cast(pl.String).unique() if not match.startswith("negative")}
        parts = {}
        if len(matches) == 1:
            parts["match"] = matches.pop()
        elif matches:
            parts["match"] = "mixed"
        sku = main.get(name, "")
        codes = [code for code in known.get("product", ()) if sku.startswith(code)]
        if codes:
            parts["product"] = max(codes, key=len)
        found[name] = parts
    return found


def proposal(selection: Selection, name: str, new: str) -> Proposal:
    """A campaign's new name as a row of the change sheet."""
    renamed = change(Entity.CAMPAIGN, "name", name, new, name, CHECK)
    return Proposal(
        EntityKey(Subject.CAMPAIGN, name),
        name,
        Headline(HeadlineKey.RENAME, (new,)),
        ((renamed, promise(selection, NO_BASIS, "names", name, NOTHING)),),
        (Reason(ReasonKey.BREAKS_PATTERN, (name, selection.account.naming)),),
    )
