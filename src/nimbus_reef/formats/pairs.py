"""Two columns of text, as they are pasted from a spreadsheet or read from a small file."""

from __future__ import annotations

import csv
import io

from nimbus_reef.errors import BadInput

_MOST_LINES = 100_000


def pairs(text: str) -> list[tuple[int, str, str]]:
    """
    Line number and the first two cells of each line with any, divided by tab, semicolon or comma; BadInput for too
    many.
    """
    first = text.partition("\n")[0]
    divided = next((sign for sign in ("\t", ";") if sign in first), ",")
    found = []
    for number, row in enumerate(csv.reader(io.StringIO(text), delimiter=divided), 1):
        if number > _MOST_LINES:
            raise BadInput("This file has too many lines.", remedy=f"Use at most {_MOST_LINES:,}.")
        one, two = ([cell.strip() for cell in row] + ["", ""])[:2]
        if one:
            found.append((number, one, two))
    return found
