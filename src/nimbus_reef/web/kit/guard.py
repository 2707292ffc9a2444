"""What is asked about before it is planned: changes beyond what an account lets pass in silence."""

from __future__ import annotations

from collections.abc import Sequence

from nimbus_reef.core.changes import Change
from nimbus_reef.core.promises import Promise, guarded, projected
from nimbus_reef.core.settings import Settings
from nimbus_reef.formats.figures import Figures


def asked_about(changes: Sequence[tuple[Change, Promise]], settings: Settings, figures: Figures) -> str:
    """The question in words, with the largest figure in it; empty where nothing is beyond."""
    beyond = [
        (change, projected(change, result))
        for change, result in changes
        if guarded(change, result, settings.asks_raise, settings.asks_spend)
    ]
    if not beyond:
        return ""
    change, effect = max(beyond, key=lambda each: each[1].spend.high)
    return (
        f"{figures.counted(len(beyond), 'value')} would rise beyond the limit in your settings. The largest goes"
        f" from {change.old_value} to {change.new_value}, with up to {figures.money(max(0.0, effect.spend.high))} more"
        " spend in 30 days."
    )
