"""
Forms that were open while somebody else changed the same thing: only what was typed is taken, and never over a newer
value.
"""

from __future__ import annotations

from collections.abc import Mapping

from nimbus_reef.errors import Conflict

WAS = "was-"
"""Before the name of a field: the name of the hidden one that holds the text which the page showed in it."""


def typed_anew(sent: Mapping[str, str], now: Mapping[str, str], labels: Mapping[str, str]) -> set[str]:
    """
    The fields of a form that were changed on the page. now: the text of each field as the page would show it now.

    A field without its hidden twin counts as changed. Raises Conflict when a changed field shows another text by now.
    """
    changed = {
        name
        for name in now
        if name in sent and (WAS + name not in sent or sent[name].strip() != sent[WAS + name].strip())
    }
    for name in sorted(changed):
        shown = sent.get(WAS + name)
        if shown is not None and shown.strip() != now[name].strip():
            raise Conflict(
                f"“{labels.get(name, name)}” is now {now[name] or 'empty'}. Your page still showed {shown or 'empty'}.",
                remedy="Nothing was changed. Reload the page, then change it.",
            )
    return changed
