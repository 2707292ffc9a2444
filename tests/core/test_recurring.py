"""One audit against those before it."""

from nimbus_reef.core.recurring import News, since

A, B, C, D = (("costly-targets", name) for name in "abcd")


def test_the_first_audit_has_no_news():
    assert since([A, B], []).news == {}


def test_new_come_back_and_gone_are_told_apart():
    """B stood in the audit before last, not in the last; A stands as it did; D was put away."""
    changed = since([A, B, C], [[A, D, ("costly-targets", "e")], [A, B]], away=[D])
    assert changed.news == {B: News.BACK, C: News.NEW}
    assert changed.gone == {("costly-targets", "e")}
    assert (changed.count(News.NEW), changed.count(News.BACK)) == (1, 1)
