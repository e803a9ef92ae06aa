"""The ASGI entry point: pages, and the WebSocket of the stage."""

import os

from channels.routing import ProtocolTypeRouter, URLRouter
from channels.security.websocket import AllowedHostsOriginValidator
from django.core.asgi import get_asgi_application
from django.urls import path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.config.settings")
pages = get_asgi_application()

from studio.poke.consumers import PokeConsumer  # noqa: E402 - the settings must be there first

sockets = URLRouter([path("characters/<int:pk>/poke", PokeConsumer.as_asgi())])
application = ProtocolTypeRouter({"http": pages, "websocket": AllowedHostsOriginValidator(sockets)})
