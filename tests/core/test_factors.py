"""The account's fit: the worked example to its digits, a slow reference, and what must always hold."""

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from tests.core.slow_fit import SlowFit

from nimbus_reef.core import climbing, cohorts, costly_words, evidence, factors, preconditioner, words
from nimbus_reef.core.cohorts import Spelling
from nimbus_reef.core.factors import Cells
from nimbus_reef.core.levels import AD_GROUP, FAMILIES, PRODUCT, TARGET, WORD, Members

EXAMPLE = [
    ("grow light", "P", "G", "t1", 200, 18),
    ("grow lights strip", "P", "G", "t2", 60, 5),
    ("aquarium light", "P", "G", "t2", 40, 0),
    ("aquarium grow light", "P", "G", "t2", 30, 1),
    ("reptile lamp", "P", "G", "t2", 25, 0),
    ("grow lamp", "P", "G", "t1", 80, 7),
    ("plant stand", "Q", "H", "t3", 150, 9),
    ("aquarium stand", "Q", "H", "t4", 35, 0),
    ("plant disk_cache", "Q", "H", "t3", 60, 4),
    ("wooden plant stand", "Q", "H", "t4", 50, 3),
]
NEEDED = 0.06
#        m         u         s_r      cohort   P_over   P without words
PRINTED = {
    "grow light": (0.053468, 0.429901, 19.3573, 0.049976, 0.06658, 0.06765),
    "grow lights strip": (0.042788, 0.419568, 22.0343, 0.050509, 0.36866, 0.37035),
    "aquarium light": (0.059457, 0.388109, 19.5564, 0.066158, 0.96305, 0.95814),
    "aquarium grow light": (0.052253, 0.463946, 18.6045, 0.059518, 0.79353, 0.78690),
    "reptile lamp": (0.061460, 0.319579, 21.8053, 0.064828, 0.89562, 0.90487),
    "grow lamp": (0.055435, 0.422730, 19.1927, 0.051778, 0.22883, 0.23161),
    "plant stand": (0.053360, 0.448268, 18.8314, 0.054463, 0.55428, 0.55029),
    "aquarium stand": (0.059391, 0.421959, 18.4768, 0.064562, 0.95295, 0.94218),
    "plant disk_cache": (0.054606, 0.360991, 21.4759, 0.053719, 0.50098, 0.50152),
    "wooden plant stand": (0.047583, 0.448416, 20.0249, 0.053760, 0.60997, 0.60155),
}


def terms_of(rows):
    return pl.DataFrame(
        [
            {
                "normal_id": term,
                "ad_group_id": group,
                "target_id": f"{group} {target}",
                "clicks": n,
                "orders": k,
                "spend": n * 1_000_000,
            }
            for term, _, group, target, n, k in rows
        ],
        schema_overrides={"clicks": pl.Int64, "orders": pl.Int64, "spend": pl.Int64},
    )


def spelling_of(terms):
    named = terms["normal_id"].unique()
    pairs = pl.DataFrame({"normal_id": named, "word_id": words.spelling(named)}).explode("word_id").unique()
    return Spelling(pairs, pairs.select("word_id", word="word_id").unique())


def fitted(rows, *, spelt=True):
    terms = terms_of(rows)
    products = pl.DataFrame(sorted({(row[2], row[1]) for row in rows}), schema=["ad_group_id", "product"], orient="row")
    return cohorts.fitted(cohorts.cells_of(terms, None), products, spelling_of(terms) if spelt else Spelling.none())


def cells_of(rows, *, spelt=True):
    """The same as `core.factors` takes them, each term of an ad group a row."""

    def codes(values):
        known = sorted(set(values))
        return np.array([known.index(value) for value in values])

    rows = sorted(rows, key=lambda row: (row[2], row[0], row[3]))
    split = [sorted(set(words.words(row[0]))) for row in rows]
    vocabulary = sorted({word for each in split for word in each})
    families = {
        PRODUCT: codes([row[1] for row in rows]),
        AD_GROUP: codes([row[2] for row in rows]),
        TARGET: codes([(row[2], row[3]) for row in rows]),
    }
    if spelt:
        start = np.cumsum([0, *(len(each) for each in split)])
        families[WORD] = Members(
            start, np.array([vocabulary.index(word) for each in split for word in each]), len(vocabulary)
        )
    row = codes([(row[2], row[0]) for row in rows])
    n, k = (np.array([row[at] for row in rows], dtype=float) for at in (4, 5))
    return Cells(n, np.minimum(n, k), row, int(row.max()) + 1, families)


