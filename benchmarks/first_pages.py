"""
Seconds of every page for the first time, in a web process that has just started, on the installation of REEF_VAR, whose
database runs.
"""

import json
import os

from benchmarks.pages import PAGES, address, ask, visitor
from nimbus_reef import config
from nimbus_reef.cli import wiring

if __name__ == "__main__":
    conf = config.load(dict(os.environ))
    client = visitor(conf, wiring.open_store(conf))
    ask(client, address("plan/"))
    print(json.dumps({page: ask(client, address(page))[0] for page in PAGES}))
