"""Words of search terms: normal form, plurals, what names a product."""

import polars as pl
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
    [
        ("berries", "berry"),
        ("boxes", "box"),
        ("dishes", "dish"),
        ("lamps", "lamp"),
        ("glass", "glass"),
        ("cactus", "cactus"),
        ("iris", "iris"),
        ("gas", "gas"),
        ("torches", "torch"),
    ],
)
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


TERMS = st.lists(
    st.tuples(
        st.integers(1, 6),
        st.lists(st.sampled_from(["led", "Lights", "light", "berry", "berries", "box"]), min_size=1, max_size=5),
        st.integers(0, 2),
        st.integers(0, 50),
    ),
    max_size=12,
)


@given(TERMS)
def test_phrases_sum_every_row_that_holds_them_once(rows):
    """Against a plain count: n-grams as sets, each term's rows added to each of its phrases."""
    texts = {number: " ".join(words_of) for number, words_of, _, _ in rows}
    frame = pl.DataFrame(
        [{"normal_id": n, "term": texts[n], "orders": orders, "spend": spend} for n, _, orders, spend in rows],
        schema={"normal_id": pl.UInt32, "term": pl.String, "orders": pl.Int64, "spend": pl.Int64},
    )
    wanted = {}
    for number, text in texts.items():
        stems = words.words(text)
        runs = {" ".join(stems[start : start + n]) for n in (1, 2, 3) for start in range(len(stems) - n + 1)}
        mine = [row for row in rows if row[0] == number]
        for run in runs:
            orders, spend, terms, held = wanted.get(run, (0, 0, 0, []))
            own = sum(r[3] for r in mine)
            wanted[run] = orders + sum(r[2] for r in mine), spend + own, terms + 1, [*held, (-own, text)]
    spelt = pl.DataFrame(
        {
            "normal_id": list(texts),
            "word": words.spelling(pl.Series([words.normal_form(each) for each in texts.values()], dtype=pl.String)),
        }
    )
    tokens = (
        spelt.with_columns(pl.col("normal_id").cast(pl.UInt32), pl.col("word").cast(pl.List(pl.String)))
        .explode("word")
        .drop_nulls()
    )
    vocabulary = tokens.select(pl.col("word").unique().sort()).with_row_index("word_id")
    assert {row[0]: tuple(row[1]) for row in spelt.rows()} == {
        number: words.words(text) for number, text in texts.items()
    }
    found = words.by_phrase(
        frame,
        tokens.join(vocabulary, on="word", maintain_order="left").select("normal_id", "word_id"),
        vocabulary,
        ["orders", "spend"],
    )
    assert {row["phrase"]: (row["orders"], row["spend"], row["terms"], row["example"]) for row in found.to_dicts()} == {
        phrase: (*sums, min(held)[1])  # the dearest, of equally dear ones the first by name
        for phrase, (*sums, held) in wanted.items()
        if sums[2] > 1
    }
    assert all(row["length"] == len(row["phrase"].split()) for row in found.to_dicts())


def test_a_phrase_is_found_as_it_is_spelt_in_the_term():
    assert words.spelt("LED Grow-Lights for berries", "grow light") == "grow lights"
    assert words.spelt("led lamp", "grow light") is None


def test_a_name_of_several_words_is_named_by_all_of_them():
    """An own word alone names its brand; of a rival of two words one is not enough."""
    texts = pl.Series(["Fern lamps", "briar cliff lamp", "cliff lamp", "", "BRIAR fern cliff"])
    told = words.naming(texts.str.to_lowercase(), {"fern"}, [("briar", "cliff")])
    assert told["own"].to_list() == [True, False, False, False, True]
    assert told["rival"].to_list() == [False, True, False, False, True]
    assert not words.naming(texts, set(), []).to_numpy().any()


def test_a_family_is_called_by_the_words_that_all_its_titles_begin_with():
    titles = ["Acme Planter 20 cm, slate", "Acme Planter 20 cm, moss", "Acme Planter 30 cm, moss"]
    assert words.common_start(titles, "Acme") == "Planter"
    assert words.common_start(titles[:2], "Acme") == "Planter 20 cm"
    assert words.common_start(["one", "other"]) == ""
    assert words.common_start([]) == ""


@pytest.mark.parametrize(
    ("text", "shape"),
    [("TM0040117", "a2d7"), ("tm0040117", "a2d7"), ("grow light", ""), ("lamp", ""), ("25w", ""), ("planter", "")],
)
def test_an_item_id_is_known_by_how_it_is_built(text, shape):
    assert words.item_shape(text) == shape


@given(st.lists(st.text(max_size=12)))
def test_normal_forms_are_those_of_each(texts):
    """Also where some are plain and some are not."""
    given_ones = [*texts, "A \t b\x1c", "Ⅷ x", ""]
    assert words.normal_forms(pl.Series(given_ones)).to_list() == [words.normal_form(each) for each in given_ones]


def test_of_equally_dear_terms_the_first_by_name_is_the_example():
    """Whatever order a join leaves them in, so that a page loaded twice says the same."""
    ids = {"normal_id": pl.UInt32, "word_id": pl.UInt32}
    terms = {"normal_id": [1, 2], "term": ["zeta led", "alpha led"], "orders": [0, 0], "spend": [5, 5]}
    tokens = pl.DataFrame({"normal_id": [1, 1, 2, 2], "word_id": [3, 1, 2, 1]}, schema_overrides=ids)
    vocabulary = pl.DataFrame({"word_id": [1, 2, 3], "word": ["led", "alpha", "zeta"]}, schema_overrides=ids)
    found = words.by_phrase(pl.DataFrame(terms, schema_overrides=ids), tokens, vocabulary, ["orders", "spend"])
    assert found["example"].to_list() == ["alpha led"]