def test_the_worked_example_to_its_digits():
    """Spreads, factors, strengths and every row's figures as evidence.md prints them."""
    fit = factors.fit(cells_of(EXAMPLE))
    assert fit.mean == pytest.approx(0.064384, abs=5e-7)
    assert {name: round(each.spread, 4) for name, each in fit.families.items()} == {
        PRODUCT: 16.0,
        WORD: 16.0,
        AD_GROUP: 16.0,
        TARGET: 11.3137,
    }
    assert fit.strength == pytest.approx(40)
    for name, printed in (
        (PRODUCT, [0.9753, 0.9630]),
        (AD_GROUP, [0.9753, 0.9630]),
        (TARGET, [1.0926, 0.8724, 1.0141, 0.9336]),
        (WORD, [0.8670, 1.0860, 0.9768, 0.9985, 1.0182, 0.9553]),
    ):
        assert fit.families[name].theta == pytest.approx(printed, abs=5e-5)
    found = fitted(EXAMPLE)
    assert found.terms.strength == pytest.approx(56.5685, abs=1e-3)
    assert found.terms.free_strength == pytest.approx(40)
    assert found.words["word"].to_list() == ["aquarium", "grow", "lamp", "light", "plant", "stand"]
    clicks = {row[0]: row[4:] for row in EXAMPLE}
    for row in found.terms.rows.to_dicts():
        n, k = clicks[row["normal_id"]]
        worth = row["prior_a"] + row["prior_b"]
        m, _, s_r, cohort_cvr, p_over, p_free = PRINTED[row["normal_id"]]
        assert row["prior_a"] / worth == pytest.approx(m, abs=5e-7)
        assert worth == pytest.approx(s_r, abs=5e-5)
        assert row["cohort_cvr"] == pytest.approx(cohort_cvr, abs=5e-7)
        for kind, printed in (("prior", p_over), ("free", p_free)):
            p = stats.beta.cdf(NEEDED, row[f"{kind}_a"] + k, row[f"{kind}_b"] + n - k)
            assert p == pytest.approx(printed, abs=5e-6)


def test_the_spread_of_a_row_s_mean_in_the_worked_example():
    cells = cells_of(EXAMPLE)
    means = factors.others(factors.fit(cells), cells.row, cells.rows).means()
    assert sorted(means.u) == pytest.approx(sorted(each[1] for each in PRINTED.values()), abs=5e-7)


def test_step_one_of_the_worked_example():
    """Without the family of words."""
    found = fitted(EXAMPLE, spelt=False)
    row = found.terms.rows.filter(pl.col("normal_id") == "aquarium light").to_dicts()[0]
    worth = row["prior_a"] + row["prior_b"]
    assert found.terms.strength == pytest.approx(40)
    assert (row["prior_a"] / worth, worth, row["cohort_cvr"]) == (
        pytest.approx(0.063920, abs=5e-7),
        pytest.approx(19.9640, abs=5e-5),
        pytest.approx(0.068278, abs=5e-7),
    )
    assert stats.beta.cdf(NEEDED, row["prior_a"], row["prior_b"] + 40) == pytest.approx(0.95568, abs=5e-6)
    assert not found.terms.rows["slow_word"].any()


