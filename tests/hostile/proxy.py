"""A line on loopback that stands before a server: what goes through it is in the hands of whoever derives from it."""

import socket
import threading
from contextlib import suppress


class Proxy:
    """Takes every connection on a port of its own and has `carry` bring what is said from one side to the other."""

    def __init__(self, port: int):
        self.to, self.going = port, True
        self.server = socket.create_server(("127.0.0.1", 0))
        self.port = self.server.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def carry(self, here: socket.socket, there: socket.socket) -> None:
        """Bring what is said to the other side until `going` is over; in a thread of its own."""
        raise NotImplementedError

    def _accept(self) -> None:
        while self.going:
            with suppress(OSError):
                here, _ = self.server.accept()
                try:
                    there = socket.create_connection(("127.0.0.1", self.to))
                except OSError:
                    here.close()
                    continue
                threading.Thread(target=self.carry, args=(here, there), daemon=True).start()

    def close(self) -> None:
        self.going = False
        with suppress(OSError):
            self.server.shutdown(
                socket.SHUT_RDWR
            )  # who waits for a call is woken: a number that is used again is another's
        self.server.close()
