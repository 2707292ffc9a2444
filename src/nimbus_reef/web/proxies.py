"""What proxies in front say of a request: believed of those that the settings name, and of nobody else."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import TYPE_CHECKING, Final

from werkzeug.middleware.proxy_fix import ProxyFix

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

_SAID: Final = (
    "HTTP_X_FORWARDED_FOR",
    "HTTP_X_FORWARDED_PROTO",
    "HTTP_X_FORWARDED_HOST",
    "HTTP_X_FORWARDED_PORT",
    "HTTP_X_FORWARDED_PREFIX",
    "HTTP_FORWARDED",
)


class NamedProxies:
    """
    Passes a request on as the proxy in front received it: address of who asks, scheme, host, path prefix.

    known: addresses of the proxies. What anybody else says of such things is taken out of the request.
    """

    def __init__(self, app: WSGIApplication, known: Collection[str]) -> None:
        self._app = app
        self._believing = ProxyFix(app, x_for=1, x_proto=1, x_host=1, x_prefix=1)
        self._known = frozenset(known)

    def __call__(self, environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        """One request."""
        if environ.get("REMOTE_ADDR") in self._known:
            return self._believing(environ, start_response)
        for name in _SAID:
            environ.pop(name, None)
        return self._app(environ, start_response)
