"""Every reason that the core can give has words, on one row and on many."""

import pytest

from nimbus_reef.core.bids import Reason, ReasonKey
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.judged_rows import why_nothing
from nimbus_reef.web.targeting import drawer

EURO = Figures("en_IE", "EUR")
_DECIDES = {"has_orders", "its_product", "its_words", "raise_without_order"}


@pytest.mark.parametrize("key", list(ReasonKey))
def test_every_reason_has_words(key):
    said = drawer.reason_words(Reason(key, (3.0, 2.0, 0.5, 1.2)), EURO)
    assert len(said) > 8
    assert key.value not in said or "_" not in key.value


def test_every_reason_for_doing_nothing_is_said_of_many_rows_too():
    """
    What stands first in a proposal that does nothing: from the core's own sources, so that a new
    one cannot be missed.
    """
    import re
    from pathlib import Path

    from nimbus_reef import core

    found = set()
    for file in [*Path(core.__file__).parent.glob("*.py"), *(Path(core.__file__).parents[1] / "analysis").glob("*.py")]:
        text = file.read_text(encoding="utf-8")
        for said in re.findall(r"(?:Move\.NONE, \(|_nothing\()(?:[^()]|\([^()]*\))*", text):
            found |= set(re.findall(r"ReasonKey\.([A-Z_]+)", said))
    assert len(found) > 12
    for name in found:
        assert why_nothing(ReasonKey[name]) != "their evidence says why", name
