"""ASGI entry."""

import os
import warnings

from django.core.asgi import get_asgi_application

# WhiteNoise answers with sync iterators; the built front end is small, so the hint is of no use here.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
application = get_asgi_application()
