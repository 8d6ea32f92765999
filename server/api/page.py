"""The single-page application's one page, with a fresh nonce in it."""

from functools import cache

from django.conf import settings
from django.http import HttpRequest, HttpResponse

MISSING = "<!doctype html><title>Lucid Relic</title><p>The front end is not built yet: run <code>make build</code>.</p>"
PLACEHOLDER = "NONCE_PLACEHOLDER"


@cache
def _template() -> str:
    path = settings.WEB_DIST / "index.html"
    return path.read_text() if path.exists() else MISSING


def page(request: HttpRequest) -> HttpResponse:
    """index.html with the nonce of this request."""
    html = _template().replace(PLACEHOLDER, str(request.csp_nonce))
    return HttpResponse(html, headers={"Cache-Control": "no-store"})
