"""The drift chart laid out: names are where nothing crosses them, arrows carry what they say."""

import math

from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.web.kit import drift as layout
from nimbus_reef.web.kit.drift import Mover, drift

AMOUNT = st.floats(1, 50_000)
MOVER = st.tuples(st.text("ABC-", min_size=1, max_size=18), AMOUNT, AMOUNT, AMOUNT, AMOUNT)


def movers(rows):
    return [Mover(f"{n}", name, *sums, "gain", False, name) for n, (name, *sums) in enumerate(rows)]


def crosses(line, box):
    """Whether a line that runs upwards to the right passes through a box."""
    slope = (line.y1 - line.y0) / (line.x1 - line.x0) if line.x1 != line.x0 else -math.inf
    at = [line.y0 + slope * (x - line.x0) for x in (box[0], box[2])]
    spans = line.x0 < box[2] and box[0] < line.x1
    return spans and min(at) < box[3] and box[1] < max(at)


@given(st.lists(MOVER, min_size=1, max_size=8), st.floats(0.15, 0.3), st.floats(0.35, 0.8))
def test_the_names_of_target_and_break_even_are_crossed_by_neither_line(rows, low, high):
    for target, even in ((low, high), (high, low)):
        lines = [line for line in drift(movers(rows), target, even).lines if line.name]
        # In a corner there is no room beside a line: a name shows only where its line runs on.
        roomy = [line for line in lines if line.x1 - line.x0 > 200 and line.y0 - line.y1 > 150]
        for line in roomy:
            for other in roomy:
                assert not crosses(other, layout.name_box(line)), (line, other)


@given(st.lists(MOVER, min_size=1, max_size=40))
def test_labels_cover_neither_each_other_nor_a_line_s_name_and_stay_inside(rows):
    chart = drift(movers(rows), 0.28, 0.43)
    named = [line for line in chart.lines if line.name]
    boxes = [layout.name_box(line) for line in named]
    for arrow in chart.arrows:
        if arrow.label:
            left, base = arrow.label
            middle = (left + 8, base - 6, left + max(9, layout.width_of(arrow.name) - 8), base - 2)
            assert not any(crosses(line, middle) for line in named)
            left, base = arrow.label
            boxes.append((left + 0.1, base - 10.4, left + layout.width_of(arrow.name) - 0.1, base + 2.4))
            assert left > 50
            assert left + layout.width_of(arrow.name) < 626
    for n, one in enumerate(boxes):
        for other in boxes[:n]:
            apart = one[2] <= other[0] or other[2] <= one[0] or one[3] <= other[1] or other[3] <= one[1]
            assert apart, (one, other)


def test_heavier_spend_is_a_wider_arrow_and_the_first_to_get_its_label():
    chart = drift(movers([("LIGHT", 10, 40, 12, 50), ("HEAVY", 900, 3000, 1000, 3100)]), 0.28, None)
    assert [each.name for each in chart.arrows] == ["HEAVY", "LIGHT"]
    assert chart.arrows[0].width > chart.arrows[1].width
    assert all(each.label for each in chart.arrows)
