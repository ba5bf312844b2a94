"""The hub at a broker: what comes is written down before the broker is told that it came.

The numbers of messages stand in the same transaction, in a session that the broker keeps, so one that comes twice is known.
"""

from __future__ import annotations

import contextlib
import gc
import queue
import sys
import threading
import time
from collections.abc import Callable, Sequence
from itertools import groupby
from operator import itemgetter
from typing import TYPE_CHECKING, Any

from zapato.deliver.broker import Connection
from zapato.design.alerts import Alert
from zapato.errors import NotDelivered, ZapatoError
from zapato.hub.history import DAY, History, HistoryRow
from zapato.hub.hub import ABOUT, Hub, OutgoingMessage
from zapato.hub.watchman import Watchman

if TYPE_CHECKING:
    import paho.mqtt.client as mqtt

DESCRIBED = tuple("+/" * levels + "about" for levels in range(1, 5))
"""Where descriptions are: under the site's and the device's name, or what `[mqtt] topic` says instead."""
PUBACK = b"\x40\x02"
"""How an acknowledgement begins (MQTT 3.1.1, 3.4.1); two bytes for the message's number follow."""
BATCH = 1000
"""Messages that are written in one go at the most."""
MANY, GATHERED = 20, 0.02
"""Where so many messages came at once, s for which the next ones are gathered: a write costs the same for one and for hundreds."""
KEEP, WHOLE = 366.0, 30.0
"""Days of history, and those of which every number is kept; of older ones one in five minutes."""
ROOM = 1024.0 * 1024 * 1024
"""Bytes of history."""
WAITING = 20_000
"""Messages that may wait to be written; then the broker waits."""


def alone() -> None:
    """For a process that is a hub and nothing else: who asks for its page waits neither for the collector nor for another thread's turn."""
    gc.set_threshold(50_000, 20, 1000)  # a description lives on, and is looked at again each time
    sys.setswitchinterval(0.002)


class PersistentConnection(Connection):
    """A connection whose session the broker keeps, and whose messages are acknowledged by hand."""

    def __init__(self, host: str, port: int, user: str, password: str, ca: bytes, session: str) -> None:
        self.messages: queue.Queue[tuple[int, mqtt.MQTTMessage]] = queue.Queue(WAITING)
        self.sessions = 0
        """Sessions that began anew, for the broker knew none: the numbers of earlier messages mean nothing any more."""
        self.filters: set[str] = {*DESCRIBED}
        self.up, self.ended, self._many = False, False, False
        super().__init__(host, port, user, password, ca, DESCRIBED, session)

    def _connected(self, client: mqtt.Client, _data: Any, flags: Any, code: Any, *_rest: Any) -> None:
        self._topics = sorted(self.filters)
        self.up = not code.is_failure
        self.sessions += not flags.session_present
        super()._connected(client, _data, flags, code, *_rest)

    def _lost(self, *_given: Any) -> None:
        self.up = False

    def _message(self, _client: mqtt.Client, _data: Any, message: mqtt.MQTTMessage) -> None:
        while not self.ended:
            with contextlib.suppress(queue.Full):
                self.messages.put((self.sessions, message), timeout=0.5)
                break

    def follow(self, filters: Sequence[str]) -> None:
        """Hear these topics from now on."""
        new = [topic_filter for topic_filter in filters if topic_filter not in self.filters]
        self.filters.update(new)
        for at in range(0, len(new), 100):
            self._client.subscribe([(topic_filter, 1) for topic_filter in new[at : at + 100]])

    def waiting(self, seconds: float) -> list[tuple[int, mqtt.MQTTMessage]]:
        """What has come, each with the session that it came in; waits so long for the first."""
        messages: list[tuple[int, mqtt.MQTTMessage]] = []
        with contextlib.suppress(queue.Empty):
            messages.append(self.messages.get(timeout=seconds))
            if self._many:
                time.sleep(GATHERED)
            while len(messages) < BATCH:
                messages.append(self.messages.get_nowait())
        self._many = MANY < len(messages) < BATCH
        return messages

    def done(self, messages: Sequence[mqtt.MQTTMessage]) -> None:
        """Tell the broker that these need not come again: all in one piece, for `ack` wakes the client's thread for each."""
        acks = b"".join(PUBACK + message.mid.to_bytes(2, "big") for message in messages if message.qos)
        if acks:
            self._client._packet_queue(PUBACK[0], acks, 0, 1)  # pyright: ignore[reportPrivateUsage]

    def close(self) -> None:
        self.ended = True
        super().close()


