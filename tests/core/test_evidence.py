"""Evidence: worked figures, an independent slow reference, and what must always hold."""

import math

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from scipy.integrate import quad

from nimbus_reef.core import evidence
from nimbus_reef.core.model import MICRO, Verdict

CHAIN = ("ad_group_id", "main_product", "family", "category")
ROW = st.tuples(st.integers(0, 80), st.floats(0, 0.3), st.floats(0.05, 3.0))


def rows(cells, *, group=1, target=0.28, price=30.0):
    """cells: (clicks, orders, price per click)."""
    return pl.DataFrame(
        [
            {
                "clicks": n,
                "orders": k,
                "spend": round(n * cpc * MICRO),
                "sales": round(k * price * MICRO),
                "ad_group_id": group,
                "main_product": "p",
                "family": "f",
                "category": "c",
                "target_acos": target,
            }
            for n, k, cpc in cells
        ],
        schema_overrides={"ad_group_id": pl.UInt32, "clicks": pl.Int64, "orders": pl.Int64},
    )


def judged_in_groups(cells, days):
    return evidence.judge(evidence.with_priors(cells, CHAIN), days)


def cohort(seed=3, size=40, cvr=0.09):
    """A group large enough to be judged in."""
    rng = np.random.default_rng(seed)
    clicks = rng.integers(5, 40, size)
    return [(int(n), int(rng.binomial(n, cvr)), 0.8) for n in clicks]


def slow_prior(cells):
    """The prior by plain loops and the definition of ln B."""
    best = None
    for index in range(9):
        s = 20 * 20 ** (index / 8)
        weights = [(s + 1) / (s + n) for n, _ in cells]
        m = sum(w * k for w, (_, k) in zip(weights, cells, strict=True)) / sum(
            w * n for w, (n, _) in zip(weights, cells, strict=True)
        )

        def ln_b(x, y):
            return math.lgamma(x) + math.lgamma(y) - math.lgamma(x + y)

        value = sum(ln_b(m * s + k, (1 - m) * s + n - k) - ln_b(m * s, (1 - m) * s) for n, k in cells)
        if best is None or value > best[0] + 1e-9 * abs(best[0]):
            best = (value, m * s, (1 - m) * s)
    return best[1:]


def test_the_prior_is_the_slow_reference_s():
    cells = [(n, k) for n, k, _ in cohort()]
    n, k = (np.array(column) for column in zip(*cells, strict=True))
    a, b = evidence.fit_priors(n, k, np.zeros(len(n), dtype=np.int64), 1)
    assert (a[0], b[0]) == pytest.approx(slow_prior(cells), rel=1e-9)


def test_the_prior_grows_strong_when_rows_are_alike_and_weak_when_they_differ():
    """Rows that all convert at 9 % take the strongest prior; half at 1 %, half at 20 %, a weak one."""
    n = np.full(60, 200)
    alike = np.full(60, 18)
    mixed = np.array([2, 40] * 30)
    zeros = np.zeros(60, dtype=np.int64)
    strong = sum(evidence.fit_priors(n, alike, zeros, 1))[0]
    weak = sum(evidence.fit_priors(n, mixed, zeros, 1))[0]
    assert strong == pytest.approx(400)
    assert weak == pytest.approx(20)


def test_verdicts_follow_from_the_posterior_as_written():
    """P_over, stake, own test and own fault of one row, against scipy's own distribution."""
    cells = [*cohort(), (120, 2, 1.1)]
    judged = judged_in_groups(rows(cells), 30)
    row = judged.to_dicts()[-1]
    a, b = row["prior_a"] + 2, row["prior_b"] + 118
    group = [(n, k) for n, k, _ in cells if n]
    aov_group = 30.0
    aov = (2 * 30.0 + 5 * aov_group) / 7
    needed = 1.1 / (aov * 0.28)
    assert row["prior_level"] == "ad_group_id"
    assert (row["group_n"], row["group_k"]) == (sum(n for n, _ in group), sum(k for _, k in group))
    assert row["needed_cvr"] == pytest.approx(needed, rel=1e-6)
    assert row["p_over"] == pytest.approx(stats.beta.cdf(needed, a, b), rel=1e-9)
    expected, _ = quad(lambda p: max(0, 1 - p / needed) * stats.beta.pdf(p, a, b), 0, 1, points=[needed])
    assert row["stake"] == pytest.approx(120 * 1.1 * MICRO * expected, rel=1e-4)
    assert row["own_test"]
    assert row["own_fault"] == (stats.beta.cdf(row["prior_a"] / (row["prior_a"] + row["prior_b"]), a, b) >= 0.75)
    assert row["verdict"] == Verdict.ABOVE.value


