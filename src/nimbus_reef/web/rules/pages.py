"""Own rules as their page shows them, what each meets now, and what running them comes to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis import own_actions
from nimbus_reef.analysis.tables import Field, Filter, parse_filters, search_condition
from nimbus_reef.core import own_limits
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import SETS_GOAL, SETS_LIMITS, NoSale, RowAction, Value, first_met
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import own_limits as store_limits
from nimbus_reef.store.people import rules
from nimbus_reef.store.people.rules import Rule
from nimbus_reef.web.kit.actions import (
    WORDS,
    done_words,
    entered,
    in_words,
    is_endless,
    no_sale_question,
    value_words,
    without_sale_out,
)
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, chosen, with_fields
from nimbus_reef.web.kit.opened import KINDS_OF_ROWS
from nimbus_reef.web.rules.register import LISTS, TITLES, acted

CONDITIONS: Final = 5
"""So many conditions the form has room for, and one more than a rule has."""
SCHEDULES: Final[Mapping[int, str]] = {0: "by hand", 7: "every week", 14: "every two weeks", 30: "every month"}


@dataclass(frozen=True, slots=True)
class RuleLine:
    """
    A rule in words. meets: how many rows meet it; acts: how many of them no earlier rule does; wrong: why it cannot be
    applied here, where it cannot.
    """

    id: int
    conditions: tuple[str, ...]
    does: str
    no_sale: str
    when: str
    everywhere: bool
    meets: str = ""
    acts: str = ""
    wrong: str = ""


@dataclass(frozen=True, slots=True)
class RuleForm:
    """What the form is filled with: a rule that is changed, or an empty one."""

    id: int
    conditions: tuple[tuple[str, ...], ...]
    query: str
    action: str
    value: str
    no_sale: str
    every: int
    everywhere: bool


@dataclass(frozen=True, slots=True)
class RulesView:
    """
    The rules of a list in their order. fields: what conditions are about; actions, schedules: what is offered; ran:
    when they were last run.
    """

    view: str
    title: str
    thing: str
    views: Mapping[str, str]
    lines: Sequence[RuleLine]
    form: RuleForm
    fields: Mapping[str, Field]
    actions: Sequence[tuple[str, str]]
    schedules: Mapping[int, str]
    ran: str


def page(ask: Context, view: str, rule_id: int = 0) -> RulesView:
    """The view; rule_id: the rule that is being changed."""
    spec, actions = acted(view)
    known = rules.of_view(ask.facts.store, ask.account.id, view)
    _, fields = with_fields(_wide(ask, spec, ()), spec)
    count = ask.figures.count
    lines = [
        replace(line(each.rule, fields, spec, ask), meets=count(each.every), acts=count(len(each.rows)))
        for each in met(ask, view)
    ]
    ran = rules.runs(ask.facts.store, ask.account.id).get(view)
    return RulesView(
        view,
        TITLES[view],
        KINDS_OF_ROWS[view],
        {name: TITLES[name] for name in LISTS},
        lines,
        _form(ask, spec, next((each for each in known if each.id == rule_id), None)),
        fields,
        [(each.value, WORDS[each]) for each in actions.offered],
        SCHEDULES,
        ask.figures.day(ran.date()) if ran else "",
    )


def line(rule: Rule, fields: Mapping[str, Field], spec: ListSpec, ask: Context) -> RuleLine:
    """A rule in words."""
    try:
        labels = [each.label(ask.figures.symbol) for each in parse_filters(rule.conditions, fields)]
        wrong = ""
    except BadInput as why:
        labels, wrong = [each.replace(":", " ") for each in rule.conditions], str(why)
    if rule.query:
        labels.append(f"contains “{rule.query}”")
    action, value = done(rule, spec)
    no_sale = {NoSale.ABOVE.value: "no sale counts as above", NoSale.OUT.value: "no sale is left out"}
    return RuleLine(
        rule.id,
        tuple(labels),
        done_words(action, value),
        no_sale.get(rule.no_sale, ""),
        SCHEDULES.get(rule.every, f"every {rule.every} days"),
        rule.everywhere,
        wrong=wrong,
    )


def done(rule: Rule, spec: ListSpec) -> tuple[RowAction, Value]:
    """What a rule does."""
    assert spec.actions is not None, "only lists that are acted on have rules"
    return entered(spec.actions, rule.action, rule.value, "en")


def _form(ask: Context, spec: ListSpec, rule: Rule | None) -> RuleForm:
    """The form, filled with a rule, or with what the table is filtered by."""
    conditions = rule.conditions if rule else ask.scope.where
    split = [(*each.split(":", 2), "", "")[:3] for each in conditions]
    rows = (*split, *[("", "", "")] * max(1, CONDITIONS - len(split)))
    if rule is None:
        return RuleForm(0, rows, ask.scope.query, "", "", "", 0, False)
    value = value_words(*done(rule, spec))
    return RuleForm(rule.id, rows, rule.query, rule.action, value, rule.no_sale, rule.every, rule.everywhere)


def read(ask: Context, view: str, form: Mapping[str, str], conditions: Sequence[str]) -> Rule:
    """The rule of a form; BadInput for what cannot be meant."""
    spec, actions = acted(view)
    action, value = entered(actions, form.get("do", ""), form.get("value", ""), ask.account.locale)
    if action in SETS_LIMITS:
        raise BadInput("A rule sets no limit.", remedy="Select the rows on their table and set it there.")
    _, fields = with_fields(_wide(ask, spec, conditions), spec)
    filters = parse_filters(conditions, fields)
    query, no_sale = form.get("q", "").strip(), form.get("none", "")
    if not filters and not query:
        raise BadInput("A rule needs a condition.", remedy="Choose a metric, a comparison and a value.")
    if no_sale not in tuple(NoSale):
        raise BadInput(f"“{no_sale}” is not an option for rows without a sale.", remedy="Choose from the list.")
    if is_endless(filters) and not no_sale:
        raise BadInput(
            "ACOS has no upper limit here. Rows without a sale: are they meant?",
            remedy="Choose “count as above” or “leave out”.",
        )
    text = value_words(action, value)
    every = next((days for days in SCHEDULES if str(days) == (form.get("every") or "0")), None)
    if every is None:
        raise BadInput(f"“{form['every']}” is not a schedule.", remedy="Choose from the list.")
    return Rule(view, tuple(each.text for each in filters), query, action.value, text, no_sale, every)


def words_of(ask: Context, rule: Rule) -> str:
    """A rule in one line, as the change sheet and the trail have it."""
    spec, _ = acted(rule.view)
    told = line(rule, with_fields(_wide(ask, spec, rule.conditions), spec)[1], spec, ask)
    return f"own rule: {', '.join(told.conditions)} → {told.does}"


def _wide(ask: Context, spec: ListSpec, conditions: Sequence[str]) -> Context:
    """The same account and period with all rows of a list, and the marks that conditions ask for."""
    own = tuple(spec.actions.own.items()) if spec.actions else ()
    return replace(ask, scope=replace(ask.scope, where=tuple(conditions), query="", sort="", own=own))


@dataclass(frozen=True, slots=True)
class MetRows:
    """The rows that a rule acts on: those it meets and no earlier one did. every: those it meets at all."""

    rule: Rule
    rows: pl.DataFrame
    every: int


def met(ask: Context, view: str) -> list[MetRows]:
    """What each rule of a list acts on now, in their order. Rules that cannot be applied here meet nothing."""
    spec, _ = acted(view)
    known = rules.of_view(ask.facts.store, ask.account.id, view)
    rows, fields = with_fields(_wide(ask, spec, [text for each in known for text in each.conditions]), spec)
    conditions = [_condition(each, rows, fields, spec) for each in known]
    places = rows.with_columns(first_met(conditions))["tier"]
    return [
        MetRows(each, rows.filter(places == place), int(rows.select(conditions[place].sum()).item()))
        for place, each in enumerate(known)
    ]


def _condition(rule: Rule, rows: pl.DataFrame, fields: Mapping[str, Field], spec: ListSpec) -> pl.Expr:
    try:
        filters = parse_filters(rule.conditions, fields)
    except BadInput:
        return pl.lit(False)
    found = pl.all_horizontal(pl.lit(True), *(each.condition() for each in filters))
    if rule.query:
        found &= search_condition(rule.query, spec.searched)
    out = rule.no_sale == NoSale.OUT or (not rule.no_sale and is_endless(filters))
    if out and "sales" in rows.columns:
        found &= pl.col("sales") > 0
    return found.fill_null(False)


def ran(ask: Context, view: str, *, raises: bool) -> list[Proposal]:
    """What the rules of a list come to now, in their order, each with its rule as the reason."""
    spec, actions = acted(view)
    here = _wide(ask, spec, ())
    found: list[Proposal] = []
    for each in met(ask, view):
        if len(each.rows):
            action, value = done(each.rule, spec)
            made = actions.do(here, each.rows, action, value, raises)
            found += own_actions.called(made, words_of(ask, each.rule))
    if not found:
        raise BadInput("No row meets a rule now.", remedy="Change a rule, or choose another period.")
    return found


def limits_set(ask: Context, view: str, keys: Sequence[str] | None, form: Mapping[str, str], person_id: int) -> str:
    """Sets or takes back a limit of the selected rows, or of all filtered ones, and says what was done."""
    spec, actions = acted(view)
    action, value = entered(actions, form.get("do", ""), form.get("value", ""), ask.account.locale)
    rows = chosen(ask, spec, keys)
    names = list(dict.fromkeys(own_limits.name_of(actions.level, row) for row in rows.to_dicts()))
    until = date.fromisoformat(str(value)) if action is RowAction.GOAL_LEAVE and value else None
    what, amount = action.value, None if value is None or until else float(value)
    if action is RowAction.TARGET_ACOS:
        what = store_limits.TARGET_ACOS
    if action in SETS_GOAL:
        what, amount = own_limits.Limit.GOAL, own_limits.place_of(SETS_GOAL[action])
    store_limits.set_limits(ask.facts.store, ask.account.id, person_id, actions.level, names, what, amount, until)
    things = ask.figures.counted(len(names), actions.level)
    if action in SETS_GOAL:
        return f"{WORDS[action]}{f' until {ask.figures.day(until)}' if until else ''}: {things}."
    return f"{done_words(action, value)}: set for {things}." if amount else f"{WORDS[action]}: removed from {things}."


@dataclass(frozen=True, slots=True)
class Acted:
    """What an action chosen by hand comes to, and the questions that it leaves open."""

    proposals: Sequence[Proposal]
    notice: Mapping[str, str]


def by_hand(ask: Context, view: str, keys: Sequence[str] | None, form: Mapping[str, str], *, raises: bool) -> Acted:
    """What an action does to the selected rows, or to all that are filtered."""
    spec, actions = acted(view)
    action, value = entered(actions, form.get("do", ""), form.get("value", ""), ask.account.locale)
    if missing := [value for name, value in actions.own.items() if ask.scope.own_value(name) != value]:
        raise BadInput(f"These rows are not by {missing[0]}.", remedy=f"Choose “by {missing[0]}” first.")
    no_sale = NoSale(form.get("none", "")) if form.get("none", "") in tuple(NoSale) else NoSale.ASK
    rows = chosen(ask, spec, keys)
    conditions = _conditions_of(ask, spec) if keys is None else []
    notice = no_sale_question(rows, conditions, no_sale, ask.figures)
    kept = without_sale_out(rows, conditions, no_sale)
    made = actions.do(ask, kept, action, value, raises or len(kept) == 1) if len(kept) else []
    query = ask.scope.query if keys is None else ""
    called = own_actions.called(made, in_words(conditions, query, action, value, ask.figures.symbol))
    return Acted(called, notice)


def _conditions_of(ask: Context, spec: ListSpec) -> list[Filter]:
    """The filters of the table that rows were chosen by."""
    return parse_filters(ask.scope.where, with_fields(ask, spec)[1])