class Service:
    """Follows a broker until it is stopped.

    `ca` is the authority for TLS, in PEM or DER, or empty. `keep` are the days of history, `room` its bytes at the most. What is wrong now is in `trouble`, what was left out last in `odd`.
    Raises NotDelivered where the broker cannot be reached.
    """

    def __init__(
        self,
        broker: tuple[str, int],
        history: History,
        *,
        user: str = "",
        password: str = "",
        ca: bytes = b"",
        keep: float = KEEP,
        room: float = ROOM,
    ) -> None:
        self.broker, self.history, self.keep, self.room = broker, history, keep, room
        self.hub = Hub(history.last())
        for topic, text in history.descriptions().items():
            self.hub.describe(topic, text.encode())
        self.watchman = Watchman((), self.hub, history)
        self.trouble = self.odd = ""
        self.count = 0
        self._over = threading.Event()
        self._looked = self._pruned = 0.0
        self._session = 0
        self._new: dict[str, str] = {}
        """Descriptions that came and are not written yet, by topic."""
        self._thread = threading.Thread(target=self._run, daemon=True)
        self.connection = PersistentConnection(*broker, user, password, ca, history.session)

    def start(self) -> None:
        """Follow what comes, in a thread of its own."""
        self._follow_all()
        self._thread.start()

    def watch(self, alerts: Sequence[Alert]) -> None:
        """Look out for these from now on, and for no others; what stands of others is over."""
        for name in {alert["name"] for alert in self.history.standing()} - {alert.name for alert in alerts}:
            self.history.gone(name, time.time())
        self.watchman = Watchman(alerts, self.hub, self.history)

    def stop(self) -> None:
        """Write what is there, and leave; the broker keeps the rest for the next start."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(10)
        self.connection.close()

    def say(self, saying: OutgoingMessage) -> None:
        """Publish. Raises NotDelivered where the broker is away."""
        if not self.connection.up:
            raise NotDelivered("the broker is not connected: nothing was sent", "try again when it is back")
        self.connection.publish(saying.topic, saying.payload, saying.retain, saying.qos)

    def do(self, line: str) -> OutgoingMessage:
        """Do what a line says, as people type it; gives what was published. Raises ZapatoError."""
        saying = self.hub.command(line)
        self.say(saying)
        return saying

    def _run(self) -> None:
        while not self._over.is_set():
            try:
                messages = self.connection.waiting(0.25)
                for session, together in groupby(messages, key=itemgetter(0)):
                    if session != self._session:
                        self._session = session
                        self._until_written(self.history.forget_taken)
                    self._take([message for _, message in together])
            except Exception as error:  # whatever it is, what comes next is followed
                self.odd = f"values were not stored: {type(error).__name__}: {error}"
                self._over.wait(0.1)

    def _take(self, messages: list[mqtt.MQTTMessage]) -> None:
        at = time.time()
        rows: list[HistoryRow] = []
        numbers: set[int] = set()
        self._new.clear()
        for message in messages:
            twice = message.dup and (message.mid in numbers or self.history.was_taken(message.mid))
            try:
                rows += [] if twice else self._heard(message, at)
                numbers.add(message.mid)
            except Exception as error:  # one message that nobody foresaw costs no other
                self.odd = f"a message under {message.topic} was left out: {type(error).__name__}: {error}"
        taken, new = [message.mid for message in messages if message.qos], dict(self._new)
        if not (rows or new) or self._until_written(lambda: self.history.put(rows, taken, new)):
            self.connection.done(messages)
        self.count += len(messages)
        self._until_written(lambda: self._look(at, frozenset(row.name for row in rows)))

    def _heard(self, message: mqtt.MQTTMessage, at: float) -> list[HistoryRow]:
        """What is to be kept of a message."""
        payload = bytes(message.payload)
        if message.topic.endswith(ABOUT):
            self._describe(message.topic, payload, at)
            return []
        return self.hub.hear(message.topic, payload, bool(message.retain), at)

    def _until_written(self, work: Callable[[], object]) -> bool:
        """Do it until it is done; False where the end comes before the disk has room again."""
        while not self._over.is_set():
            try:
                work()
                self.trouble = ""
                return True
            except ZapatoError as error:
                self.trouble = str(error)
                self._over.wait(1)
        return False

    def _look(self, at: float, names: frozenset[str]) -> None:
        """The alerts, and once a day what is too old."""
        if names:
            self.watchman.look(at, names)
        if at - self._looked >= 1:
            self._looked = at
            self.watchman.look(at)
        if at - self._pruned >= DAY:
            self.history.prune(at - self.keep * DAY)
            self.history.thin(at - WHOLE * DAY)
            self.history.bound(self.room)
            self._pruned = at

    def _describe(self, topic: str, payload: bytes, at: float) -> None:
        if self.hub.describe(topic, payload, at):
            self._new[topic] = payload.decode("utf-8", "replace")
            thing = self.hub.described(topic)
            self.connection.follow(thing.filters if thing else ())

    def _follow_all(self) -> None:
        self.connection.follow([topic for thing in [*self.hub.things.values()] for topic in thing.filters])
