"""Response headers that keep the pages to their own code."""

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


class ContentSecurityMiddleware:
    """Adds the content-security policy to every response."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response