def test_the_words_of_the_worked_example():
    """Due, limit, chance and waste of every word, by waste; none is sure enough for a proposal."""
    terms = terms_of(EXAMPLE).with_columns(needed_cvr=pl.lit(NEEDED), p_over=pl.lit(0.2))
    found = costly_words.with_fate(costly_words.judged(fitted(EXAMPLE), terms, 30), [], [])
    assert found["word"].to_list() == ["stand", "plant", "light", "aquarium", "grow", "lamp"]
    printed = {
        "due": [13.7764, 14.9710, 21.3761, 5.7356, 23.1791, 7.1488],
        "limit": [1, 1, 0.92627, 1, 0.95776, 0.88126],
        "p_word": [0.60960, 0.49631, 0.39225, 0.75062, 0.29615, 0.36113],
    }
    for name, values in printed.items():
        assert found[name].to_list() == pytest.approx(values, abs=5e-5)
    assert (found["waste"] / 1e6).to_list() == pytest.approx([26.288, 20.558, 18.490, 17.915, 13.637, 5.699], abs=5e-4)
    assert set(found["fate"]) == {"not sure"}
    assert found.filter(pl.col("word") == "aquarium").select("word_clicks", "came", "word_terms").row(0) == (105, 1, 3)


def test_clicks_enough_in_the_worked_example():
    """Aquarium light: 24 clicks without an order, 25 without its words; reptile lamp: 26 and 25."""
    rows = (
        fitted(EXAMPLE)
        .terms.rows.filter(pl.col("normal_id").is_in(["aquarium light", "reptile lamp"]))
        .sort("normal_id")
    )
    nothing, needed = np.zeros(2, dtype=np.int64), np.full(2, NEEDED)
    for kind, printed in (("prior", [24, 26]), ("free", [25, 25])):
        a, b = (rows[f"{kind}_{each}"].to_numpy() for each in "ab")
        assert evidence.clicks_needed(nothing, nothing, a, b, needed) == printed


def made_up(seed, count=260):
    """Rows as in `EXAMPLE`: some words and targets convert little; several targets bring a term."""
    rng = np.random.default_rng(seed)
    vocabulary = ["lamp", "light", "grow", "tank", "stand", "box", "hand", "second", "moss", "tray", "pot", "seed"]
    slow = {"tank": 0.3, "second": 0.5, "hand": 1.0}
    found = {}
    for _ in range(count):
        product = int(rng.integers(3))
        group, target = f"{product}{int(rng.integers(3))}", f"t{int(rng.integers(4))}"
        term = " ".join(rng.choice(vocabulary, int(rng.integers(1, 4)), replace=False))
        term = term.replace("second", "second hand") if "hand" not in term else term
        rate = 0.08 * (0.6, 1.0, 1.5)[product] * np.prod([slow.get(word, 1.0) for word in term.split()])
        n = int(rng.geometric(0.05))
        found[term, group, target] = (term, f"p{product}", group, target, n, int(rng.binomial(n, min(0.5, rate))))
    return list(found.values())


@pytest.mark.parametrize("seed", [1, 2])
def test_the_fit_is_the_slow_reference_s(seed):
    """Plain loops over levels, one after the other: spreads and strengths the same, every chance within 1e-5."""
    rows = made_up(seed)
    slow = SlowFit(
        [
            {
                "n": n,
                "k": k,
                "row": (group, term),
                "target row": (group, target),
                PRODUCT: (product,),
                AD_GROUP: (group,),
                TARGET: ((group, target),),
                WORD: sorted(set(words.words(term))),
            }
            for term, product, group, target, n, k in rows
        ]
    )
    found = fitted(rows)
    assert "hand + second" in found.words["word"].to_list() or "hand" in found.words["word"].to_list()
    assert found.words["factor"].to_list() == pytest.approx(
        [np.exp(slow.beta[WORD, word]) for word in found.words["word"]], rel=1e-5
    )
    for told, key, by_hand in (
        (found.terms, ["ad_group_id", "normal_id"], slow.term_rows),
        (found.targets, ["target_id"], slow.target_rows),
    ):
        for kind, strength, without in (("prior", told.strength, ()), ("free", told.free_strength, (WORD,))):
            wanted = by_hand(without)
            assert strength == pytest.approx(slow.strength_of(wanted))
            for row in told.rows.to_dicts():
                name = tuple(row[each] for each in key)
                n, k, m, u = wanted[name if len(key) == 2 else tuple(name[0].split(" "))]
                worth = slow.worth(m, u, strength)
                p = stats.beta.cdf(0.05, m * worth + k, (1 - m) * worth + n - k)
                ours = stats.beta.cdf(0.05, row[f"{kind}_a"] + k, row[f"{kind}_b"] + n - k)
                assert ours == pytest.approx(p, abs=1e-5)


