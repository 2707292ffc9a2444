"""Names: a pattern of parts, what fits it, what it is suggested from, what a broken name would be called."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import naming

PATTERN = naming.pattern("{product} · {purpose} · {match}")


def test_a_name_is_read_into_its_parts():
    assert PATTERN.parts == ("product", "purpose", "match")
    assert PATTERN.read("GL-STRIP · own terms · exact") == {
        "product": "GL-STRIP",
        "purpose": "own terms",
        "match": "exact",
    }


@pytest.mark.parametrize("name", ["catch everything", "GL · discover", " · discover · auto", "", "GL ·  · "])
def test_a_name_that_lacks_a_part_does_not_fit(name):
    assert PATTERN.read(name) is None


def test_the_last_part_holds_what_is_left():
    assert PATTERN.read("GL · discover · auto · old")["match"] == "auto · old"


def test_separators_are_taken_as_they_stand():
    dotted = naming.pattern("[{country}] {product}.{match}")
    assert dotted.read("[DE] GL.exact") == {"country": "DE", "product": "GL", "match": "exact"}
    assert dotted.read("[DE] GLxexact") is None


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "has no part"),
        ("all", "has no part"),
        ("{Product}", "small letters"),
        ("{a} {a}", "twice"),
        ("{a}{b}", "side by side"),
        ("{a} {b", "not closed"),
        ("{} x", "small letters"),
        ("{a}" + "x" * 300, "longer than"),
    ],
)
def test_what_is_no_pattern_is_refused_with_the_reason(text, told):
    assert told in naming.pattern_problem(text)
    assert naming.pattern(text) is None


WORD = st.text("abcXYZ 123-", min_size=1, max_size=9).map(str.strip).filter(bool)


@given(WORD, WORD, WORD)
def test_a_written_name_is_read_back(product, purpose, match):
    parts = {"product": product, "purpose": purpose, "match": match}
    assert PATTERN.read(PATTERN.written(parts)) == parts


def test_names_are_told_apart_into_fitting_and_breaking_with_their_values_counted():
    names = ["A · grow · exact", "A · grow · broad", "B · find · exact", "old test"]
    parsed = naming.parse(PATTERN, names)
    assert parsed.breaks == ("old test",)
    assert parsed.counts["match"] == (("exact", 2), ("broad", 1))
    assert list(parsed.fits) == names[:3]


def test_the_pattern_that_most_names_keep_is_suggested():
    assert naming.suggested(["A · x · y", "B · x · z", "odd"]) == "{product} · {purpose} · {match}"
    assert naming.suggested(["A_x", "B_y", "C_z"]) == "{product}_{purpose}"
    assert naming.suggested(["one", "two", "three · four"]) == ""
    assert naming.suggested([]) == ""


def test_a_broken_name_is_made_of_what_is_known_of_it():
    known = {"product": ["GL", "GL-STRIP"], "purpose": ["grow"], "match": ["exact", "broad"]}
    assert naming.rename(PATTERN, "gl-strip grow 2024", known, {"match": "broad"}) == "GL-STRIP · grow · broad"
    assert naming.rename(PATTERN, "catch all", known, {}) == "other · other · other"
