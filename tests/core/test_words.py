"""Words of search terms: normal form, plurals, what names a product."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import words


def test_normal_form_folds_width_case_and_space():
    assert words.normal_form("  Ｇrow\u00a0 LIGHT ") == "grow light"
    assert words.normal_form("STRASSE") == words.normal_form("straße")


@given(st.text(max_size=40))
def test_normal_form_is_its_own_normal_form(text):
    once = words.normal_form(text)
    assert words.normal_form(once) == once


@pytest.mark.parametrize(
    ("word", "single"),
    [("berries", "berry"), ("boxes", "box"), ("dishes", "dish"), ("lamps", "lamp"), ("glass", "glass"),
     ("cactus", "cactus"), ("iris", "iris"), ("gas", "gas"), ("torches", "torch")],
)  # fmt: skip
def test_plurals(word, single):
    assert words.singular(word) == single


def test_words_split_at_signs_and_keep_letters_of_any_script():
    assert words.words("led-grow_light, 30cm (größe)") == ("led", "grow", "light", "30cm", "grösse")


def test_title_core_leaves_out_brand_sizes_and_digits():
    core = words.title_core("Fernhollow Planters 30 cm, Large", ["Fernhollow", "large"])
    assert core == {"planter", "cm"}
    assert words.names_product("planter", core)
    assert not words.names_product("planter repair", core)
    assert not words.names_product("!!", core)
