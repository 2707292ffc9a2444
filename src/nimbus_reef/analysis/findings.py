"""What is found in an account: every check of the register, what is put away left out."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.judged import TARGET_ID, TERM_ID, asked_of_helper
from nimbus_reef.analysis.readings import READERS, reading
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import checks
from nimbus_reef.core import findings as findings_rules
from nimbus_reef.core.checks import AreaKey, Check, Money, Overlap, Reading, Subject
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading import campaign_frames, target_frames, word_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts

SOURCES: Final = (*TARGET_SOURCES, "product_ad_daily", "placement_daily")
"""Reports that findings come from."""


@dataclass(frozen=True, slots=True)
class Group:
    """The findings of one check, largest first. rows: as its reading has them, and members, the row_ids behind each."""

    check: Check
    rows: pl.DataFrame

    @property
    def stake(self) -> int:
        """Micro-units per 30 days."""
        return int(self.rows["stake"].sum())


@dataclass(frozen=True, slots=True)
class Findings:
    """
    Everything found that is not put away. overspend: per 30 days, the same money once;
    spend, sales: of all targets in the window; hidden: what is away now.
    """

    groups: tuple[Group, ...]
    overspend: int
    spend: int
    sales: int
    hidden: tuple[PutAway, ...]

    @property
    def missed(self) -> int:
        """Sales that are missed, micro-units per 30 days; never added to the overspend."""
        return findings_rules.missed([(group.check, group.rows) for group in self.groups])

    def of_area(self, area: AreaKey) -> tuple[Group, ...]:
        """The findings whose money is found in an area and stands in no headline."""
        own = [group for group in self.groups if group.check.money is Money.OWN]
        return tuple(group for group in own if group.check.area is area)

    def missed_in(self, area: AreaKey) -> int:
        """Sales that are missed by what is found in an area, micro-units per 30 days."""
        missed = (group for group in self.groups if group.check.money is Money.MISSED)
        return sum(group.stake for group in missed if group.check.area is area)

    def at_stake(self, area: AreaKey) -> int:
        """The most that one kind of rows has at stake in an area: what different kinds find may be the same money."""
        sums: dict[Reading, int] = {}
        for group in self.groups:
            if group.check.area is area and group.check.money in (Money.OWN, Money.OVERSPEND):
                sums[group.check.reads] = sums.get(group.check.reads, 0) + group.stake
        return max(sums.values(), default=0)

    def count(self) -> int:
        """How many findings there are."""
        return sum(len(group.rows) for group in self.groups)


def findings(facts: Facts, selection: Selection, away: Sequence[PutAway], today: date) -> Findings:
    """The findings of a look, those put away left out while their time runs."""

    def make() -> Findings:
        hidden = tuple(each for each in away if _still_away(facts, selection, each, today))
        result = without(facts, selection, hidden)
        # The same rows may have been brought back and put away anew, with another reason.
        return replace(result, hidden=hidden)

    return facts.kept(_NOW, selection.account.id, make, *_key(selection), _away_on(away, today))


_NOW: Final = "findings now"


def without(facts: Facts, selection: Selection, hidden: tuple[PutAway, ...]) -> Findings:
    """The findings of a look but for those that are hidden."""
    names = frozenset((each.check, each.row_id) for each in hidden)
    large = asked_of_helper(
        facts, selection, "findings", facts.target_source(selection.account.id, selection.window).kind, hidden
    )
    return facts.kept(
        "findings",
        selection.account.id,
        lambda: _findings(facts, selection, hidden),
        *_key(selection),
        names,
        asked=large,
    )


def _away_on(away: Sequence[PutAway], today: date) -> tuple[PutAway, ...]:
    """What may be away on a day, before anybody counts clicks for it."""
    return tuple(each for each in away if each.until_day is None or today < each.until_day)


def findings_known(facts: Facts, selection: Selection, away: Sequence[PutAway], today: date) -> Findings | None:
    """The findings of a look where they were worked out since the last load; else None."""
    known: Findings | None = facts.known(_NOW, selection.account.id, *_key(selection), _away_on(away, today))
    return known


def _key(selection: Selection) -> tuple[Hashable, ...]:
    """The days compared with do not matter: see `readings`."""
    return (*selection.judging, selection.part, selection.account.settings.unwanted_words)


def _findings(facts: Facts, selection: Selection, hidden: tuple[PutAway, ...]) -> Findings:
    counted = [each for each in READERS if each.overlap is not None]
    asked = dict.fromkeys((*counted, *(check.reads for check in checks.CHECKS.values())))
    read = {each: reading(facts, selection, each) for each in asked}
    ignored = {each: set[str]() for each in asked}
    groups = []
    for check in checks.CHECKS.values():
        rows = _gathered(check, checks.run(check, read[check.reads]).rows)
        away = pl.col("row_id").is_in([each.row_id for each in hidden if each.check == check.key])
        ignored[check.reads] |= set(rows.filter(away)["members"].explode().drop_nulls())
        groups.append(Group(check, rows.filter(~away)))
    groups.sort(key=lambda group: (not group.check.urgent, group.check.money is Money.EARNED, -group.stake))
    account, window = selection.account, selection.window
    at_stake = {each: _unstaked(read[each], ignored[each]) for each in counted}
    targets, terms = at_stake[Reading.TARGETS], at_stake[Reading.TERMS]
    over = {
        level: [_over(each, rows) for each, rows in at_stake.items() if each.overlap is level]
        for level in (Overlap.AD_GROUP, Overlap.CAMPAIGN)
    }
    put_away = [
        _over(each, read[each].filter(pl.col("row_id").is_in(list(ignored[each])))).select("campaign_id", "stake")
        for each in (Reading.TARGETS, Reading.TERMS)
    ]
    total = findings_rules.overspend(
        targets,
        terms,
        target_frames.term_shares(facts, account.id, window),
        month_factor(facts.monthly_days(account.id, facts.target_source(account.id, window).kind, window)),
        _caps(facts, selection),
        ad_groups=over[Overlap.AD_GROUP],
        campaigns=over[Overlap.CAMPAIGN],
        away=pl.concat(put_away),
    )
    whole = targets if len(targets) else _campaigns(facts, selection)
    return Findings(
        tuple(group for group in groups if len(group.rows)),
        total.total,
        int(whole["spend"].sum()),
        int(whole["sales"].sum()),
        hidden,
    )


def _over(of: Reading, rows: pl.DataFrame) -> pl.DataFrame:
    """The rows whose stake is overspend: the flagged ones, or where nothing is judged those that a check finds."""
    if "verdict" in rows.columns:
        return rows.filter(flagged())
    found = [each.condition for each in checks.CHECKS.values() if (each.reads, each.money) == (of, Money.OVERSPEND)]
    return rows.filter(pl.any_horizontal(found)) if found else rows.clear()


def _campaigns(facts: Facts, selection: Selection) -> pl.DataFrame:
    """What campaigns did by the report that totals come from, where targets are not held."""
    account, window = selection.account, selection.window
    source = facts.total_source(account.id, [window])
    if source is None:
        return pl.DataFrame(schema={"spend": pl.Int64, "sales": pl.Int64})
    return selection.within(facts, campaign_frames.campaign_sums(facts, account.id, window, source))


def _caps(facts: Facts, selection: Selection) -> pl.DataFrame:
    """What each campaign spends a month by the report that totals come from: campaign_id, cap (micro-units)."""
    account, window = selection.account, selection.window
    source = facts.total_source(account.id, [window])
    if source is None:
        return pl.DataFrame(schema={"campaign_id": pl.UInt32, "cap": pl.Int64})
    monthly = month_factor(facts.monthly_days(account.id, source, window))
    sums = campaign_frames.campaign_sums(facts, account.id, window, source)
    return sums.select("campaign_id", cap=(pl.col("spend") * monthly).floor().cast(pl.Int64))


def _gathered(check: Check, rows: pl.DataFrame) -> pl.DataFrame:
    if "members" in rows.columns:
        return rows
    if not check.gathers or rows.is_empty():
        return rows.with_columns(members=pl.concat_list("row_id"))
    lines = findings_rules.gathered(rows)
    return lines.with_columns(row_id=pl.concat_str("cohort_level", "cohort", separator=":").str.head(64))


def _unstaked(rows: pl.DataFrame, ids: set[str]) -> pl.DataFrame:
    """What somebody has put away is no longer counted as money at stake."""
    return rows.with_columns(
        stake=pl.when(pl.col("row_id").is_in(list(ids))).then(pl.lit(0, pl.Int64)).otherwise("stake")
    )


def _still_away(facts: Facts, selection: Selection, each: PutAway, today: date) -> bool:
    if each.until_day is not None:
        return today < each.until_day
    if each.until_clicks is None:
        return True
    if selection.window.last < each.since:
        return True
    check = checks.CHECKS.get(each.check)
    if check is None:
        return True
    since = selection.at(Window(each.since, selection.window.last))
    return _CLICKS[check.subject](facts, since, each.row_id) < each.until_clicks


def _of_target(facts: Facts, selection: Selection, row_id: str) -> int:
    rows = target_frames.target_sums(facts, selection.account.id, selection.window)
    return int(rows.filter(row_id == TARGET_ID)["clicks"].sum())


def _of_term(facts: Facts, selection: Selection, row_id: str) -> int:
    rows = target_frames.term_sums(facts, selection.account.id, selection.window)
    return int(rows.filter(row_id == TERM_ID)["clicks"].sum())


def _of_word(facts: Facts, selection: Selection, row_id: str) -> int:
    """Of words that stand in the same searches ("diy + plans") any tells which those are."""
    account_id = selection.account.id
    word = word_frames.vocabulary(facts, account_id).filter(pl.col("word") == row_id.split(" + ")[0])
    holding = word_frames.tokens(facts, account_id).join(word, on="word_id", how="semi").select("normal_id")
    rows = target_frames.term_sums(facts, account_id, selection.window)
    return int(rows.join(holding.unique(), on="normal_id", how="semi")["clicks"].sum())


_CLICKS: Final[Mapping[Subject, Callable[[Facts, Selection, str], int]]] = {
    Subject.TARGET: _of_target,
    Subject.TERM: _of_term,
    Subject.PHRASE: _of_word,
}


def waits(check: Check) -> bool:
    """Whether its rows have clicks of their own to wait for, not those of what they gather."""
    return check.accepts and check.subject in _CLICKS and not check.by_itself


def cohort_name(level: str, cohort: str, ad_group: str) -> str:
    """What a cohort that rows are judged in is called."""
    words = {"ad_group_id": f"ad group {ad_group}", "main_product": cohort, "name_part": f"campaigns called {cohort}"}
    return words.get(level, cohort)


def named(check: Check, row: Mapping[str, Any]) -> tuple[str, str]:
    """
    What a finding is called, and where it stands; of a check that gathers a row alone, or what it
    was gathered to.
    """
    if check.reads is Reading.GAPS:
        drags = f"biggest part of {RATED[row['drag_metric']].label}: {row['drag_sku']}"
        return row["name"], drags if row["drag_sku"] else ""
    if check.reads.named:
        return row["name"], row["where"]
    if check.subject is Subject.PHRASE:
        return row["spelt"], f"in {row['word_terms']} search terms"
    name = row["term"] if check.subject is Subject.TERM else row["target"]
    if "cohort_level" in row:
        return cohort_name(row["cohort_level"], row["cohort"], row["ad_group"]), f"largest: {name}"
    return name, f"{row['campaign']} · {row['ad_group']}"


def written_down(found: Findings) -> list[dict[str, Any]]:
    """Every finding as a closed audit keeps it: check, row, name, where, stake."""
    entries = []
    for group in found.groups:
        for row in group.rows.to_dicts():
            name, where = named(group.check, row)
            entries.append(
                {"check": group.check.key, "row": row["row_id"], "name": name, "where": where, "stake": row["stake"]}
            )
    return entries
