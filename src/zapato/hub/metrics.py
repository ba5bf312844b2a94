"""What the hub knows as OpenMetrics (version 1.0.0): for whoever gathers figures of many services already.

Numbers and truths (1 and 0) of every device, who is online, which alerts stand. Texts are no figures.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from zapato.hub.service import Service

if TYPE_CHECKING:
    from prometheus_client.metrics_core import Metric

TYPE = "application/openmetrics-text; version=1.0.0; charset=utf-8"


def metrics(service: Service) -> bytes:
    """All figures in the text format, with its last line `# EOF`."""
    from prometheus_client import CollectorRegistry
    from prometheus_client.openmetrics import exposition

    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Figures(service))
    library: Any = exposition  # untyped
    return bytes(library.generate_latest(registry))


class _Figures:
    """Hands the families to the library, which writes names, labels and escapes as the standard has them."""

    def __init__(self, service: Service) -> None:
        self._service = service

    def describe(self) -> Iterable[Metric]:
        return ()

    def collect(self) -> Iterator[Metric]:
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily

        hub, service = self._service.hub, self._service
        value = GaugeMetricFamily(
            "zapato_value",
            "last value of a property; truths are 1 and 0",
            labels=("device", "property", "unit"),
        )
        for device, name, unit, number in hub.figures():
            value.add_metric((device, name, unit), number)
        online = GaugeMetricFamily(
            "zapato_online", "whether a device says that it is there", labels=("device",)
        )
        heard = GaugeMetricFamily(
            "zapato_heard_timestamp", "when a device last said anything", labels=("device",), unit="seconds"
        )
        for device, there, at in hub.presence():
            if there is not None:
                online.add_metric((device,), float(there))
            if at is not None:
                heard.add_metric((device,), at)
        alert = GaugeMetricFamily("zapato_alert", "alerts that stand", labels=("alert",))
        for row in service.history.standing():
            alert.add_metric((str(row["name"]),), 1.0)
        yield from (value, online, heard, alert)
        yield CounterMetricFamily("zapato_messages", "messages that the hub took", value=service.count)
        yield GaugeMetricFamily(
            "zapato_broker_connected",
            "whether the hub is connected to its broker",
            value=float(service.connection.up),
        )