@pytest.mark.parametrize("entries", [1, 2, 7, 40])
def test_rows_are_told_the_same_by_pieces_of_any_size(entries, monkeypatch):
    """
    An account of more than 131,000 targets with their terms is looked at piece by piece: families of one level a cell
    too.
    """
    rows = made_up(11)
    whole = fitted(rows)
    monkeypatch.setattr(factors, "_PIECE", entries)
    parts = fitted(rows)
    for name in ("terms", "targets"):
        one, other = getattr(whole, name).rows, getattr(parts, name).rows
        assert one.columns == other.columns
        for column in one.columns:
            if one[column].dtype.is_float():
                np.testing.assert_allclose(one[column], other[column], rtol=1e-9)
            else:
                assert one[column].equals(other[column]), column


@settings(max_examples=8, deadline=None)
@given(st.randoms())
def test_rows_in_any_order_agree(random):
    rows = made_up(3)
    shuffled = list(rows)
    random.shuffle(shuffled)
    one, other = fitted(rows), fitted(shuffled)
    columns = ["prior_a", "prior_b", "free_a", "free_b", "cohort_cvr"]
    for kind in ("terms", "targets"):
        both = [getattr(each, kind).rows.select(columns).to_numpy() for each in (one, other)]
        assert np.allclose(*both, rtol=1e-9, atol=0)


LEVELLED = st.lists(
    st.tuples(
        st.lists(st.sampled_from(["lamp", "light", "box", "tank"]), min_size=1, max_size=3).map(" ".join),
        st.sampled_from(["p", "q"]),
        st.sampled_from(["1", "2"]),
        st.sampled_from(["t", "u"]),
        st.integers(1, 60),
        st.integers(0, 9),
    ),
    min_size=6,
    max_size=40,
    unique_by=lambda row: (row[0], row[1], row[2], row[3]),
).map(
    lambda rows: [(term, product, product + group, target, n, min(n, k)) for term, product, group, target, n, k in rows]
)


@settings(max_examples=60, deadline=None)
@given(LEVELLED)
def test_what_always_holds_of_a_fit(rows):
    """θ·(α + E) = α + K for every level: as α falls to 0, what was due is what came; means and worths are bounded."""
    cells = cells_of(rows)
    if not cells.k.sum():
        return
    fit = factors.fit(cells)
    for family in fit.families.values():
        assert family.theta * (family.spread + family.e) == pytest.approx(family.spread + family.k, rel=1e-4)
        assert (family.theta > 0).all()
        assert 1 <= family.spread <= 128
    told = factors.others(fit, cells.row, cells.rows)
    for without in ((), (WORD,), (WORD, TARGET), FAMILIES):
        means = told.means(without)
        assert ((means.m >= 1e-6) & (means.m <= 0.6)).all()
        assert (means.u >= 0).all()
        s = factors.strength(means)
        assert 5 <= s <= 5 * 2**6.5 + 1e-9
        assert (means.strength(s) >= 1).all()


@settings(max_examples=30, deadline=None)
@given(LEVELLED)
def test_what_was_due_is_what_came_where_nothing_draws_it_to_one(rows):
    """At α → 0 the orders due over every level that sold are the Orders that came."""
    cells = cells_of(rows, spelt=False)
    parts = factors.parts_of(cells)
    sold = all((part.holding.add(cells.k) > 0).all() and len(part.beta) for part in parts.values())
    if not sold:
        return
    for part in parts.values():
        part.spread = 1e-7
    mean = float(cells.k.sum() / cells.n.sum())
    climbing.climb(cells.k, cells.n, mean, list(parts.values()), parts, 1e-12)
    due = cells.n * climbing.expected(mean, parts, len(cells.n))
    for part in parts.values():
        assert part.holding.add(due) == pytest.approx(part.holding.add(cells.k), rel=1e-3)


