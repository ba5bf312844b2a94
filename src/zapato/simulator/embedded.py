"""A broker of our own in this process, for whoever has none: amqtt on this machine's loopback address.

One method of it is corrected: it sent a client what others had subscribed to.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import threading
from typing import Any

from zapato.errors import ToolMissing

HOST = "127.0.0.1"
_LOGIN = "zapato.simulator.login.Login"
READY = 10.0
"""Seconds that the broker may take to start."""


class EmbeddedBroker:
    """A broker in a thread; anybody on this machine may connect.

    At another address than the loopback it takes a `login`, user and password, which everybody then needs.
    """

    def __init__(self, host: str = HOST, port: int = 0, login: tuple[str, str] | None = None) -> None:
        self.host, self.port, self._login = host, port or _free_port(), login
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._wrong: Exception | None = None
        self._broker: Any = None
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def start(self) -> None:
        """Listen. Raises ToolMissing where it cannot."""
        self._thread.start()
        if not self._ready.wait(READY) or self._wrong:
            raise ToolMissing(
                f"the embedded broker does not start: {self._wrong or 'no answer'}",
                "name one with --broker HOST:PORT",
            )

    def stop(self) -> None:
        """Close every connection."""
        if self._thread.is_alive():
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(READY)

    def _serve(self) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            self._loop.run_until_complete(self._begin())
        except Exception as error:
            self._wrong = error
            self._ready.set()
            return
        self._ready.set()
        self._loop.run_forever()
        with contextlib.suppress(Exception):  # it ends with the process all the same
            self._loop.run_until_complete(asyncio.wait_for(self._broker.shutdown(), 3))
        for task in asyncio.all_tasks(self._loop):
            task.cancel()

    async def _begin(self) -> None:
        for name in ("amqtt", "transitions"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
        broker = _broker()
        settings = {
            "listeners": {"default": {"type": "tcp", "bind": f"{self.host}:{self.port}"}},
            "plugins": {_LOGIN: dict(zip(("user", "password"), self._login, strict=True))}
            if self._login
            else {"amqtt.plugins.authentication.AnonymousAuthPlugin": {"allow_anonymous": True}},
        }
        self._broker = broker(settings)
        await self._broker.start()


def _broker() -> Any:
    """The library's broker, which sends a client that connects what *others* subscribed to; ours does not."""
    from amqtt.broker import Broker  # type: ignore

    class Own(Broker):  # type: ignore
        async def _publish_retained_messages_for_subscription(self, subscription: Any, session: Any) -> None:
            known: Any = self._subscriptions.get(subscription[0], ())  # type: ignore
            if any(known_session[0].client_id == session.client_id for known_session in known):
                await super()._publish_retained_messages_for_subscription(subscription, session)  # type: ignore

    return Own


def _free_port() -> int:
    with socket.socket() as probe_socket:
        probe_socket.bind((HOST, 0))
        return probe_socket.getsockname()[1]
