"""
What a watcher counts, in the open text format of Prometheus: requests and their seconds, jobs, workers, database, what
is kept.

Imported only where a token is set: the library decides as it is imported whether several processes count together.
"""

from __future__ import annotations

import hmac
import os
import time
from collections.abc import Iterator
from typing import Final

from flask import Flask, Response, abort, g, request
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Counter, Gauge, Histogram, generate_latest
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.registry import Collector

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads, workers
from nimbus_reef.store.record.engine import Store

SHARED_FOLDER: Final = "PROMETHEUS_MULTIPROC_DIR"
_SECONDS: Final = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30)
_OWN = CollectorRegistry()
_REQUESTS = Counter("reef_requests", "Requests answered.", ("endpoint", "method", "status"), registry=_OWN)
_TOOK = Histogram(
    "reef_request_seconds", "Seconds until a request was answered.", ("endpoint",), registry=_OWN, buckets=_SECONDS
)
_KEPT = Gauge("reef_kept_bytes", "Bytes of results kept in web processes.", registry=_OWN, multiprocess_mode="livesum")


def measure(app: Flask, token: str, store: Store, facts: Facts) -> None:
    """Counts every request of the application, and answers `/metrics` to whoever shows the token."""

    @app.before_request
    def begin() -> None:
        g.begun = time.perf_counter()

    @app.after_request
    def end(response: Response) -> Response:
        endpoint = request.endpoint or "none"
        _REQUESTS.labels(endpoint, request.method, str(response.status_code)).inc()
        if "begun" in g:
            _TOOK.labels(endpoint).observe(time.perf_counter() - g.begun)
        return response

    def told() -> Response:
        shown = request.headers.get("Authorization", "").removeprefix("Bearer ")
        if not hmac.compare_digest(shown.encode(), token.encode()):
            abort(404)
        _KEPT.set(facts.cache.bytes_held)
        registry = CollectorRegistry()
        if os.environ.get(SHARED_FOLDER):
            MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
        else:
            registry.register(_OWN)
        registry.register(_Record(store))
        return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)

    app.add_url_rule("/metrics", "metrics", told)


class _Record(Collector):
    """What the record tells at the moment it is asked."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def collect(self) -> Iterator[GaugeMetricFamily]:
        """Whether the database answers and how fast; jobs by state; workers heard of."""
        begun = time.perf_counter()
        try:
            states, present = loads.states(self._store), len(workers.present(self._store))
        except StoreAway:
            yield GaugeMetricFamily("reef_database_up", "Whether the database answers.", value=0)
            return
        yield GaugeMetricFamily("reef_database_up", "Whether the database answers.", value=1)
        yield GaugeMetricFamily(
            "reef_database_seconds", "Seconds that two small questions took.", value=time.perf_counter() - begun
        )
        jobs = GaugeMetricFamily("reef_jobs", "Jobs by state.", labels=("kind", "state"))
        for (kind, state), count in states.items():
            jobs.add_metric((kind, state), count)
        yield jobs
        yield GaugeMetricFamily("reef_workers", "Workers that were heard of lately.", value=present)