def equations(cells, parts, due, drawn):
    """Σ due·xxᵀ and what is drawn, dense, in the order of the families."""
    edges = np.cumsum([0, *(len(part.beta) for part in parts)])
    columns = []
    for level in range(edges[-1]):
        place = int(np.searchsorted(edges, level, side="right")) - 1
        one = np.zeros(len(parts[place].beta))
        one[level - edges[place]] = 1.0
        columns.append(parts[place].holding.give(one))
    x = np.array(columns).T
    return x.T @ (due[:, None] * x) + np.diag(drawn)


@settings(max_examples=60, deadline=None)
@given(LEVELLED, st.randoms(), st.sampled_from([2, 256]))
def test_a_step_is_solved_exactly_but_for_the_ties_of_rare_words(rows, random, together):
    cells = cells_of(rows)
    parts = list(factors.parts_of(cells).values())
    if not parts:
        return
    random.shuffle(parts)
    sizes = [len(part.beta) for part in parts]
    draw = np.random.default_rng(random.randrange(2**32))
    due, drawn, wanted = (
        draw.uniform(0.01, 3, len(cells.n)),
        draw.uniform(0.5, 5, sum(sizes)),
        draw.normal(size=sum(sizes)),
    )
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(preconditioner, "_TOGETHER", together)
        near = preconditioner.Preconditioner({part.name: part.holding for part in parts}, due, drawn)
    whole = equations(cells, parts, due, drawn)
    begin = np.cumsum([0, *sizes])
    word = next((number for number, part in enumerate(parts) if part.name == WORD), None)
    if word is not None:
        places = np.arange(begin[word], begin[word + 1])
        of_level = parts[word].holding.add(due)
        for place in places[np.sort(np.argsort(-of_level, kind="stable")[together:])]:
            whole[place, np.arange(len(whole)) != place] = whole[np.arange(len(whole)) != place, place] = 0
    assert near.solve(wanted) == pytest.approx(np.linalg.solve(whole, wanted), rel=1e-6, abs=1e-9)


def test_a_level_in_one_row_only_is_no_level():
    """A word, and a target, that one row alone has: nothing can be told of it without that row."""
    rows = [("lamp", "p", "p1", "t", 200, 12), ("light", "p", "p1", "t", 150, 9), ("lamp box", "p", "p1", "u", 90, 2)]
    found = fitted(rows)
    assert found.words["word"].to_list() == ["lamp"]


def test_what_a_target_did_beside_its_terms_is_a_row_of_its_own():
    """Its clicks and orders less those told by its terms, neither below 0; a target without terms is all rest."""
    terms = terms_of([("lamp", "p", "p1", "t", 30, 3), ("light", "p", "p1", "u", 20, 2)])
    targets = pl.DataFrame(
        {
            "target_id": ["p1 t", "p1 u", "p1 v"],
            "ad_group_id": ["p1"] * 3,
            "clicks": [50, 15, 7],
            "orders": [2, 1, 9],
            "spend": [60_000_000, 1, 5],
        }
    )
    rests = cohorts.cells_of(terms, targets).filter(pl.col("normal_id").is_null())
    assert rests.select("target_id", "clicks", "orders").rows() == [("p1 t", 20, 0), ("p1 v", 7, 7)]


def test_too_small_an_account_has_no_fit():
    assert fitted([("lamp", "p", "p1", "t", 200, 4), ("light", "p", "p1", "t", 99, 4)]) is None
    ads = pl.DataFrame({"product_ad_id": [1], "ad_group_id": [1], "product_id": [1], "clicks": [299], "orders": [30]})
    assert cohorts.fitted_ads(ads) is None


