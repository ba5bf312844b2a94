"""The hub as a page: things and values, live by server-sent events (HTML Living Standard, section 9.2), for a phone, too.

It is bound to this machine's loopback address. At any other it wants a token, once in the address, then as a cookie.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import json
import secrets
import socket
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Mapping
from importlib.resources import files
from typing import TYPE_CHECKING, Any, cast

from zapato.errors import ZapatoError
from zapato.hub.hub import PAGE, STATE, HubEvent
from zapato.hub.service import Service
from zapato.lang.json_text import read_json

if TYPE_CHECKING:
    import uvicorn
    from starlette.requests import Request
    from starlette.responses import Response

LOOPBACK = ("127.0.0.1", "localhost", "::1")
PORT = 8123
WAITING = 2000
"""Changes that may wait for a slow reader; then it is let go, and begins anew by itself."""
READERS = 100
"""Who may follow at once; whoever comes beyond tries again in half a minute."""
ALERTS = 100
"""Alerts that the page shows at the most."""
TOGETHER = 0.1
"""Seconds for which changes are gathered before a reader gets them."""
ALIVE = 15.0
"""Seconds of silence after which a reader hears that the way is still open."""
LARGEST = 4096
"""Bytes of a request's body at the most."""
COOKIE = "zapato_hub"
KINDS = {"page.html": "text/html", "page.css": "text/css", "page.js": "text/javascript"}
HEADERS = {
    "Content-Security-Policy": "default-src 'self'; img-src 'self' data:; frame-ancestors 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cache-Control": "no-store",
}


class Page:
    """Serves a running hub at `where`, "PORT" or "ADDRESS:PORT". Raises ZapatoError where it cannot be bound."""

    def __init__(self, service: Service, where: str = "", token: str = "") -> None:
        host, port = place(where)
        self.service = service
        self.token = token or ("" if host in LOOPBACK else secrets.token_urlsafe(18))
        self._readers: set[_Reader] = set()
        self._socket = _bound(host, port)
        self.host, self.port = host, int(self._socket.getsockname()[1])
        self._server = quiet_server(self._app())
        self._thread = threading.Thread(target=self._server.run, args=([self._socket],), daemon=True)

    @property
    def address(self) -> str:
        """Where to look at it."""
        shown = f"[{self.host}]" if ":" in self.host else self.host
        return f"http://{shown}:{self.port}/" + (f"?token={self.token}" if self.token else "")

    @property
    def runs(self) -> bool:
        return self._thread.is_alive()

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._server.should_exit = True
        for reader in [*self._readers]:
            reader.let_go()
        self._thread.join(5)

    # --- requests

    def _app(self) -> Any:
        from starlette.applications import Starlette
        from starlette.routing import Route

        def guarded(
            answer: Callable[[Request], Awaitable[Response]],
        ) -> Callable[[Request], Awaitable[Response]]:
            async def call(request: Request) -> Response:
                response = self._refused(request) or await answer(request)
                response.headers.update(HEADERS)
                return response

            return call

        return Starlette(
            routes=[
                Route("/", guarded(self._page)),
                *(Route(f"/{name}", guarded(_file)) for name in KINDS if name != "page.html"),
                Route("/things", guarded(self._things)),
                Route("/changes", guarded(self._changes)),
                Route("/past", guarded(self._past)),
                Route("/metrics", guarded(self._metrics)),
                Route("/do", guarded(self._do), methods=["POST"]),
            ]
        )

    def _refused(self, request: Request) -> Response | None:
        """Why this request is not answered, or None."""
        host = request.headers.get("host", "")
        name = host.rsplit(":", 1)[0].strip("[]")
        if not self.token and name not in LOOPBACK:  # another page's name that leads here
            return _answer({"wrong": "this page is for this machine alone"}, 403)
        if self.token and not self._known(request):
            return _answer(
                {"wrong": "the address needs its token: open the address that the hub printed"}, 401
            )
        origin = request.headers.get("origin")
        if request.method == "POST" and (
            (origin is not None and origin.split("://")[-1] != host)
            or not request.headers.get("content-type", "").startswith("application/json")
        ):
            return _answer({"wrong": "from another page"}, 403)
        return None

    def _known(self, request: Request) -> bool:
        bearer = request.headers.get("authorization", "").removeprefix("Bearer ")
        given = (request.cookies.get(COOKIE, ""), request.query_params.get("token", ""), bearer)
        return any(hmac.compare_digest(candidate.encode(), self.token.encode()) for candidate in given)

    async def _page(self, request: Request) -> Response:
        from starlette.responses import RedirectResponse

        if request.query_params.get("token"):
            response = RedirectResponse("/", 303)
            response.set_cookie(COOKIE, self.token, httponly=True, samesite="strict", max_age=90 * 86_400)
            return response
        return await _file(request)

    async def _things(self, request: Request) -> Response:
        return _answer(
            {**await asyncio.to_thread(self._asked, request.query_params), "at": time.time(), "broker": self.service.connection.up,
             "trouble": self.service.trouble or self.service.odd}
        )  # fmt: skip

    def _asked(self, asked: Mapping[str, str]) -> dict[str, Any]:
        number = asked.get("page", "")
        page = int(number) if number.isdecimal() and len(number) < 6 else 0
        page_data = self.service.hub.page(asked.get("find", "")[:100], page)
        return {**page_data, "alerts": self.service.history.standing()[:ALERTS]}

    async def _changes(self, request: Request) -> Response:
        from starlette.responses import StreamingResponse

        of = request.query_params.getlist("of")[:PAGE]
        return StreamingResponse(self._stream(of), media_type="text/event-stream")

    async def _stream(self, of: list[str]) -> AsyncIterator[str]:
        if len(self._readers) >= READERS:
            yield "retry: 30000\n\n"
            return
        reader = _Reader(asyncio.get_running_loop(), of)
        self._readers.add(reader)
        stop = self.service.hub.listen(reader.hear)
        try:
            yield "retry: 2000\n\n"
            async for text in reader.texts():
                yield text
        finally:
            stop()
            self._readers.discard(reader)

    async def _past(self, request: Request) -> Response:
        name = request.query_params.get("name", "")[:500]
        with contextlib.suppress(ValueError):
            length = min(max(float(request.query_params.get("since", "3600")), 60.0), 366 * 86_400.0)
            until = time.time()
            points = await asyncio.to_thread(self.service.history.series, name, until - length, until, 240)
            return _answer({"since": until - length, "until": until, "points": [p.as_dict() for p in points]})
        return _answer({"wrong": "since is a number of seconds"}, 400)

    async def _metrics(self, _request: Request) -> Response:
        from starlette.responses import Response

        from zapato.hub.metrics import TYPE, metrics

        return Response(await asyncio.to_thread(metrics, self.service), media_type=TYPE)

    async def _do(self, request: Request) -> Response:
        body = b""
        async for piece in request.stream():
            body += piece
            if len(body) > LARGEST:
                return _answer({"wrong": "too long"}, 413)
        try:
            raw: Any = read_json(body)
            asked = cast(dict[str, Any], raw)
            name = str(asked["name"])
            hub = self.service.hub
            inputs: Any = asked.get("inputs", [])
            saying = hub.write(name, asked["value"]) if "value" in asked else hub.invoke(name, list(inputs))
            await asyncio.to_thread(self.service.say, saying)
        except ZapatoError as wrong:
            return _answer({"wrong": str(wrong), "fix": wrong.fix}, 422)
        except (ValueError, TypeError, KeyError):
            return _answer({"wrong": "not a command"}, 400)
        return _answer({"topic": saying.topic, "payload": saying.payload})


