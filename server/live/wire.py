"""Messages between web and live service: a JSON head and a body of bytes, each with its length before it."""

import asyncio
import json
import struct
from typing import Any

LENGTHS = struct.Struct("<II")
MAX_HEAD = 4 * 2**20  # marks of 50,000 corners are about 1.5 MB
MAX_BODY = 256 * 2**20


async def read_message(reader: asyncio.StreamReader) -> tuple[dict[str, Any], bytes]:
    """The next message; raises `ConnectionError` when the other side is gone or talks nonsense."""
    try:
        head_size, body_size = LENGTHS.unpack(await reader.readexactly(LENGTHS.size))
        if head_size > MAX_HEAD or body_size > MAX_BODY:
            raise ConnectionError("a message larger than any")
        head = json.loads(await reader.readexactly(head_size))
        return head, await reader.readexactly(body_size)
    except (asyncio.IncompleteReadError, ValueError) as gone:
        raise ConnectionError("the other side is gone") from gone


async def write_message(writer: asyncio.StreamWriter, head: dict[str, Any], body: bytes = b"") -> None:
    """Send a message; raises `ConnectionError` when the other side is gone."""
    text = json.dumps(head).encode()
    writer.write(LENGTHS.pack(len(text), len(body)) + text + body)
    await writer.drain()