def test_the_smallest_sufficient_group_is_used():
    """An ad group of four rows has too few; its product's rows serve instead."""
    few = rows([(100, 9, 0.8)] * 4, group=1)
    others = rows(cohort(), group=2)
    levels = judged_in_groups(pl.concat([few, others]), 30)["prior_level"].to_list()
    assert levels[:4] == ["main_product"] * 4
    assert levels[-1] == "ad_group_id"


def test_one_row_with_most_clicks_cannot_be_its_own_cohort():
    """Above half of the clicks in one row: the group is passed over; at account level s = 20."""
    cells = [(1000, 80, 0.8), *[(20, 2, 0.8)] * 6]
    row = judged_in_groups(rows(cells), 30).to_dicts()[0]
    assert row["prior_level"] == "account"
    assert row["prior_a"] + row["prior_b"] == pytest.approx(20)
    assert row["prior_a"] / 20 == pytest.approx(92 / 1120)


def test_ad_groups_without_products_go_to_the_account():
    cells = rows([(100, 9, 0.8)] * 4, group=1).with_columns(
        main_product=pl.lit(None, pl.String), family=pl.lit(None, pl.String), category=pl.lit(None, pl.String)
    )
    others = rows(cohort(), group=2)
    assert judged_in_groups(pl.concat([cells, others]), 30)["prior_level"][0] == "account"


def test_too_small_an_account_is_undecided():
    judged = judged_in_groups(rows([(50, 4, 0.8)] * 5), 30)
    assert judged["verdict"].unique().to_list() == [Verdict.NOT_ENOUGH.value]
    assert judged["stake"].sum() == 0


def test_what_was_never_clicked_is_not_enough_data():
    judged = judged_in_groups(rows([*cohort(), (0, 0, 0.0)]), 30)
    assert judged["verdict"].to_list()[-1] == Verdict.NOT_ENOUGH.value
    assert Verdict.NOT_ENOUGH.value not in judged["verdict"].to_list()[:-1]


def test_clicks_without_money_are_fine_and_impossible_prices_are_costly():
    """P_over is 0 when nothing was spent, 1 when even every click buying would not do."""
    judged = judged_in_groups(rows([*cohort(), (30, 3, 0.0), (30, 3, 50.0)]), 30)
    assert judged["p_over"][-2:].to_list() == [0.0, 1.0]
    assert judged["verdict"][-2:].to_list() == [Verdict.WITHIN.value, Verdict.ABOVE.value]


def test_clicks_needed_is_the_first_count_that_settles_it():
    """One click fewer would leave it open; above 1,000 nothing is said."""
    n, k, a, b, c = np.array([12]), np.array([0]), np.array([8.0]), np.array([80.0]), np.array([0.08])
    more = evidence.clicks_needed(n, k, a, b, c)[0]
    assert more > 0

    def p(m):
        return stats.beta.cdf(0.08, 8, 80 + 12 + m)

    assert p(more) >= 0.90 > p(more - 1)
    assert evidence.clicks_needed(n, k, a, b, np.array([1e-6]))[0] is None
    assert evidence.clicks_needed(np.array([500]), k, a, b, c)[0] == 0


def test_a_row_like_its_cohort_is_costly_with_its_product():
    """All rows pay too much per click: none is worse than the others."""
    judged = judged_in_groups(rows([(60, 5, 4.0)] * 20), 30)
    assert judged["verdict"].unique().to_list() == [Verdict.ABOVE.value]
    assert not judged["own_fault"].any()
    assert judged.select(evidence.with_its_product().alias("x"))["x"].all()


