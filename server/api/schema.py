"""The schema made whole: addresses outside of REST framework, and every answer that may say no."""

from typing import Any

from django.conf import settings
from drf_spectacular.extensions import OpenApiAuthenticationExtension

PROBLEM = {
    "type": "object",
    "properties": {"error": {"type": "string", "description": "What is wrong and what to do."}},
    "required": ["error"],
}
WORDS = {
    "400": "What was sent cannot be used; the sentence says why.",
    "403": "Nobody is signed in, they may not do this, or the page’s token is missing.",
    "404": "There is no such thing, or it is not theirs to see.",
    "405": "This method is not answered here.",
    "406": "Only JSON is given here.",
    "409": "Not now: something is under way, or there is nothing to do it to.",
    "413": "The request is too large.",
    "415": "This kind of content is not read here.",
    "416": "The range lies outside of the file.",
    "429": "Too many at once; wait a little.",
    "503": "A part of the server is starting again; try once more.",
    "507": "The disk or the person’s allowance has no room for it.",
}
READS, CHANGES = (
    ("400", "403", "404", "405", "406", "503"),
    ("400", "403", "404", "405", "406", "409", "413", "415", "429", "503", "507"),
)
FILES = {
    "/api/objects/{object_id}/picture": ("picture", "The shelf picture of an object.", "image/png"),
    "/api/objects/{object_id}/download/{kind}": ("download", "The mesh in an open format, or the points.", ""),
    "/api/objects/{object_id}/passes/{number}/download/{kind}": ("pass_download", "One pass as points or capture.", ""),
    "/api/snapshots/{snapshot_id}/mesh": ("mesh", "A snapshot’s mesh as compressed GLB.", "model/gltf-binary"),
    "/api/snapshots/{snapshot_id}/passes/{number}": ("pass_points", "The points of one pass.", ""),
    "/api/snapshots/{snapshot_id}/passes/{number}/shift": (
        "pass_shift",
        "How far its points lie off the other passes.",
        "",
    ),
    "/api/snapshots/{snapshot_id}/takes/{number}": ("take", "A take as compressed GLB.", "model/gltf-binary"),
    "/api/snapshots/{snapshot_id}/takes/{number}/off/{other}": ("take_off", "How far it lies off another take.", ""),
    "/api/snapshots/{snapshot_id}/{what}": ("measure", "The holes of its mesh (rims), or its walls.", ""),
    "/api/captures/{capture_id}/frames/{index}/points": ("frame_points", "The points of one frame.", ""),
    "/api/captures/{capture_id}/frames/{index}/colour": ("frame_colour", "The photograph of one frame.", "image/*"),
}
NUMBERS = ("number", "index", "other")


class SessionCookie(OpenApiAuthenticationExtension):
    """How one is signed in."""

    target_class = "api.people.Sessions"
    name = "session"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        """The cookie of the session."""
        return {"type": "apiKey", "in": "cookie", "name": settings.SESSION_COOKIE_NAME}


def complete(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """A postprocessing hook of drf-spectacular."""
    schemas = result["components"]["schemas"]
    schemas["Problem"] = PROBLEM
    for address, (name, words, kind) in FILES.items():
        result["paths"][address] = {"get": _file(address, name, words, kind or "application/octet-stream")}
    stream = {"200": {"description": "A stream of events.", "content": {"text/event-stream": {}}}}
    result["paths"]["/api/events"] = {
        "get": {"operationId": "events", "description": "What changed, as it happens.", "tags": ["events"],
                "responses": stream}
    }  # fmt: skip
    for methods in result["paths"].values():
        for method, operation in methods.items():
            for status in READS if method == "get" else CHANGES:
                operation["responses"].setdefault(status, _problem(status))
    result["paths"] = dict(sorted(result["paths"].items()))
    return result


def _problem(status: str) -> dict[str, Any]:
    content = {"application/json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    return {"description": WORDS[status], "content": content}


def _file(address: str, name: str, words: str, kind: str) -> dict[str, Any]:
    inside = [part[1:-1] for part in address.split("/") if part.startswith("{")]
    parameters: list[dict[str, Any]] = [
        {"in": "path", "name": p, "required": True, "schema": _shape(p)} for p in inside
    ]
    parameters.append({"in": "header", "name": "Range", "required": False, "schema": {"type": "string"}})
    content = {kind: {"schema": {"type": "string", "format": "binary"}}}
    whole = {"description": "The whole file.", "content": content}
    part = {"description": "The part of the file that was asked for.", "content": content}
    beyond = {"description": WORDS["416"]}
    return {"operationId": name, "description": words, "tags": ["files"], "parameters": parameters,
            "responses": {"200": whole, "206": part, "416": beyond}}  # fmt: skip


def _shape(parameter: str) -> dict[str, Any]:
    if parameter in NUMBERS:
        return {"type": "integer", "minimum": 0, "maximum": 999_999_999}
    return {"type": "string"} if parameter == "kind" else {"type": "string", "format": "uuid"}
