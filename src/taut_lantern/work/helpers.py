"""Workers beside the server: started with it, started again when one ends, stopped with it."""

from __future__ import annotations

import logging
import signal
import subprocess
import threading
import time
from types import TracebackType

log = logging.getLogger("taut_lantern.work")
LONGEST = 30.0  # seconds between two starts of a worker that ends again and again


class Helpers:
    """Keeps ``count`` processes of a command alive, from entering to leaving."""

    def __init__(self, command: list[str], count: int) -> None:
        self.command, self.count = command, count
        self.stopping = threading.Event()
        self.thread = threading.Thread(target=self._keep, name="helpers")
        self.running: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> Helpers:
        self.thread.start()
        return self

    def _keep(self) -> None:
        """The only thread that starts them: they are told when it ends."""
        pause = [1.0] * self.count
        self.running = [subprocess.Popen(self.command) for _ in range(self.count)]
        begun = [time.monotonic()] * self.count
        while not self.stopping.wait(0.5):
            for k, process in enumerate(self.running):
                if process.poll() is None:
                    continue
                lived = time.monotonic() - begun[k]
                pause[k] = 1.0 if lived > 60 else min(LONGEST, 2 * pause[k])
                if lived > pause[k]:
                    log.warning("a worker ended (%s); another one is started", process.returncode)
                    self.running[k] = subprocess.Popen(self.command)
                    begun[k] = time.monotonic()
        for process in self.running:
            process.send_signal(signal.SIGTERM)
        for process in self.running:
            try:
                process.wait(6)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.stopping.set()
        self.thread.join()
