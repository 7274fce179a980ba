"""The page on this machine: what it serves, to whom, and how it tells of changes."""

from __future__ import annotations

import asyncio
import hmac
import json
import secrets
import socket
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from importlib import resources
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

from zesty_otter.errors import InternalError, UsageError, ZestyOtterError
from zesty_otter.page.shelf import Change, Shelf, Which

if TYPE_CHECKING:
    from starlette.applications import Starlette
    from starlette.requests import Request
    from starlette.responses import Response

HOST = "127.0.0.1"
_ALIVE_EVERY = 15.0  # seconds
_HEADERS = {
    # Only what comes from here, nothing else; pictures may be made in the page.
    "content-security-policy": "default-src 'none'; script-src 'self'; style-src 'self';"
    " img-src 'self' blob: data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}
_LASTING = {"cache-control": "private, max-age=86400, immutable"}  # its address has the version
_FRESH = {"cache-control": "no-store"}
_FILES = {"viewer.js": "text/javascript", "look.css": "text/css"}


def asset_text(name: str) -> str:
    """A file of the page: its script or its style."""
    return (resources.files("zesty_otter.page") / name).read_text("utf-8")


class PageServer:
    """A page of a shelf, served to whoever knows its address.

    Parameters
    ----------
    shelf : Shelf
    port : int
        0 for any that is free.

    Raises
    ------
    UsageError
        When the port is taken, or the packages for serving are not installed.
    """

    def __init__(self, shelf: Shelf, port: int = 0) -> None:
        for package in ("starlette", "uvicorn"):
            if find_spec(package) is None:
                remedy = "Install it with `pip install 'zesty-otter[page]'`."
                raise UsageError(f"the page needs the package {package}.", remedy=remedy)
        self.shelf = shelf
        self.token = secrets.token_urlsafe(18)
        self.socket = _listening(port)
        self.stop = threading.Event()
        self._clients: set[asyncio.Queue[Change | None]] = set()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._server: Any = None

    @property
    def address(self) -> str:
        """Where the page is."""
        return f"http://{HOST}:{self.socket.getsockname()[1]}/{self.token}/"

    def serve(self, on_change: Callable[[Change], None] | None = None) -> None:
        """Serve until `end` is called or the process is interrupted; ``on_change`` is told of what changes."""
        import uvicorn

        class Server(uvicorn.Server):
            def handle_exit(server, sig: int, frame: Any) -> None:  # noqa: N805
                self.end()  # pages that listen for changes would hold it up
                super().handle_exit(sig, frame)

        config = uvicorn.Config(
            self.app(), log_level="critical", access_log=False, lifespan="on", timeout_graceful_shutdown=1,
            server_header=False,
        )  # fmt: skip
        self._server = Server(config)
        watcher = threading.Thread(target=self._watch, args=(on_change,), daemon=True)
        watcher.start()
        threading.Thread(target=self.shelf.begin, daemon=True).start()
        try:
            self._server.run(sockets=[self.socket])
        finally:
            self.end()
            self.socket.close()
            watcher.join(timeout=3)

    def end(self) -> None:
        """Stop serving; safe to call from another thread."""
        self.stop.set()
        if self._server is not None:
            self._server.should_exit = True
        self._tell(None)

    @contextmanager
    def in_background(self) -> Iterator[str]:
        """Serve in a thread while the block runs; gives the address."""
        thread = threading.Thread(target=self.serve, daemon=True)
        thread.start()
        try:
            yield self.address
        finally:
            self.end()
            thread.join(timeout=5)

    def _watch(self, on_change: Callable[[Change], None] | None) -> None:
        for change in self.shelf.changes(self.stop):
            self._tell(change)
            if on_change is not None:
                on_change(change)

    def refresh(self) -> None:
        """Ask the shelf again what there is, and tell every open page."""
        self.shelf.refresh()
        self._tell(Change("list"))

    def _tell(self, change: Change | None) -> None:
        loop = self._loop
        if loop is None or loop.is_closed():
            return

        def put() -> None:
            for queue in self._clients:
                queue.put_nowait(change)

        loop.call_soon_threadsafe(put)

    # ---- what is served

    def app(self) -> Starlette:
        """What answers requests."""
        from contextlib import asynccontextmanager

        from starlette.applications import Starlette
        from starlette.responses import PlainTextResponse
        from starlette.routing import Route

        @asynccontextmanager
        async def lifespan(app: Starlette) -> AsyncIterator[None]:
            self._loop = asyncio.get_running_loop()
            yield
            self._loop = None

        def own(path: str, answer: Callable[[Request], Any]) -> Route:
            return Route("/{token}/" + path, answer)

        async def refuse(request: Request, error: Exception) -> Response:
            return PlainTextResponse("There is nothing here.", 404, headers=_HEADERS)

        routes = [
            own("", self._page),
            own("events", self._events),
            own("assets.json", lambda request: self._json(self.shelf.listing())),
            own("facts/{key}.json", self._facts),
            own("findings/{key}.json", self._findings),
            own("{kind:str}/{key}.bin", self._data),
            own("thumb/{key}.png", self._thumb),
            own("{file}", self._file),
        ]
        app = Starlette(routes=routes, lifespan=lifespan, exception_handlers={404: refuse, 405: refuse})
        app.add_middleware(_Guard, server=self)
        return app

    def _page(self, request: Request) -> Response:
        from starlette.responses import HTMLResponse

        text = (
            '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
            '<meta name="viewport" content="width=device-width, initial-scale=1">\n<title>Zesty Otter</title>\n'
            '<link rel="icon" href="data:,">\n<link rel="stylesheet" href="look.css">\n'
            '<script src="viewer.js" defer></script>\n</head>\n'
            '<body data-page="look"><noscript>This page needs JavaScript.</noscript></body>\n</html>\n'
        )
        return HTMLResponse(text, headers=_FRESH)

    def _file(self, request: Request) -> Response:
        from starlette.exceptions import HTTPException
        from starlette.responses import Response

        name = request.path_params["file"]
        if name not in _FILES:
            raise HTTPException(404)
        return Response(asset_text(name), media_type=_FILES[name], headers=_FRESH)

    def _json(self, document: Any, headers: dict[str, str] = _FRESH) -> Response:
        from starlette.responses import Response

        data = json.dumps(document, ensure_ascii=False, allow_nan=False, separators=(",", ":")).encode()
        return Response(data, media_type="application/json", headers=headers)

    def _facts(self, request: Request) -> Response:
        return self._answer(lambda: self._json(self.shelf.packed(*_asked(request)).facts, _LASTING))

    def _findings(self, request: Request) -> Response:
        return self._answer(lambda: self._json(self.shelf.findings(_asked(request)[0]), _LASTING))

    def _data(self, request: Request) -> Response:
        from starlette.exceptions import HTTPException
        from starlette.responses import Response

        kind = request.path_params["kind"]
        key, which = _asked(request)
        find: dict[str, Callable[[], bytes]] = {
            "model": lambda: self.shelf.packed(key, which).model,
            "edges": lambda: self.shelf.packed(key, which).edges,
            "footing": lambda: self.shelf.footing(key, which),
        }
        if kind not in find:
            raise HTTPException(404)
        return self._answer(lambda: Response(find[kind](), media_type="application/octet-stream", headers=_LASTING))

    def _thumb(self, request: Request) -> Response:
        from starlette.responses import Response

        key = request.path_params["key"]
        return self._answer(lambda: Response(self.shelf.thumb(key), media_type="image/png", headers=_LASTING))

    def _answer(self, make: Callable[[], Response]) -> Response:
        """What was asked for, or in words why it is not to be had."""
        from starlette.responses import PlainTextResponse

        try:
            return make()
        except ZestyOtterError as error:
            return PlainTextResponse(str(error), 422, headers=_FRESH)
        except Exception as error:  # a fault of ours does not end the page
            return PlainTextResponse(str(InternalError.of(error)), 422, headers=_FRESH)

    async def _events(self, request: Request) -> Response:
        from starlette.responses import StreamingResponse

        return StreamingResponse(self._stream(), media_type="text/event-stream", headers=_FRESH)

    async def _stream(self) -> AsyncIterator[str]:
        queue: asyncio.Queue[Change | None] = asyncio.Queue()
        self._clients.add(queue)
        try:
            yield ": hello\n\n"
            while not self.stop.is_set():
                try:
                    change = await asyncio.wait_for(queue.get(), _ALIVE_EVERY)
                except TimeoutError:
                    yield ": still here\n\n"
                    continue
                if change is None:
                    return
                yield f"data: {json.dumps(asdict(change))}\n\n"
        finally:
            self._clients.discard(queue)


class _Guard:
    """Lets in only those who know the address and mean this machine by its own name; says what a page may do."""

    def __init__(self, app: Any, server: PageServer) -> None:
        self.app, self.server = app, server

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        from starlette.datastructures import Headers
        from starlette.responses import PlainTextResponse

        host = Headers(scope=scope).get("host", "").rpartition(":")[0]
        token = scope["path"].split("/")[1] if "/" in scope["path"] else ""
        # A page elsewhere can make a browser ask this machine under another name.
        if host not in (HOST, "localhost") or not hmac.compare_digest(token.encode(), self.server.token.encode()):
            refused = PlainTextResponse("This address is not complete: copy all of it.", 403, headers=_HEADERS)
            await refused(scope, receive, send)
            return

        async def with_headers(message: Any) -> None:
            if message["type"] == "http.response.start":
                own = [(key.encode(), value.encode()) for key, value in _HEADERS.items()]
                message = {**message, "headers": [*message["headers"], *own]}
            await send(message)

        await self.app(scope, receive, with_headers)


def _asked(request: Request) -> tuple[str, Which]:
    which = request.query_params.get("which", "after")
    return request.path_params["key"], "before" if which == "before" else "after"


def _listening(port: int) -> socket.socket:
    """A socket of this machine only."""
    made = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        made.bind((HOST, port))
        made.listen()  # whoever comes before anything answers waits
    except (OSError, OverflowError) as error:
        made.close()
        why = "is taken by another program" if port else "cannot be opened"
        text = f"port {port} {why}: {getattr(error, 'strerror', None) or error}."
        raise UsageError(text, remedy="Leave --port out: a free one is taken.") from None
    return made
