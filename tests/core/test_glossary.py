"""The glossary: whatever is shown has an entry, and nothing has two names."""

import re
from collections import Counter

import pytest

from nimbus_reef.core.checks import CHECKS
from nimbus_reef.core.evidence import meaning
from nimbus_reef.core.glossary import GLOSSARY, definition, groups
from nimbus_reef.core.metrics import METRICS, SHOP_METRICS, TACOS
from nimbus_reef.core.model import SimpleVerdict, Verdict


@pytest.mark.parametrize(
    "name",
    [
        *(each.label for each in (*METRICS.values(), *SHOP_METRICS, TACOS)),
        *Verdict,
        *SimpleVerdict,
        *(each.title for each in CHECKS.values()),
    ],
)
def test_every_metric_verdict_and_check_has_an_entry(name):
    assert GLOSSARY[name].definition.endswith("."), name
    assert definition(name)


def test_no_two_entries_mean_the_same_and_no_word_has_two():
    terms = [each for group in groups().values() for each in group]
    assert len(terms) == len(GLOSSARY)
    for what in ("name", "definition"):
        twice = [text for text, count in Counter(getattr(each, what).lower() for each in terms).items() if count > 1]
        assert not twice
    formulas = Counter(each.formula for each in terms if each.formula)
    assert all(count == 1 for count in formulas.values())


def test_a_formula_names_what_has_an_entry():
    for each in GLOSSARY.values():
        for part in re.split(r" ÷ ", each.formula) if each.formula else ():
            assert part in GLOSSARY, (each.name, part)


def test_a_definition_holds_the_formula_and_is_empty_for_a_word_that_is_not_there():
    assert definition("ACOS") == "Advertising cost of sale: spend ÷ sales"
    assert definition("no such word") == ""


def test_every_verdict_says_what_it_means():
    assert {meaning(each.value) for each in (*Verdict, *SimpleVerdict)}.isdisjoint({""})
