"""One round of what a worker judges ahead, on the installation of REEF_VAR, whose database runs."""

import os

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.jobs.ahead import Ahead

if __name__ == "__main__":
    conf = config.load(dict(os.environ))
    Ahead(wiring.open_store(conf), conf.judged, conf.judged_bytes, lambda: False).once()
