"""A thread's event loop without Qt: what is posted is run when a test waits."""

import queue
import time


class Owner:
    """Posted calls, run by whoever waits."""

    def __init__(self):
        self._calls = queue.SimpleQueue()

    def post(self, call):
        self._calls.put(call)

    def turn(self):
        """Run what is there."""
        while not self._calls.empty():
            self._calls.get()()

    def until(self, condition, seconds=30):
        """Run what comes until something is so."""
        end = time.monotonic() + seconds
        while True:
            self.turn()
            if condition():
                return
            assert time.monotonic() < end, "it did not come about in time"
            time.sleep(0.002)
