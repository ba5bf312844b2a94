"""The page of a device file, on this machine alone, as it is edited: server-sent events say when something was saved."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from collections.abc import AsyncIterator, Callable
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from zapato.errors import ZapatoError
from zapato.hub.web import quiet_server
from zapato.pages.follow import PARTS, Followed

if TYPE_CHECKING:
    from starlette.requests import Request
    from starlette.responses import Response

LOOPBACK = "127.0.0.1"
PAUSE = 0.3
"""Seconds between two looks at the files' dates."""
ALIVE = 10.0
"""Seconds of silence after which a reader hears that the way is still open."""
HEADERS = {
    "Content-Security-Policy": "default-src 'none'; script-src 'self'; connect-src 'self'; style-src 'unsafe-inline'; img-src data:; "
    "frame-ancestors 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cache-Control": "no-store",
}


class LookPage:
    """Serves what is followed at a port of the loopback address; 0 takes any that is free. Raises ZapatoError."""

    def __init__(self, followed: Followed, port: int = 0) -> None:
        self.followed = followed
        try:
            self._socket = socket.create_server((LOOPBACK, port))
        except OSError as error:
            words = (error.strerror or str(error)).lower()
            raise ZapatoError(
                f"the page cannot be at port {port}: {words}", "--port with another one"
            ) from None
        self.port = int(self._socket.getsockname()[1])
        self._server = quiet_server(self._app())
        self._thread = threading.Thread(target=self._server.run, args=([self._socket],), daemon=True)

    @property
    def address(self) -> str:
        """Where to look at it."""
        return f"http://{LOOPBACK}:{self.port}/"

    def run(self, saved: Callable[[], object], goes_on: Callable[[], bool] = lambda: True) -> None:
        """Serve until Ctrl-C, or until `goes_on` says no; `saved` is called after every save."""
        self._thread.start()
        try:
            while goes_on() and self._thread.is_alive():
                if self.followed.look():
                    saved()
                time.sleep(PAUSE)
        finally:
            self._server.should_exit = True
            self._thread.join(5)

    def _app(self) -> Any:
        from starlette.applications import Starlette
        from starlette.middleware import Middleware
        from starlette.middleware.trustedhost import TrustedHostMiddleware
        from starlette.routing import Route

        return Starlette(
            routes=[
                Route("/", self._whole),
                Route("/look.js", self._script),
                Route("/part/{name}", self._part),
                Route("/changes", self._changes),
            ],
            # Another site's name that leads here gets no answer.
            middleware=[Middleware(TrustedHostMiddleware, allowed_hosts=[LOOPBACK, "localhost"])],
        )

    async def _whole(self, request: Request) -> Response:
        return _answer(self.followed.whole(), "text/html")

    async def _script(self, request: Request) -> Response:
        text = (files("zapato") / "pages" / "templates" / "look.js").read_text("utf-8")
        return _answer(text, "text/javascript")

    async def _part(self, request: Request) -> Response:
        name = request.path_params["name"]
        if name not in PARTS:
            return _answer("no such part", "text/plain", 404)
        return _answer(await asyncio.to_thread(self.followed.part, name), "text/html")

    async def _changes(self, request: Request) -> Response:
        from starlette.responses import StreamingResponse

        return StreamingResponse(self._stream(), media_type="text/event-stream", headers=HEADERS)

    async def _stream(self) -> AsyncIterator[str]:
        sent, silent = -1, 0.0
        yield "retry: 1000\n\n"
        while not self._server.should_exit:
            if self.followed.version != sent:
                sent, silent = self.followed.version, 0.0
                yield f"event: saved\ndata: {sent}\n\n"
            elif silent >= ALIVE:
                silent = 0.0
                yield ": here\n\n"
            await asyncio.sleep(PAUSE / 2)
            silent += PAUSE / 2


def _answer(text: str, kind: str, code: int = 200) -> Response:
    from starlette.responses import Response

    return Response(text, code, headers=HEADERS, media_type=kind)
