"""A stand-in for a network between two programs, which can half close a connection."""

import contextlib
import socket
import threading


class Relay:
    """Passes on what comes to `port`; one thread for each direction of each connection."""

    def __init__(self, target: int) -> None:
        self._target, self._links = target, list[tuple[socket.socket, socket.socket]]()
        self._door = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._door.getsockname()[1])
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._door.accept()
                far = socket.create_connection(("127.0.0.1", self._target))
                self._links.append((near, far))
                for source, sink in ((near, far), (far, near)):
                    threading.Thread(target=self._pass, args=(source, sink), daemon=True).start()

    def _pass(self, source: socket.socket, sink: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while piece := source.recv(65_536):
                sink.sendall(piece)
            sink.shutdown(socket.SHUT_WR)

    def half_close(self, *, towards_server: bool) -> None:
        """Say on every connection that nothing more comes from one side."""
        for near, far in self._links:
            with contextlib.suppress(OSError):
                (far if towards_server else near).shutdown(socket.SHUT_WR)

    def reset(self) -> None:
        """Break every connection off."""
        for pair in self._links:
            for one in pair:
                with contextlib.suppress(OSError):
                    one.shutdown(socket.SHUT_RDWR)
        self._links.clear()

    def close(self) -> None:
        self.reset()
        self._door.close()
