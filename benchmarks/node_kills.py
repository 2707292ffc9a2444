"""
Nodes of a cluster killed under small writes, one after the other: what was kept, what was lost or doubled, how long
nothing was kept.

Three nodes on loopback, as the tests make them; writes the table in docs/scaling.md.
"""

from __future__ import annotations

import argparse
import random
import tempfile
import time
from pathlib import Path
from typing import Final

from tests.faults.cluster import NODES, Written, cluster, steady_writes

from nimbus_reef.cli import wiring
from nimbus_reef.config import load
from nimbus_reef.store.record.engine import Store

DOCUMENT: Final = Path(__file__).resolve().parents[1] / "docs" / "scaling.md"
_BEGIN, _END = "<!-- node kills -->", "<!-- end of node kills -->"
_WRITING: Final = 8.0


def told(what: str, all_of_it: list[Written], store: Store) -> str:
    """A line of the table."""
    noted = all_of_it[-1].noted(store)
    kept = [number for each in all_of_it for number in each.kept]
    pauses = sorted(each.longest_pause for each in all_of_it)
    lost, twice = len(set(kept) - set(noted)), len(noted) - len(set(noted))
    return (
        f"| {what} | {len(all_of_it)} | {all_of_it[-1].tried:,} | {len(kept):,} | {lost} | {twice} | "
        f"{pauses[len(pauses) // 2]:.1f} | {pauses[-1]:.1f} |"
    )


def main() -> None:
    """Runs it, and writes the table where asked to."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--kills", type=int, default=5, help="kills of each sort")
    asked.add_argument("--write", action="store_true", help="into docs/scaling.md")
    given = asked.parse_args()
    chance = random.Random(4)
    lines = [
        "| node killed | kills | writes tried | kept | lost | twice | pause, median s | longest s |",
        "|---|---|---|---|---|---|---|---|",
    ]
    with cluster() as nodes, tempfile.TemporaryDirectory() as folder:
        wiring.migrate(load({"REEF_VAR": folder, "REEF_DATABASE_URL": nodes.url(owner=True)}))
        store = wiring.open_store(load({"REEF_VAR": folder, "REEF_DATABASE_URL": nodes.url()}))
        for what, step in (("the one written to", 0), ("another one", 1)):
            runs: list[Written] = []
            for _ in range(given.kills):
                with steady_writes(store, after=runs[-1].tried if runs else 0) as written:
                    time.sleep(chance.uniform(1, 2))
                    number = (nodes.number_of(store.nodes.preferred) + step) % NODES
                    nodes.kill(number)
                    time.sleep(_WRITING)
                runs.append(written)
                nodes.start(number)
            lines.append(told(what, runs, store))
            print(lines[-1], flush=True)
            with store.engine.begin() as connection:
                connection.exec_driver_sql("DELETE FROM trail")
        store.engine.dispose()
    if given.write:
        page = DOCUMENT.read_text()
        before, rest = page.split(_BEGIN)
        DOCUMENT.write_text(before + "\n".join([_BEGIN, *lines, _END]) + rest.split(_END)[1])


if __name__ == "__main__":
    main()
