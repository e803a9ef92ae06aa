"""Who may ask, and what the pages may load."""

import ipaddress
from urllib.parse import urlsplit

from django.conf import settings
from django.http import HttpResponse
from django.http.request import split_domain_port, validate_host

POLICY = "; ".join(
    [
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "font-src 'self'",
        # Textures of a character are unpacked in the browser into blobs.
        "img-src 'self' blob: data:",
        "connect-src 'self' blob: data:",
        "form-action 'self'",
        "base-uri 'none'",
        "frame-ancestors 'none'",
    ]
)
REFUSED = (
    "Keen Quiver was started without accounts, so it answers this machine alone. "
    "Open it on the machine where it runs, or start it for others: ./keen serve --listen ADDRESS."
)


def is_loopback(address):
    """Whether an address (a text) is this machine's own."""
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return False


class LoopbackMiddleware:
    """Without accounts refuses every request from another machine, whatever it says of itself."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        if not settings.ACCOUNTS and not is_loopback(request.META.get("REMOTE_ADDR", "")):
            return HttpResponse(REFUSED, status=403, content_type="text/plain")
        return self.get_response(request)


class ContentSecurityMiddleware:
    """Adds the content-security policy to every response."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response


class OwnPagesOnly:
    """Lets sockets through that a page of this very server opens, and without accounts from this machine: its origin is the host and
    port that it asks.
    """

    def __init__(self, application):
        self.application = application

    async def __call__(self, scope, receive, send):
        headers = {name: value.decode("latin-1") for name, value in scope.get("headers", [])}
        origin, host = urlsplit(headers.get(b"origin", "")), headers.get(b"host", "")
        is_served = validate_host(split_domain_port(origin.netloc)[0], settings.ALLOWED_HOSTS)
        peer = (scope.get("client") or ("",))[0]
        is_own = origin.scheme in ("http", "https") and origin.netloc == host and is_served
        if is_own and (settings.ACCOUNTS or is_loopback(peer)):
            await self.application(scope, receive, send)
        else:
            await send({"type": "websocket.close", "code": 4403})


async def no_such_socket(scope, receive, send):
    """Closes a socket of an unknown address."""
    await send({"type": "websocket.close", "code": 4404})