def _answer(data: object, status: int = 200) -> Response:
    """JSON in plain letters: whatever a device said, it can be sent."""
    from starlette.responses import Response

    return Response(json.dumps(data), status, media_type="application/json")


class _Reader:
    """Somebody who follows the changes: of what is on the page, a few times a second, the last of each value."""

    def __init__(self, loop: asyncio.AbstractEventLoop, of: Iterable[str] = ()) -> None:
        self._loop, self._of = loop, frozenset(of)
        self._waits = asyncio.Event()
        self._lock = threading.Lock()
        self._pending: dict[str, HubEvent] = {}
        self._count, self._woken, self._over = 0, False, False

    def hear(self, change: HubEvent) -> None:
        """From any thread."""
        key = change.name
        if change.what == "value" and self._of and change.name.partition(".")[0] not in self._of:
            if not change.name.endswith(f".{STATE}"):
                return
            key, change = "", HubEvent("thing", "", None, change.at)  # who is there is counted on every page
        with self._lock:
            if change.what in ("event", "alert", "over"):
                self._count += 1
                key = f"{self._count} {key}"
            self._pending[f"{change.what} {key}"] = change
            self._over = self._over or len(self._pending) > WAITING
            wake, self._woken = not self._woken, True
        if wake:
            self._wake()

    def let_go(self) -> None:
        self._over = True
        self._wake()

    def _wake(self) -> None:
        with contextlib.suppress(RuntimeError):  # the page is closed
            self._loop.call_soon_threadsafe(self._waits.set)

    async def texts(self) -> AsyncIterator[str]:
        while not self._over:
            try:
                await asyncio.wait_for(self._waits.wait(), ALIVE)
            except TimeoutError:
                yield ": still here\n\n"
                continue
            self._waits.clear()
            with self._lock:
                changes, self._pending, self._woken = self._pending, {}, False
            yield "".join(f"data: {json.dumps(change.as_dict())}\n\n" for change in changes.values())
            await asyncio.sleep(TOGETHER)


async def _file(request: Request) -> Response:
    from starlette.responses import Response

    name = request.url.path.strip("/") or "page.html"
    return Response((files("zapato") / "hub" / name).read_bytes(), media_type=KINDS[name])


def quiet_server(app: Any) -> uvicorn.Server:
    """A server of pages that says nothing of itself, and ends within a second."""
    import uvicorn

    made = uvicorn.Config(
        app, log_level="critical", lifespan="off", timeout_graceful_shutdown=1, ws="none", server_header=False
    )
    return uvicorn.Server(made)


def place(where: str) -> tuple[str, int]:
    """Address and port of "PORT" or "ADDRESS:PORT". Raises ZapatoError."""
    host, _, port = where.rpartition(":")
    if where and not (port.isdigit() and int(port) < 65536):
        raise ZapatoError(f"--web takes PORT or ADDRESS:PORT, not {where}", "--web 8080")
    return host.strip("[]") or LOOPBACK[0], int(port) if port else PORT


def _bound(host: str, port: int) -> socket.socket:
    try:
        family = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0][0]
        return socket.create_server((host, port), family=family)
    except (OSError, UnicodeError) as error:
        words = getattr(error, "strerror", None) or str(error)
        raise ZapatoError(
            f"the page cannot be at {host}:{port}: {words.lower()}", "--web with another port"
        ) from None
