"""The ASGI entry point: pages, and the WebSockets of the stage."""

import os

from channels.routing import ProtocolTypeRouter, URLRouter
from django.core.asgi import get_asgi_application
from django.urls import path, re_path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.config.settings")
pages = get_asgi_application()

from studio.accounts.sockets import ReadersOnly  # noqa: E402 - the settings must be there first
from studio.config.security import OwnPagesOnly, no_such_socket  # noqa: E402
from studio.poke.consumers import PokeConsumer  # noqa: E402
from studio.takes.consumers import CharacterStream  # noqa: E402

sockets = URLRouter(
    [
        path("characters/<int:pk>/events", ReadersOnly(CharacterStream.as_asgi())),
        path("characters/<int:pk>/poke", ReadersOnly(PokeConsumer.as_asgi())),
        re_path("", no_such_socket),
    ]
)
application = ProtocolTypeRouter({"http": pages, "websocket": OwnPagesOnly(sockets)})
