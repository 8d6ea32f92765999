"""Reading the bodies of requests: JSON within bounds, and an upload as it comes."""

from typing import Any, BinaryIO

from rest_framework.parsers import BaseParser

from objects import core_door

MAX_BYTES = 2 * 2**20  # marks of 50,000 corners are about 1.5 MB


class BoundedJSON(BaseParser):
    """JSON of a bounded size and depth, all numbers finite, all text writable."""

    media_type = "application/json"

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        """The value; raises `InputError` with a sentence."""
        return core_door.parse_json(stream.read(MAX_BYTES + 1), "This request", MAX_BYTES)


class RawPiece(BaseParser):
    """A piece of a file as a stream, read by the view."""

    media_type = "application/octet-stream"

    def parse(self, stream: BinaryIO, media_type: str | None = None, parser_context: Any = None) -> Any:
        """The stream itself."""
        return {"stream": stream}


class RawUpload(BaseParser):
    """The body as a stream, read by the view; nothing is held in memory."""

    media_type = "application/zip"

    def parse(self, stream: BinaryIO, media_type: str | None = None, parser_context: Any = None) -> Any:
        """The stream itself."""
        return {"stream": stream}
