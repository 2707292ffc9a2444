"""Groups of phrases by a word that several share."""

from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.word_groups import COMMON, LEAST, shared_words


def split(*texts):
    return [text.split() for text in texts]


def test_the_word_that_most_share_makes_the_first_group_and_what_all_have_makes_none():
    phrases = split("plant clip lamp", "plant clip timer", "plant clip", "plant clip two", "plant") + split(
        "plant timer", "plant timer two", "plant timer tall"
    )
    assert shared_words(phrases) == ["clip"] * 4 + [""] + ["timer"] * 3


def test_two_phrases_are_no_group():
    assert shared_words(split("a x", "b x", "c", "d", "e")) == [""] * 5
    assert shared_words(split("a x", "b x", "c", "d", "e"), least=2) == ["x", "x", "", "", ""]


def test_nothing_is_in_no_group():
    assert shared_words([]) == []


PHRASES = st.lists(st.lists(st.sampled_from("abcdefg"), min_size=1, max_size=4), max_size=30)


@given(PHRASES)
def test_every_group_is_large_enough_and_its_word_stands_in_each_of_its_phrases(phrases):
    found = shared_words(phrases)
    for word in set(found) - {""}:
        members = [phrase for phrase, own in zip(phrases, found, strict=True) if own == word]
        assert len(members) >= LEAST
        assert all(word in phrase for phrase in members)
        assert sum(word in phrase for phrase in phrases) <= COMMON * len(phrases)


@given(PHRASES, st.randoms())
def test_the_order_of_phrases_changes_no_group(phrases, random):
    order = list(range(len(phrases)))
    random.shuffle(order)
    assert [shared_words(phrases)[place] for place in order] == shared_words([phrases[place] for place in order])
