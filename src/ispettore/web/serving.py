"""The web process."""

import uvicorn

from ispettore.studio import logs
from ispettore.studio.settings import settings
from ispettore.web.app import build


def main() -> None:
    """Serve until told to stop. Open event streams are cut off rather than waited for."""
    logs.configure()
    uvicorn.run(
        build(),
        host=settings().host,
        port=settings().port,
        log_level="warning",
        timeout_graceful_shutdown=1,
        server_header=False,
        proxy_headers=False,  # nobody is believed who says for whom he speaks
    )


if __name__ == "__main__":
    main()
