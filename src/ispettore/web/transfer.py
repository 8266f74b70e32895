"""What routes share that send or take whole files."""

import re
from collections.abc import Callable, Iterator
from itertools import chain
from typing import Any
from urllib.parse import quote

from fastapi import Request, Response
from fastapi.responses import StreamingResponse

RAW_BODY: dict[str, Any] = {
    "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}
}
"""The description of a route whose body is a file as it is."""


def named(name: str) -> dict[str, str]:
    """The header that has a browser keep an answer under this name (RFC 6266, RFC 8187)."""
    return {"content-disposition": f"attachment; filename*=UTF-8''{quote(name)}"}


ENOUGH_BYTES = 64 * 1024
"""So much is read before anything is sent: more than the head of any file."""


def ranged(
    request: Request, read: Callable[[int, int], Iterator[bytes]], *, size: int, tag: str, kind: str, headers: dict[str, str]
) -> Response:
    """All of something, or the one part of it that is asked for (RFC 9110, 14): a download that broke off goes on as long as the
    thing is still the same. What can't be read is said before anything is sent."""
    told = {**headers, "etag": f'"{tag}"', "accept-ranges": "bytes"}
    start, end, status = 0, size, 200
    asked = request.headers.get("range")
    if asked is not None and request.headers.get("if-range", told["etag"]) == told["etag"]:
        part = _part(asked, size)
        if part is None:
            return Response(status_code=416, headers={**told, "content-range": f"bytes */{size}"})
        start, end = part
        status, told["content-range"] = 206, f"bytes {start}-{end - 1}/{size}"
    pieces = read(start, end)
    first = b""
    while len(first) < ENOUGH_BYTES and (piece := next(pieces, b"")):
        first += piece
    told["content-length"] = str(end - start)
    return StreamingResponse(chain([first], pieces), status_code=status, media_type=kind, headers=told)


def _part(asked: str, size: int) -> tuple[int, int] | None:
    """The first byte and that after the last of a range; None for one that can't be given.

    >>> _part("bytes=5-", 10), _part("bytes=2-3", 10), _part("bytes=-4", 10), _part("bytes=10-", 10), _part("bytes=0-1,3-4", 10)
    ((5, 10), (2, 4), (6, 10), None, None)
    """
    found = re.fullmatch(r"bytes=(\d*)-(\d*)", asked.replace(" ", ""))
    if found is None or found.group(1) == found.group(2) == "":
        return None
    first, last = found.groups()
    start, end = (int(first), int(last) + 1 if last else size) if first else (max(size - int(last), 0), size)
    return (start, min(end, size)) if start < min(end, size) else None


async def read_within(request: Request, largest_bytes: int) -> bytes:
    """A request's body, or a little more of it than may be: whoever reads it says so."""
    text = bytearray()
    async for chunk in request.stream():
        text += chunk
        if len(text) > largest_bytes:
            break
    return bytes(text)
