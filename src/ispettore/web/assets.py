"""The built page: its parts have names that change with what they hold, so a browser keeps them for good."""

from mimetypes import guess_type
from pathlib import Path

from starlette.datastructures import Headers
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

FOR_GOOD = "public, max-age=31536000, immutable"
"""A year, and no question meanwhile whether it is still the same (RFC 9111, RFC 8246)."""
ASK_FIRST = "no-cache"
"""Kept, but never shown without asking whether it is still the same."""
PACKED = ".br"


class Assets(StaticFiles):
    """Files whose names hold a hash of their content, each sent as the build packed it (brotli, RFC 7932) where that is taken."""

    def __init__(self, folder: Path) -> None:
        super().__init__(directory=folder)
        self._packed = {path.name.removesuffix(PACKED) for path in folder.glob(f"*{PACKED}")}

    async def get_response(self, path: str, scope: Scope) -> Response:
        packed = path in self._packed and takes(Headers(scope=scope).get("accept-encoding", ""), "br")
        answer = await super().get_response(f"{path}{PACKED}" if packed else path, scope)
        if answer.status_code == 200:
            answer.headers["cache-control"] = FOR_GOOD
        if path in self._packed:
            answer.headers["vary"] = "accept-encoding"
        if packed:
            answer.headers["content-encoding"] = "br"
            answer.headers["content-type"] = guess_type(path)[0] or "application/octet-stream"
        return answer


def takes(accepted: str, coding: str) -> bool:
    """Whether a browser takes a coding (RFC 9110, 12.5.3).

    Example:
        >>> [takes("gzip, br;q=1.0, zstd; q=0", coding) for coding in ("br", "gzip", "zstd", "deflate")]
        [True, True, False, False]
    """
    for offer in accepted.lower().split(","):
        name, _, weight = offer.partition(";")
        if name.strip() == coding:
            return weight.replace(" ", "").rstrip("0.") != "q="
    return False
