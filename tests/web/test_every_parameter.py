"""
Every route with every one of its parameters, each once in every odd way that comes up: an answer that says what is
wrong, never a fault.

Names are read from the code, so a new field is asked too. REEF_ODD=all asks every name in every way (minutes); else
each name comes with another oddity on every route.
"""

import os
import re
import time
from itertools import count, cycle
from pathlib import Path

import pytest
from tests.conftest import PASSWORD, Demo, installed
from tests.web.conftest import app_of, signed_in

from nimbus_reef.cli import demo as demo_data
from nimbus_reef.cli import wiring
from nimbus_reef.store.people import people
from nimbus_reef.store.record import server
from nimbus_reef.web import kit

WEB = Path(kit.__file__).parents[1]
ODD = (
    "",
    " ",
    "-1",
    "0",
    "9223372036854775807",
    "9" * 5000,
    "1e300",
    "nan",
    "9999-12-31",
    "0001-01-01",
    "2026-02-30",
    "x" * 3000,
    "é" * 600,
    "\x00",
    "a\x00b",
    "\ud800",
    "' OR 1=1 --",
    "<b>",
    "../../etc/passwd",
    "%",
    "_",
    "[",
    "*",
    "(",
    "\\",
    ":",
    "a:b",
    "acos:gt:",
    "acos:gt:x",
    "clicks:ge:1e400",
    "verdict:is:nope",
    "targets,terms",
    "𝟙𝟚",
    "١٢",
    "\u202e",
    "True",
    "null",
    "[]",
    "{}",
    "=1+1",
    "\r\nX: y",
    "last-30",
    "yes",
    "all",
)
NAMED = re.compile(
    r"""(?:args|form|said|choice|values)(?:\.get|\.getlist|\[|\()*\(?["']([a-z_\-]+)["']"""
    r"""|^    (\w+) = \w*Field\(|name="([a-z_\-]+)\"""",
    re.MULTILINE,
)
SCOPE = (
    "account",
    "window",
    "from",
    "to",
    "month",
    "against",
    "against_from",
    "against_to",
    "target_acos",
    "format",
    "portfolio",
    "product",
    "campaign",
    "holds",
    "said",
    "judge",
    "where",
    "compared",
    "comparison",
    "value",
    "q",
    "sort",
    "cols",
    "page",
    "open",
    "by",
    "as",
    "metric",
    "show",
)
HARMLESS = {"people.sign_out", "people.sign_out_everywhere", "static", "people.set_up"}
"""Not included: they end the session that asks, or lead to files."""


@pytest.fixture(scope="module")
def mine(kept_demo, tmp_path_factory):
    """An installation of one's own: what is sent here may do anything to it."""
    conf, process = installed(kept_demo, tmp_path_factory.mktemp("odd"))
    store = wiring.open_store(conf)
    yield Demo(conf, store, demo_data.password(conf))
    store.engine.dispose()
    server.stop(process)


def names_of(endpoint):
    """The parameters that the code and the pages of a route's package name."""
    area = endpoint.partition(".")[0]
    sources = [WEB / area, WEB / "templates" / area, WEB / "kit"] if (WEB / area).is_dir() else [WEB / "kit"]
    texts = [
        file.read_text()
        for folder in sources
        for file in sorted(folder.rglob("*.*"))
        if file.suffix in (".py", ".html")
    ]
    found = {name for text in texts for groups in NAMED.findall(text) for name in groups if name}
    return sorted({*found, *SCOPE} - {"csrf_token"})


def addresses(rule, odd):
    """The address of a rule with its parts as they are usual, and with one of them odd."""
    usual = {
        "name": "targets",
        "ending": "csv",
        "kind": "campaign",
        "key": "fernhollow-de",
        "token": "x",
        "filename": "x",
    }
    parts = re.findall(r"<(?:(\w+):)?(\w+)>", rule.rule)
    path = re.sub(r"<(?:\w+:)?(\w+)>", lambda found: usual.get(found[1], "1"), rule.rule)
    yield path
    for kind, name in parts:
        said = str(10**20) if kind == "int" else odd.replace("/", "").replace("\ud800", "") or "x"
        yield re.sub(
            r"<(?:\w+:)?(\w+)>",
            lambda found, said=said, name=name: said[:500] if found[1] == name else usual.get(found[1], "1"),
            rule.rule,
        )


def test_no_parameter_of_any_route_is_a_fault(mine):
    app = app_of(mine)
    people.add(
        mine.store,
        email="ana@nimbus-reef.example",
        name="Ana",
        password=PASSWORD,
        role=people.Role.ANALYST,
        brand_names=("Fernhollow",),
    )
    who = {
        "owner": signed_in(app, "demo@nimbus-reef.example", mine.password),
        "analyst": signed_in(app, "ana@nimbus-reef.example", PASSWORD),
        "viewer": signed_in(app, "viewer@nimbus-reef.example", PASSWORD),
        "nobody": app.test_client(),
    }
    odd, turn, asked, faults, slow = cycle(ODD), count(), 0, [], []
    every = 1 if os.environ.get("REEF_ODD") == "all" else 4
    for rule in sorted(app.url_map.iter_rules(), key=lambda each: each.rule):
        if rule.endpoint in HARMLESS:
            continue
        names = names_of(rule.endpoint)
        for method in sorted(rule.methods - {"HEAD", "OPTIONS"}):
            for name in names[next(turn) % every :: every]:
                for value in ODD if os.environ.get("REEF_ODD") == "all" else (next(odd),):
                    number = next(turn)
                    role = "owner" if number % 4 else list(who)[number // 4 % 4]
                    path = list(addresses(rule, value))[number % 3 % (1 + len(rule.arguments))]
                    sent = {
                        "account": "fernhollow-de",
                        "row": "1",
                        "rows": "1",
                        name: value.encode("utf-8", "surrogatepass"),
                    }
                    begun = time.perf_counter()
                    try:
                        status = (
                            who[role]
                            .open(
                                path,
                                method=method,
                                query_string=sent if method == "GET" else {"account": "fernhollow-de"},
                                data=sent if method == "POST" else None,
                            )
                            .status_code
                        )
                    except Exception as problem:
                        status = f"{type(problem).__name__}: {str(problem)[:160]}"
                    asked += 1
                    if not isinstance(status, int) or status >= 500:
                        faults.append((role, method, path[:80], name, value[:30], status))
                    if (took := time.perf_counter() - begun) > 2:
                        slow.append((round(took, 1), method, path[:80], name, value[:30]))
    assert asked > 1_200
    assert faults == [], f"{len(faults)} faults in {asked} requests; over 2 s: {slow}"
