"""Figures for whoever watches many machines, in the OpenMetrics format (1.0.0)."""

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, Histogram
from prometheus_client.core import GaugeMetricFamily, InfoMetricFamily
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector
from sqlmodel import func, select

from ispettore.core.certify.certificate import issuer
from ispettore.core.measure import methods_history
from ispettore.studio.database import transaction
from ispettore.studio.operating import standing
from ispettore.studio.tables import CertificateRecord, Recording, Work, now

KIND = CONTENT_TYPE_LATEST
BUCKETS = (0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30)
registry = CollectorRegistry(auto_describe=True)
answered = Histogram(
    "ispettore_request_seconds",
    "How long requests took until their answer began, by what they asked for and the status.",
    ["operation", "status"],
    buckets=BUCKETS,
    registry=registry,
)


class _Standing(Collector):
    """What is read from the database when somebody asks."""

    def collect(self) -> Iterator[GaugeMetricFamily | InfoMetricFamily]:
        found = standing.ready()
        ready = GaugeMetricFamily("ispettore_ready", "Whether a part that work needs is there (1) or not (0).", labels=["part"])
        for part in found.parts:
            ready.add_metric([part.name.lower()], float(part.fine))
        yield ready
        yield InfoMetricFamily(
            "ispettore_software", "What runs here.", {"version": issuer(), "methods": str(methods_history.current())}
        )
        if found.parts[0].fine:
            yield from self._of_database()

    def _of_database(self) -> Iterator[GaugeMetricFamily]:
        with transaction() as session:
            rows = session.exec(select(Work.kind, Work.state, func.count()).group_by(Work.kind, Work.state)).all()
            queue, workers = standing.queue(session), standing.workers(session)
            counts = {
                table: session.exec(select(func.count()).select_from(table)).one() for table in (Recording, CertificateRecord)
            }
        work = GaugeMetricFamily("ispettore_work", "Pieces of work by kind and state.", labels=["kind", "state"])
        for kind, state, count in rows:
            work.add_metric([kind, state], count)
        yield work
        age = GaugeMetricFamily("ispettore_work_waiting_seconds", "How long the first of a kind waits.", labels=["kind"])
        for line in queue:
            age.add_metric([line.kind], (now() - line.waiting_since).total_seconds() if line.waiting_since else 0.0)
        yield age
        yield GaugeMetricFamily("ispettore_workers", "Workers that were heard of in time.", sum(one.alive for one in workers))
        yield GaugeMetricFamily("ispettore_recordings", "Recordings, removed ones too.", counts[Recording])
        yield GaugeMetricFamily("ispettore_certificates", "Certificates in the register.", counts[CertificateRecord])


registry.register(_Standing())


def written() -> bytes:
    """All of it as text."""
    return bytes(generate_latest(registry))  # type: ignore[no-untyped-call]