@settings(max_examples=60, deadline=None)
@given(st.lists(ROW, min_size=1, max_size=40), st.randoms(), st.sampled_from([7, 30, 90]))
def test_what_always_holds(cells, random, days):
    """Stake lies between 0 and the month's spend; probabilities are ones; order is irrelevant."""
    rng = np.random.default_rng(1)
    data = [(n, int(rng.binomial(n, cvr)), cpc) for n, cvr, cpc in cells] + cohort(size=12)
    judged = judged_in_groups(rows(data), days)
    monthly = judged["spend"] * (30 / days)
    assert (judged["stake"] >= 0).all()
    assert (judged["stake"] <= monthly + 1).all()
    known = judged["p_over"].drop_nulls()
    assert known.is_between(0, 1).all()
    order = list(range(len(data)))
    random.shuffle(order)
    again = judged_in_groups(rows([data[i] for i in order]), days)
    assert again["verdict"].to_list() == [judged["verdict"][i] for i in order]
    assert np.allclose(
        again["p_over"].fill_null(-1).to_numpy(), judged["p_over"].fill_null(-1).to_numpy()[order], atol=1e-9
    )


@settings(max_examples=30, deadline=None)
@given(st.integers(2, 50))
def test_scaling_money_scales_stakes_and_moves_no_verdict(factor):
    """Cents or euros: what is judged is the ratio."""
    base = rows([*cohort(), (90, 2, 1.4)])
    scaled = base.with_columns(pl.col("spend", "sales") * factor)
    one, many = (judged_in_groups(each, 30) for each in (base, scaled))
    assert one["verdict"].to_list() == many["verdict"].to_list()
    assert np.allclose(many["stake"].to_numpy(), one["stake"].to_numpy() * factor, rtol=1e-6, atol=factor)


def test_the_simple_rule():
    """Clicks enough first, then no order, then ACOS against target."""
    judged = rows([(9, 0, 1.0), (10, 0, 1.0), (10, 1, 1.0)]).with_columns(evidence.simple_rule(10))
    assert judged["simple_verdict"].to_list() == ["too few clicks", "no order", "above target by the rule"]
    cheap = rows([(10, 1, 0.5)]).with_columns(evidence.simple_rule(10))
    assert cheap["simple_verdict"].to_list() == ["within target by the rule"]


def test_words_that_change_the_verdict_make_a_row_costly_by_them():
    """Over target with its words, not without: by its words, where one of them is sure; else it is not."""
    base = evidence.with_priors(rows([*cohort(), (14, 0, 1.2), (14, 0, 1.2)]), CHAIN)
    told = base.with_columns(
        prior_a=pl.lit(0.6),
        prior_b=pl.lit(40.0),
        free_a=pl.lit(20.0),
        free_b=pl.lit(80.0),
        slow_word=pl.int_range(pl.len()) % 2 == 0,
    )
    judged = evidence.judge(told, 30)
    assert judged["by_words"][-2:].to_list() == [True, False]
    assert judged["p_free"][-1] < 0.75 <= judged["p_over"][-1]
    its_product = judged.with_columns(own_fault=pl.lit(False)).select(x=evidence.with_its_product())["x"]
    assert its_product[-2:].to_list() == [False, True], "its words are read before its product"


@pytest.mark.parametrize(
    ("row", "cause"),
    [
        ({}, ""),
        ({"own_fault": False}, "like its whole ad group"),
        ({"own_fault": False, "main_product": "SKU-1"}, "like its whole product"),
        ({"own_fault": False, "main_product": None, "name_part": "LAMP"}, "like its whole product"),
        ({"own_fault": False, "by_words": True}, "because of a word"),
        ({"verdict": "likely above target", "by_words": True}, "because of a word"),
        ({"verdict": "within target", "own_fault": False}, ""),
    ],
)
def test_a_costly_row_is_so_by_itself_by_its_words_or_with_its_product(row, cause):
    """Words are read first; the chance says the verdict, alone as in a column."""
    assert evidence.cause_of({"verdict": "above target", "own_fault": True, "by_words": False} | row) == cause
    assert [evidence.verdict_at(p) for p in (0.1, 0.5, 0.8, 0.95)] == [
        "within target",
        "too early to tell",
        "likely above target",
        "above target",
    ]


@given(st.floats(0.6, 60), st.floats(0.6, 900))
def test_the_picture_of_luck_is_the_density_of_what_is_believed(a, b):
    """As SciPy draws it."""
    x = np.linspace(1e-4, 1 - 1e-4, 4001)
    assert np.allclose(evidence.density(a, b, x), stats.beta(a, b).pdf(x), rtol=1e-9)
