"""Sets of rivals by name."""

from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.rival_sets import named, with_set


def test_a_set_is_kept_replaced_and_forgotten():
    lines = with_set(with_set((), "large ones", ["TM1", "TM2"]), "cheap", ["TM3"])
    assert lines == ("large ones = TM1 TM2", "cheap = TM3")
    assert with_set(lines, "cheap", ["TM4", "TM5"]) == ("large ones = TM1 TM2", "cheap = TM4 TM5")
    assert with_set(lines, "large ones", ()) == ("cheap = TM3",)


def test_what_is_no_set_says_nothing():
    assert named(["", "no sign", "= TM1", "empty =", "a = TM1"]) == {"a": ("TM1",)}


NAMES = st.text("abc XY-1", min_size=1).map(str.strip).filter(bool)
ITEMS = st.lists(st.from_regex("TM[0-9]{1,4}", fullmatch=True), min_size=1, max_size=5)


@given(st.dictionaries(NAMES, ITEMS, max_size=5))
def test_what_is_kept_is_read_again(sets):
    lines = ()
    for name, items in sets.items():
        lines = with_set(lines, name, items)
    assert named(lines) == {name: tuple(items) for name, items in sets.items()}
