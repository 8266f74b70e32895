"""The answer to an act says what that act changed.

A page that asked for something is told twice of what changed: by the answer, and by the stream that all pages listen to. It gives
what it asks for a name, takes the changes from the answer, and leaves out what the stream says of that name: each is read once.
"""

import re

from pydantic import TypeAdapter
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ispettore.studio.events import ACT, Act, Notice

ASKED = "ispettore-act"
"""The header by which a page names what it asks for."""
CHANGED = "ispettore-changed"
"""The header of the answer: the notices that were told for it, as a JSON list."""
NAME = re.compile(r"[A-Za-z0-9-]{1,64}")
MOST_BYTES = 6_000
"""Servers and proxies bound the headers of an answer; what does not fit asks the page to read everything anew."""
_NOTICES = TypeAdapter(list[Notice])
_EVERYTHING = [Notice(about="everything")]


class Telling:
    """Collects what a named request announces, and says it in the answer."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        name = Headers(scope=scope).get(ASKED, "") if scope["type"] == "http" else ""
        if not NAME.fullmatch(name):
            await self._app(scope, receive, send)
            return
        act = Act(name)

        async def with_changes(message: Message) -> None:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message)[CHANGED] = written(act.told)
            await send(message)

        before = ACT.set(act)
        try:
            await self._app(scope, receive, with_changes)
        finally:
            ACT.reset(before)


def written(told: list[Notice]) -> str:
    """Notices as they stand in a header, each of them once.

    Example:
        >>> written([Notice(about="keys", act="a"), Notice(about="keys", act="a")])
        '[{"about":"keys"}]'
    """
    once = list(dict.fromkeys(notice.model_copy(update={"act": ""}) for notice in told))
    text = _of(once)
    return text if len(text) <= MOST_BYTES else _of(_EVERYTHING)


def _of(notices: list[Notice]) -> str:
    left_out = {"__all__": {"fraction", "stage"}}
    return _NOTICES.dump_json(notices, exclude_defaults=True, exclude=left_out, ensure_ascii=True).decode()
