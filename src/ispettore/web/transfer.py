"""What routes share that send or take whole files."""

from typing import Any
from urllib.parse import quote

from fastapi import Request

RAW_BODY: dict[str, Any] = {
    "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}
}
"""The description of a route whose body is a file as it is."""


def named(name: str) -> dict[str, str]:
    """The header that has a browser keep an answer under this name (RFC 6266, RFC 8187)."""
    return {"content-disposition": f"attachment; filename*=UTF-8''{quote(name)}"}


async def read_within(request: Request, largest_bytes: int) -> bytes:
    """A request's body, or a little more of it than may be: whoever reads it says so."""
    text = bytearray()
    async for chunk in request.stream():
        text += chunk
        if len(text) > largest_bytes:
            break
    return bytes(text)
