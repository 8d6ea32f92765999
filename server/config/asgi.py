"""ASGI entry: HTTP by Django, one WebSocket for each bench by Channels."""

import os
import warnings

from django.core.asgi import get_asgi_application

# WhiteNoise answers with sync iterators; the built front end is small, so the hint is of no use here.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
http = get_asgi_application()

from channels.routing import ProtocolTypeRouter, URLRouter  # noqa: E402
from channels.security.websocket import AllowedHostsOriginValidator  # noqa: E402

from config.bodies import BoundedBodies  # noqa: E402
from live.routing import websockets  # noqa: E402

application = ProtocolTypeRouter(
    {"http": BoundedBodies(http), "websocket": AllowedHostsOriginValidator(URLRouter(websockets))}
)
