"""Who may ask, what a request may hold, and what browsers are told: one layer round the whole application."""

from __future__ import annotations

import ipaddress
import secrets
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any
from urllib.parse import parse_qsl, urlencode

from itsdangerous import BadSignature, TimestampSigner
from starlette.datastructures import Headers, MutableHeaders
from starlette.exceptions import HTTPException
from starlette.responses import RedirectResponse, Response

from ..settings import settings
from .errors import problem

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

BODY = 8 << 20  # bytes of a request, but for pieces of files
PIECE = 64 << 20
MODEL = 128 << 20  # bytes of a design model
SESSION = 30 * 86400  # seconds a browser stays signed in
COOKIE = "lantern_session"
CHANGES = ("POST", "PUT", "PATCH", "DELETE")
HEADERS = {
    "Content-Security-Policy": (
        "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; connect-src 'self'; "
        "font-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Permissions-Policy": "accelerometer=(), camera=(), geolocation=(), gyroscope=(), microphone=(), payment=(), usb=()",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}


def _most(method: str, path: str) -> int:
    """Bytes that a request may hold."""
    if method == "PUT" and "/uploads/" in path:
        return PIECE + 4096
    return MODEL if method == "POST" and path.endswith("/models") else BODY


class Guard:
    """The layer itself. Away from loopback every request needs the token, or the session it was exchanged for."""

    def __init__(self, app: App) -> None:
        self.app, self.token = app, settings().token
        self.signer = TimestampSigner(self.token, salt="lantern session") if self.token else None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)

        async def told(message: MutableMapping[str, Any]) -> None:
            if message["type"] == "http.response.start":
                out = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    out.setdefault(name, value)
                if scope["path"].startswith("/api/"):
                    out.setdefault("Cache-Control", "no-store")
            await send(message)

        refusal = self._refusal(scope, headers)
        if refusal is not None:
            await refusal(scope, receive, told)
            return
        limit = _most(scope["method"], scope["path"])
        seen, most = 0, f"a request may hold at most {limit >> 20} MiB"

        async def limited() -> MutableMapping[str, Any]:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > limit:
                raise HTTPException(413, most)
            return message

        length = headers.get("content-length", "")
        if length.isdigit() and int(length) > limit:
            await problem(413, "too_large", most, remedy="send less at once")(scope, receive, told)
            return
        await self.app(scope, limited, told)

    def _refusal(self, scope: Scope, headers: Headers) -> Response | None:
        """Why this request is not let in, as an answer; None when it is."""
        host = headers.get("host", "")
        if not self.token and not _loopback(host):
            return problem(400, "foreign_host", "this server answers on this machine only", remedy="open the address that it printed")
        if scope["method"] in CHANGES:
            origin, site = headers.get("origin"), headers.get("sec-fetch-site", "same-origin")
            own = {f"{scheme}://{host}" for scheme in ("http", "https")}
            if (origin is not None and origin not in own) or site not in ("same-origin", "none"):
                return problem(
                    403, "foreign_origin", "a page of another address may not change anything here", remedy="use the page itself"
                )
        return self._signed_in(scope, headers) if self.signer is not None else None

    def _signed_in(self, scope: Scope, headers: Headers) -> Response | None:
        assert self.signer is not None
        query = parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True)
        given = dict(query).get("token") or headers.get("authorization", "").removeprefix("Bearer ")
        if given and secrets.compare_digest(given.encode(), self.token.encode()):
            if "token" not in dict(query) or scope["method"] != "GET":
                return None
            rest = urlencode([(k, v) for k, v in query if k != "token"])
            here = "/" + scope["path"].lstrip("/\\")  # never an address elsewhere
            answer = RedirectResponse(here + (f"?{rest}" if rest else ""), 303)
            session = self.signer.sign(secrets.token_urlsafe(16)).decode()
            answer.set_cookie(COOKIE, session, max_age=SESSION, httponly=True, samesite="strict", secure=scope.get("scheme") == "https")
            return answer
        for part in headers.get("cookie", "").split(";"):
            name, _, value = part.strip().partition("=")
            if name == COOKIE:
                try:
                    self.signer.unsign(value, max_age=SESSION)
                    return None
                except BadSignature:
                    break
        return problem(401, "sign_in", "this server asks for its token", remedy="open the address that the server printed at its start")


def _loopback(host: str) -> bool:
    """Whether a Host header names this machine as it is reached from itself."""
    name = host[1 : host.find("]")] if host.startswith("[") else host.rpartition(":")[0] or host
    if name == "localhost":
        return True
    try:
        return ipaddress.ip_address(name).is_loopback
    except ValueError:
        return False