def test_product_ads_are_held_against_what_their_product_does_elsewhere():
    """The SKU that sells elsewhere and not here: its cohort leaves the ad group out."""
    ads = pl.DataFrame(
        {
            "product_ad_id": range(8),
            "ad_group_id": [1, 1, 2, 2, 3, 3, 4, 4],
            "product_id": [1, 2] * 4,
            "clicks": [200] * 8,
            "orders": [20, 6, 22, 5, 19, 7, 3, 1],
        }
    )
    told = cohorts.fitted_ads(ads).rows.sort("product_ad_id")
    by_product = told["cohort_cvr"].to_list()
    assert min(by_product[0::2]) > max(by_product[1::2])
    prior = (told["prior_a"] / (told["prior_a"] + told["prior_b"])).to_list()
    assert prior[6] < by_product[6], "ad group 4 converts little, whatever it shows"


def test_words_to_shut_out_and_words_to_bid_lower_on():
    """
    A word far below the others is shut out, unless a product or the brand is called that; a milder
    one is bid lower on.
    """
    rows = [
        row
        for n, group in enumerate(("a1", "a2", "b1"))
        for row in (
            ("lamp", group[0], group, "t", 300, 30),
            ("grow lamp", group[0], group, "t", 200, 21 + n),
            ("tank lamp", group[0], group, "t", 160, 1),
        )
    ]
    found = fitted(rows)
    terms = terms_of(rows).with_columns(
        needed_cvr=pl.lit(0.1), p_over=pl.when(pl.col("normal_id") == "grow lamp").then(0.2).otherwise(0.9)
    )
    judged = costly_words.judged(found, terms, 15)

    def fates(cores, brand):
        return dict(costly_words.with_fate(judged, cores, brand).select("word", "fate").rows())

    assert fates([], [])["tank"] == "negative phrase"
    milder = judged.with_columns(factor=pl.lit(0.7), p_word=pl.lit(0.95))
    assert set(costly_words.with_fate(milder, [], [])["fate"]) == {"bid lower"}
    assert set(costly_words.with_fate(milder.with_columns(factor=pl.lit(0.5), cells=pl.lit(2)), [], [])["fate"]) == {
        "in few searches"
    }
    assert fates([frozenset({"tank", "lamp"})], [])["tank"] == "names a product"
    assert fates([], ["tank"])["tank"] == "own brand"
    strict = costly_words.with_fate(judged, [], [], costly_words.WordLimits(cells=100))
    assert "negative phrase" not in set(strict["fate"])
    by_word = {row["word"]: row for row in judged.to_dicts()}
    assert (by_word["lamp"]["good_terms"], by_word["lamp"]["good_orders"]) == (1, 66)
    assert by_word["tank"]["good_terms"] == 0
    assert 0 <= by_word["tank"]["waste"] <= 2 * by_word["tank"]["spend"]
    part = costly_words.judged(found, terms.filter(pl.col("ad_group_id") == "a1"), 15)
    assert {row["word"]: row["word_clicks"] for row in part.to_dicts()}["tank"] == 160, "of the part looked at"
    slow = costly_words.deciding(found, pl.col("normal_id") == "tank lamp", slow=True)
    assert slow.select("word", "clicks", "came").row(0) == ("tank", 480, 3)
    assert costly_words.deciding(found, pl.col("normal_id") == "lamp", slow=True).is_empty()


def test_joined_words_are_offered_as_they_stand():
    """Side by side and in one order in every term, or else the longest of them."""
    assert costly_words.phrase_of("hand + second", ["second hand lamp", "lamp second hand"]) == "second hand"
    assert costly_words.phrase_of("hand + second", ["second lamp hand", "lamp second hand"]) == "second"
    assert costly_words.phrase_of("lamp", []) == "lamp"


def test_nothing_moves_where_no_level_stands_in_two_rows():
    """A single row: no family has a level, and the account's own mean is all that there is."""
    cells = Cells(np.array([400.0]), np.array([20.0]), np.array([0]), 1, {PRODUCT: np.array([0])})
    fit = factors.fit(cells)
    assert not fit.families
    assert factors.others(fit, cells.row, 1).means().m == pytest.approx([0.05], rel=0.1)
