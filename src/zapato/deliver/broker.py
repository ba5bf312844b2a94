"""A connection to the broker that a design names, for who delivers and who watches."""

from __future__ import annotations

import contextlib
import json
import queue
import ssl
import threading
from collections.abc import Generator, Sequence
from typing import TYPE_CHECKING, Any

from zapato.descriptions import thing
from zapato.design import Design
from zapato.design.authority import authority
from zapato.errors import NotDelivered
from zapato.lang.tables import broker_port

if TYPE_CHECKING:
    import paho.mqtt.client as mqtt

JOIN = 10.0
"""Seconds to reach the broker."""


class Connection:
    """What was heard waits in `heard`, as (topic, payload); messages are published with QoS 1.

    With a `session` the broker keeps by this name what comes while we are away, and each message is acknowledged by hand.
    """

    def __init__(
        self,
        host: str,
        port: int,
        user: str,
        password: str,
        ca: bytes,
        topics: Sequence[str],
        session: str = "",
    ):
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion

        self.heard: queue.SimpleQueue[tuple[str, bytes]] = queue.SimpleQueue()
        self._topics = topics
        self._joined, self._refused = threading.Event(), ""
        self._client = mqtt.Client(
            CallbackAPIVersion.VERSION2, session, clean_session=not session, manual_ack=bool(session)
        )
        self._last: mqtt.MQTTMessageInfo | None = None
        if user:
            self._client.username_pw_set(user, password or None)
        if ca:
            self._client.tls_set_context(ssl.create_default_context(cadata=ca))
        self._client.on_connect, self._client.on_subscribe = self._connected, self._subscribed
        self._client.on_message, self._client.on_disconnect = self._message, self._lost
        try:
            self._client.connect(host, port)
        except (OSError, ValueError) as error:
            raise NotDelivered(
                f"no broker answers at {host}:{port}: {error}", "--broker HOST:PORT names another"
            ) from None
        self._client.loop_start()
        if not self._joined.wait(JOIN) or self._refused:
            self.close()
            raise NotDelivered(
                f"the broker at {host}:{port} refuses the connection: {self._refused or 'no answer'}",
                "user and password stand in [mqtt]" if self._refused else "--broker HOST:PORT names another",
            )

    def _connected(self, client: mqtt.Client, _data: Any, _flags: Any, code: Any, *_rest: Any) -> None:
        if code.is_failure:
            self._refused = str(code)
            self._joined.set()
        else:
            client.subscribe([(topic, 1) for topic in self._topics])

    def _subscribed(self, *_given: Any) -> None:
        self._joined.set()

    def _message(self, _client: mqtt.Client, _data: Any, message: mqtt.MQTTMessage) -> None:
        self.heard.put((message.topic, bytes(message.payload)))

    def _lost(self, *_given: Any) -> None:
        """The connection is gone; it is made anew by itself."""

    def publish(self, topic: str, payload: str | bytes, retain: bool = False, qos: int = 1) -> None:
        self._last = self._client.publish(topic, payload, qos, retain)

    def arrived(self) -> bool:
        """Wait until what was published last is at the broker; False where it does not get there."""
        if self._last is None:
            return True
        with contextlib.suppress(ValueError, RuntimeError):  # it was not even sent
            self._last.wait_for_publish(JOIN)
            return self._last.is_published()
        return False

    def next(self, seconds: float) -> tuple[str, bytes] | None:
        """The next message; None where none comes in time."""
        with contextlib.suppress(queue.Empty):
            return self.heard.get(timeout=max(0.0, seconds))
        return None

    def close(self) -> None:
        self._client.disconnect()
        self._client.loop_stop()


def describe(design: Design, link: Connection) -> None:
    """Leave the device's Thing Description at the broker, retained under `about`.

    The desk says it, not the device: it takes more than the heap of the smallest chip, and its flash has no room for it twice.
    Raises NotDelivered.
    """
    about = json.dumps(thing(design), separators=(",", ":"), ensure_ascii=False)
    link.publish(f"{design.topic}/about", about, retain=True)
    if not link.arrived():
        raise NotDelivered(
            f"the description of {design.name} did not get to the broker",
            "zapato fleet --describe repeats it",
        )


@contextlib.contextmanager
def connected(design: Design, broker: tuple[str, int] | None, topics: Sequence[str]) -> Generator[Connection]:
    """A connection with what the design says of its broker; `broker` names another place. Raises NotDelivered."""
    about = design.mqtt
    if about is None:
        raise NotDelivered(f"{design.name} has no [mqtt]: nothing reaches it over the air", "--port PORT")
    host, port = broker or (str(about.get("host")), broker_port(about))
    ca = authority(design) if about.get("tls") else b""
    made = Connection(host, port, str(about.get("user") or ""), str(about.get("password") or ""), ca, topics)
    try:
        yield made
    finally:
        made.close()
