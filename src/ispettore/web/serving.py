"""The web process."""

import signal
import sys
from threading import Thread

import uvicorn

from ispettore.core.errors import IspettoreError
from ispettore.studio import logs
from ispettore.studio.access import binding
from ispettore.studio.jobs import attempts, decoding
from ispettore.studio.settings import keep_to_oneself, settings
from ispettore.web.app import build
from ispettore.web.patience import PatientProtocol

MOST_CONNECTIONS = 1_000
LARGEST_MESSAGE = 2 * 1024**2
"""Over a socket: a second of two channels at the highest rate, and some."""


def main() -> None:
    """Serve until told to stop. Open event streams are cut off rather than waited for. Ends with the sentence of what
    `binding.check` refuses."""
    logs.configure()
    try:
        binding.check()
    except IspettoreError as error:
        sys.exit(error.sentence)
    found = settings()
    keep_to_oneself()
    # Once it has stopped, uvicorn passes the signal on: then all is left in order, and not cut off.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    attempts.keep_temporary()
    Thread(target=decoding.decoders().warm, daemon=True).start()
    uvicorn.run(
        build(),
        http=PatientProtocol,
        host=found.host,
        port=found.port,
        ssl_certfile=found.tls_certificate,
        ssl_keyfile=found.tls_key,
        log_level="warning",
        ws_max_size=LARGEST_MESSAGE,
        timeout_graceful_shutdown=1,
        server_header=False,
        limit_concurrency=MOST_CONNECTIONS,
        # Nobody is believed who says for whom they ask, but the proxies that are named.
        proxy_headers=bool(found.trusted_proxies),
        forwarded_allow_ips=[name.strip() for name in found.trusted_proxies.split(",") if name.strip()],
    )


if __name__ == "__main__":
    main()
